"""The step machine: where somebody goes next, what is done on the way, and when they are due (5-computation: sequences).

It holds no state of its own. A person stands at one step and has passed others; the machine says what follows when they
enter, when their due moment comes, or when their message was handed over. A step that was passed is never reached again.
"""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

from openmeadow.core.planning.slots import real
from openmeadow.core.sequences.ladder import DAY, END, EVERYONE, MAILS, ON, SECOND, SECOND_LANE, Ladder, Step

Ask = Callable[[Step], bool]  # the answer to a question, asked at the moment it is reached
Zone = Callable[[Step], ZoneInfo]  # by whose clock a step waits: the workspace's, or the person's own
WAITING = ("wait", "question", "repeat")  # the kinds before which their wait lies
ACTS = ("label", "list", "field", "let go")
FINISHED, WAITS, MAILED = "finished", "waits", "mailed"


@dataclass(frozen=True)
class Moved:
    """What became of one person. ``state`` is waits (until ``due_at``), mailed (a delivery of ``step`` is due), or
    finished. ``passed`` are the steps left behind, in order; ``acts`` those of them that change something."""

    state: str
    step: int
    lane: int
    due_at: int = 0
    passed: list[int] = field(default_factory=list)
    acts: list[Step] = field(default_factory=list)


def when(step: Step, now: int, zone: ZoneInfo) -> int:
    """The end of a wait that begins now: after its time, and then at its hour on one of its weekdays."""
    at = now + step.wait
    if step.hour is None and not step.weekdays:
        return at
    local = datetime.fromtimestamp(at, UTC).astimezone(zone).replace(tzinfo=None)
    for ahead in range(9):
        day = (local + timedelta(days=ahead)).replace(hour=0, minute=0, second=0, microsecond=0)
        if step.weekdays and day.weekday() not in step.weekdays:
            continue
        if step.hour is None:
            return at if ahead == 0 else max(at, real(day, zone))
        moment = real(day + timedelta(hours=step.hour), zone)
        if moment >= at:
            return moment
    return at


def _next(ladder: Ladder, place: int, lane: int, passed: Collection[int]) -> tuple[int, int] | None:
    """The first step from a place on that somebody in a lane comes to, and the lane they are in then; None: the end."""
    for step in ladder.steps[place:]:
        if step.key in passed or (lane == EVERYONE and step.lane == SECOND):
            continue
        if lane == SECOND and step.lane == EVERYONE:
            if not step.meets:
                continue
            lane = EVERYONE
        return step.key, lane
    return None


def onward(
    ladder: Ladder, key: int | None, lane: int, answer: bool | None, passed: Collection[int] = ()
) -> list[tuple[int, int]]:
    """Where one can come to from a step (None: from outside). With no ``answer`` a question leads both ways."""
    step = ladder.step(key) if key is not None else None
    place = ladder.place(key) + 1 if key is not None else 0
    if step is not None and step.kind == "end" and not step.off:
        return []
    if step is None or step.kind != "question" or step.off:
        found = _next(ladder, place, lane, passed)
        return [found] if found else []
    out = []
    for said in (True, False) if answer is None else (answer,):
        to = step.yes if said else step.no
        if to == END:
            continue
        if to.isdigit() and ladder.place(int(to)) >= place:
            target = ladder.step(int(to))
            assert target is not None
            found = _next(ladder, ladder.place(int(to)), target.lane, passed)
        else:
            found = _next(ladder, place, SECOND if to == SECOND_LANE else lane if to == ON else EVERYONE, passed)
        if found:
            out.append(found)
    return list(dict.fromkeys(out))


def enter(ladder: Ladder, now: int, ask: Ask, zone: Zone) -> Moved:
    """Somebody enters."""
    return _go(ladder, onward(ladder, None, EVERYONE, None), now, ask, zone, set(), Moved(FINISHED, 0, EVERYONE))


def due(ladder: Ladder, key: int, lane: int, now: int, ask: Ask, zone: Zone, passed: Collection[int]) -> Moved:
    """Somebody's due moment at a step has come. A step that is not there any more, or switched off, is passed."""
    step = ladder.step(key)
    out, behind = Moved(FINISHED, 0, lane), set(passed)
    if step is not None and not step.off and step.kind in MAILS and key not in behind:
        return _mail(ladder, step, lane, now, ask, zone, behind, out)
    return _go(ladder, _leave(ladder, step, key, lane, ask, behind, out), now, ask, zone, behind, out)


def mailed(ladder: Ladder, key: int, lane: int, now: int, ask: Ask, zone: Zone, passed: Collection[int]) -> Moved:
    """The message of the step somebody stands at was handed over, or will not be."""
    out, behind = Moved(FINISHED, 0, lane), set(passed)
    return _go(ladder, _leave(ladder, ladder.step(key), key, lane, ask, behind, out), now, ask, zone, behind, out)


def _leave(
    ladder: Ladder, step: Step | None, key: int, lane: int, ask: Ask, behind: set[int], out: Moved
) -> list[tuple[int, int]]:
    """Pass a step: it is noted, and the ways on are given."""
    behind.add(key)
    out.passed.append(key)
    if step is None:  # it was taken away: those who stood there were moved, so this is a stray
        return []
    answer = ask(step) if step.kind == "question" and not step.off else None
    return onward(ladder, key, lane, answer, behind)


def _mail(ladder: Ladder, step: Step, lane: int, now: int, ask: Ask, zone: Zone, behind: set[int], out: Moved) -> Moved:
    if step.kind == "repeat" and ask(step):  # answered: no repeat, and on
        return _go(ladder, _leave(ladder, step, step.key, lane, ask, behind, out), now, ask, zone, behind, out)
    return Moved(MAILED, step.key, lane, 0, out.passed, out.acts)


def _go(
    ladder: Ladder, ways: list[tuple[int, int]], now: int, ask: Ask, zone: Zone, behind: set[int], out: Moved
) -> Moved:
    """On from step to step until somebody waits, is mailed, or has come to the end."""
    while ways:
        key, lane = ways[0]
        step = ladder.step(key)
        assert step is not None
        if step.off:
            ways = _leave(ladder, step, key, lane, ask, behind, out)
        elif step.waits and step.kind in WAITING:
            return Moved(WAITS, key, lane, when(step, now, zone(step)), out.passed, out.acts)
        elif step.kind in MAILS:
            return _mail(ladder, step, lane, now, ask, zone, behind, out)
        else:
            if step.kind in ACTS:
                out.acts.append(step)
            ways = _leave(ladder, step, key, lane, ask, behind, out)
    return Moved(FINISHED, 0, EVERYONE, 0, out.passed, out.acts)


def spread(due_at: list[int], now: int, a_day: int) -> list[int]:
    """New due moments after a pause: who was due meanwhile goes on now, at most so many a day, in the order they were
    due; the others keep theirs."""
    late = sorted((at, i) for i, at in enumerate(due_at) if at <= now)
    out = list(due_at)
    for n, (_, i) in enumerate(late):
        out[i] = now + (n // a_day) * DAY if a_day else now
    return out


def days(ladder: Ladder) -> dict[int, tuple[int, int]]:
    """For each step the earliest and latest seconds after entering at which somebody can reach it; waits until an hour
    or a weekday count as their plain time. Steps nobody can reach are left out."""
    out: dict[int, tuple[int, int]] = {}
    todo = [(s, 0) for s in onward(ladder, None, EVERYONE, None)]
    while todo:
        (key, lane), at = todo.pop()
        step = ladder.step(key)
        if step is None:
            continue
        before = out.get(key)
        after = (min(at, before[0]), max(at, before[1])) if before else (at, at)
        if before == after:
            continue
        out[key] = after
        for to in onward(ladder, key, lane, None):
            todo.append((to, at + (step.wait if step.kind in WAITING and not step.off else 0)))
    return out
