"""A walk through a sequence without sending: what somebody would get, and when."""

from __future__ import annotations

from dataclasses import dataclass

from openmeadow.core.sequences import state_machine
from openmeadow.core.sequences.definition import Definition, Step


@dataclass(frozen=True)
class Seen:
    """One thing on the way, at a moment: ``what`` is mail, asked (``said`` is the answer), done, waits or ends."""

    at: int
    step: int
    what: str
    said: str = ""


def walk(definition: Definition, now: int, ask: state_machine.Ask, zone: state_machine.Zone) -> list[Seen]:
    """Everything from entering to the end, every mail going out the moment it is due."""
    out: list[Seen] = []

    def asked(step: Step) -> bool:
        said = ask(step)
        if step.kind == "condition":
            out.append(Seen(at, step.key, "asked", "yes" if said else "no"))
        return said

    at, passed = now, list[int]()
    m = state_machine.enter(definition, at, asked, zone)
    while True:
        passed += m.passed
        out += [Seen(at, a.key, "done") for a in m.acts]
        if m.state == state_machine.FINISHED:
            return [*out, Seen(at, 0, "ends")]
        if m.state == state_machine.WAITS:
            step = definition.step(m.step)
            if step is not None and step.kind == "wait":
                out.append(Seen(at, m.step, "waits"))
            at = max(at, m.due_at)
            m = state_machine.due(definition, m.step, m.path, at, asked, zone, passed)
        else:
            out.append(Seen(at, m.step, "mail"))
            m = state_machine.mailed(definition, m.step, m.path, at, asked, zone, passed)
