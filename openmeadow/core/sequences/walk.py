"""A walk through a sequence without sending: what somebody would get, and when."""

from __future__ import annotations

from dataclasses import dataclass

from openmeadow.core.sequences import machine
from openmeadow.core.sequences.ladder import Ladder, Step


@dataclass(frozen=True)
class Seen:
    """One thing on the way, at a moment: ``what`` is mail, asked (``said`` is the answer), done, waits or ends."""

    at: int
    step: int
    what: str
    said: str = ""


def walk(ladder: Ladder, now: int, ask: machine.Ask, zone: machine.Zone) -> list[Seen]:
    """Everything from entering to the end, every mail going out the moment it is due."""
    out: list[Seen] = []

    def asked(step: Step) -> bool:
        said = ask(step)
        if step.kind == "question":
            out.append(Seen(at, step.key, "asked", "yes" if said else "no"))
        return said

    at, passed = now, list[int]()
    m = machine.enter(ladder, at, asked, zone)
    while True:
        passed += m.passed
        out += [Seen(at, a.key, "done") for a in m.acts]
        if m.state == machine.FINISHED:
            return [*out, Seen(at, 0, "ends")]
        if m.state == machine.WAITS:
            step = ladder.step(m.step)
            if step is not None and step.kind == "wait":
                out.append(Seen(at, m.step, "waits"))
            at = max(at, m.due_at)
            m = machine.due(ladder, m.step, m.lane, at, asked, zone, passed)
        else:
            out.append(Seen(at, m.step, "mail"))
            m = machine.mailed(ladder, m.step, m.lane, at, asked, zone, passed)
