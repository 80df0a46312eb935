"""What time and acts elsewhere change about a sequence: for whom its beginning has come to hold, and who inside has come
to have a reason to leave. Looked at when anything can have changed, for a small part of the time at most."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any, TypeVar

import numpy as np

from openmeadow.core.columns import I64
from openmeadow.core.sequences import intake
from openmeadow.core.sequences.ladder import Ladder
from openmeadow.desk.desk import Desk
from openmeadow.desk.sequences.asking import condition
from openmeadow.store import events, stays, subscribers

SHARE = 20  # looking takes at most one part in so many of the time
HOUR = 3600
Found = TypeVar("Found")
State = tuple[int, int, int]  # newest event, version of what is known about people, hour
_looked: dict[tuple[str, int, str], tuple[State, float, float]] = {}


def forget(desk: Desk, id: int) -> None:
    """Look anew at once."""
    for what in ("enter", "leave"):
        _looked.pop((str(desk.folder), id, what), None)


def _now_and_then(desk: Desk, id: int, what: str, look: Callable[[], Found]) -> Found | None:
    """Look when anything can have changed since the last time; an hour that is new is always looked at, for dates and
    rules that time alone changes."""
    key, db = (str(desk.folder), id, what), desk.store.read()
    state = (events.highest(db), subscribers.facts_version(db), desk.now() // HOUR)
    seen = _looked.get(key)
    if seen and (seen[0] == state or (seen[0][2] == state[2] and time.monotonic() - seen[1] < seen[2] * SHARE)):
        return None
    begun = time.monotonic()
    found = look()
    _looked[key] = (state, time.monotonic(), time.monotonic() - begun)
    return found


def comes_to_hold(desk: Desk, row: Any, ladder: Ladder) -> tuple[list[int], list[int]]:
    """(came, went): subscribers for whom the condition of entering holds now and did not at the last look, and the
    other way round."""

    def look() -> tuple[list[int], list[int]]:
        view = desk.view()
        ids, holds = view.columns.people.id, condition(desk, view, ladder.begin)
        before = np.isin(ids, stays.held_before(desk.store.read(), row["id"]), assume_unique=True)
        return ids[intake.entered(holds, before)].tolist(), ids[before & ~holds].tolist()

    return ([], []) if ladder.begin.on == "by hand" else _now_and_then(desk, row["id"], "enter", look) or ([], [])


def may_leave(desk: Desk, row: Any, ladder: Ladder) -> list[int]:
    """Subscribers inside who were suppressed, or for whom the rule of leaving holds: no event of theirs says so."""

    def look() -> list[int]:
        db, rule = desk.store.read(), ladder.leave.rule.strip()
        found: I64 = stays.suppressed_inside(db, row["id"], desk.now())
        if rule:
            view = desk.view()
            holds = view.columns.people.id[view.mask(desk.checked_rule(rule, view))]
            found = np.union1d(found, np.intersect1d(holds, stays.who_is_inside(db, row["id"]), assume_unique=True))
        return [int(s) for s in found]

    return _now_and_then(desk, row["id"], "leave", look) or []
