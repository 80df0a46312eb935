"""The step machine: where somebody goes next, what is done on the way, and when they are due.

It holds no state of its own. A person stands at one step and has passed others; the machine says what follows when they
enter, when their due moment comes, or when their message was sent. A step that was passed is never reached again.
"""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

from openmeadow.core.moments import DAY, real
from openmeadow.core.sequences.definition import END, EVERYONE, FOLLOW_UP, FOLLOW_UP_PATH, MAILS, ON, Definition, Step

Ask = Callable[[Step], bool]  # the answer to a question, asked at the moment it is reached
Zone = Callable[[Step], ZoneInfo]  # by whose clock a step waits: the workspace's, or the person's own
WAITING = ("wait", "condition", "resend")  # the kinds before which their wait lies
ACTS = ("label", "list", "field", "suppress")
FINISHED, WAITS, MAILED = "finished", "waits", "mailed"


@dataclass(frozen=True)
class Moved:
    """What became of one person. ``state`` is waits (until ``due_at``), mailed (a delivery of ``step`` is due), or
    finished. ``passed`` are the steps left behind, in order; ``acts`` those of them that change something."""

    state: str
    step: int
    path: int
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


def opens(hours: tuple[int, int], now: int, zone: ZoneInfo) -> int:
    """The first moment from now on that lies within the hours of a day."""
    local = datetime.fromtimestamp(now, UTC).astimezone(zone).replace(tzinfo=None)
    if hours[0] <= local.hour < hours[1]:
        return now
    ahead = 0 if local.hour < hours[0] else 1
    day = (local + timedelta(days=ahead)).replace(hour=hours[0], minute=0, second=0, microsecond=0)
    return max(real(day, zone), now + 1)


def _next(definition: Definition, place: int, path: int, passed: Collection[int]) -> tuple[int, int] | None:
    """The first step from a place on that somebody in a path comes to, and the path they are in then; None: the end."""
    for step in definition.steps[place:]:
        if step.key in passed or (path == EVERYONE and step.path == FOLLOW_UP):
            continue
        if path == FOLLOW_UP and step.path == EVERYONE:
            if not step.meets:
                continue
            path = EVERYONE
        return step.key, path
    return None


def onward(
    definition: Definition, key: int | None, path: int, answer: bool | None, passed: Collection[int] = ()
) -> list[tuple[int, int]]:
    """Where one can come to from a step (None: from outside). With no ``answer`` a question leads both ways."""
    step = definition.step(key) if key is not None else None
    place = definition.place(key) + 1 if key is not None else 0
    if step is not None and step.kind == "end" and not step.off:
        return []
    if step is None or step.kind != "condition" or step.off:
        found = _next(definition, place, path, passed)
        return [found] if found else []
    out = []
    for said in (True, False) if answer is None else (answer,):
        to = step.yes if said else step.no
        if to == END:
            continue
        if to.isdigit() and definition.place(int(to)) >= place:
            target = definition.step(int(to))
            assert target is not None
            found = _next(definition, definition.place(int(to)), target.path, passed)
        else:
            found = _next(
                definition, place, FOLLOW_UP if to == FOLLOW_UP_PATH else path if to == ON else EVERYONE, passed
            )
        if found:
            out.append(found)
    return list(dict.fromkeys(out))


def enter(definition: Definition, now: int, ask: Ask, zone: Zone) -> Moved:
    """Somebody enters."""
    return _go(definition, onward(definition, None, EVERYONE, None), now, ask, zone, set(), Moved(FINISHED, 0, EVERYONE))


def due(definition: Definition, key: int, path: int, now: int, ask: Ask, zone: Zone, passed: Collection[int]) -> Moved:
    """Somebody's due moment at a step has come. A step that is not there any more, or switched off, is passed."""
    step = definition.step(key)
    out, behind = Moved(FINISHED, 0, path), set(passed)
    if step is not None and not step.off and step.kind in MAILS and key not in behind:
        return _mail(definition, step, path, now, ask, zone, behind, out)
    return _go(definition, _leave(definition, step, key, path, ask, behind, out), now, ask, zone, behind, out)


def mailed(definition: Definition, key: int, path: int, now: int, ask: Ask, zone: Zone, passed: Collection[int]) -> Moved:
    """The message of the step somebody stands at was sent, or will not be."""
    out, behind = Moved(FINISHED, 0, path), set(passed)
    return _go(
        definition, _leave(definition, definition.step(key), key, path, ask, behind, out), now, ask, zone, behind, out
    )


def _leave(
    definition: Definition, step: Step | None, key: int, path: int, ask: Ask, behind: set[int], out: Moved
) -> list[tuple[int, int]]:
    """Pass a step: it is noted, and the ways on are given."""
    behind.add(key)
    out.passed.append(key)
    if step is None:  # it was taken away: those who stood there were moved, so this is a stray
        return []
    answer = ask(step) if step.kind == "condition" and not step.off else None
    return onward(definition, key, path, answer, behind)


def _mail(
    definition: Definition, step: Step, path: int, now: int, ask: Ask, zone: Zone, behind: set[int], out: Moved
) -> Moved:
    if (at := opens(definition.hours, now, zone(step))) > now:
        return Moved(WAITS, step.key, path, at, out.passed, out.acts)
    if step.kind == "resend" and ask(step):  # answered: no repeat, and on
        return _go(definition, _leave(definition, step, step.key, path, ask, behind, out), now, ask, zone, behind, out)
    return Moved(MAILED, step.key, path, 0, out.passed, out.acts)


def _go(
    definition: Definition, ways: list[tuple[int, int]], now: int, ask: Ask, zone: Zone, behind: set[int], out: Moved
) -> Moved:
    """On from step to step until somebody waits, is mailed, or has come to the end."""
    while ways:
        key, path = ways[0]
        step = definition.step(key)
        assert step is not None
        if step.off:
            ways = _leave(definition, step, key, path, ask, behind, out)
        elif step.waits and step.kind in WAITING:
            return Moved(WAITS, key, path, when(step, now, zone(step)), out.passed, out.acts)
        elif step.kind in MAILS:
            return _mail(definition, step, path, now, ask, zone, behind, out)
        else:
            if step.kind in ACTS:
                out.acts.append(step)
            ways = _leave(definition, step, key, path, ask, behind, out)
    return Moved(FINISHED, 0, EVERYONE, 0, out.passed, out.acts)


def spread(due_at: list[int], now: int, a_day: int) -> list[int]:
    """New due moments after a pause: who was due meanwhile goes on now, at most so many a day, in the order they were
    due; the others keep theirs."""
    late = sorted((at, i) for i, at in enumerate(due_at) if at <= now)
    out = list(due_at)
    for n, (_, i) in enumerate(late):
        out[i] = now + (n // a_day) * DAY if a_day else now
    return out


def days(definition: Definition) -> dict[int, tuple[int, int]]:
    """For each step the earliest and latest seconds after entering at which somebody can reach it; waits until an hour
    or a weekday count as their plain time. Steps nobody can reach are left out."""
    out: dict[int, tuple[int, int]] = {}
    todo = [(s, 0) for s in onward(definition, None, EVERYONE, None)]
    while todo:
        (key, path), at = todo.pop()
        step = definition.step(key)
        if step is None:
            continue
        before = out.get(key)
        after = (min(at, before[0]), max(at, before[1])) if before else (at, at)
        if before == after:
            continue
        out[key] = after
        for to in onward(definition, key, path, None):
            todo.append((to, at + (step.wait if step.kind in WAITING and not step.off else 0)))
    return out
