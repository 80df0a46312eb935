"""What time and acts elsewhere change about a sequence: for whom its beginning has come to hold, and who inside has come
to have a reason to leave. Looked at when anything can have changed, for a small part of the time at most."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import TypeVar

import numpy as np

from openmeadow.core.arrays import I64
from openmeadow.core.moments import HOUR
from openmeadow.core.sequences import admission
from openmeadow.core.sequences.definition import Definition
from openmeadow.services.sequences.conditions import condition
from openmeadow.services.workspace import Workspace
from openmeadow.store.engagement import events
from openmeadow.store.sequences import enrolments
from openmeadow.store.sequences.records import Sequence
from openmeadow.store.subscribers import subscribers

SHARE = 20  # looking takes at most one part in so many of the time
Found = TypeVar("Found")
State = tuple[int, int, int]  # newest event, version of what is known about people, hour
_looked: dict[tuple[str, int, str], tuple[State, float, float]] = {}


def forget(workspace: Workspace, row_id: int) -> None:
    """Look anew at once."""
    for what in ("enter", "leave"):
        _looked.pop((str(workspace.folder), row_id, what), None)


def _now_and_then(workspace: Workspace, row_id: int, what: str, look: Callable[[], Found]) -> Found | None:
    """Look when anything can have changed since the last time; an hour that is new is always looked at, for dates and
    rules that time alone changes."""
    key, db = (str(workspace.folder), row_id, what), workspace.store.read()
    state = (events.highest(db), subscribers.facts_version(db), workspace.now() // HOUR)
    seen = _looked.get(key)
    if seen and (seen[0] == state or (seen[0][2] == state[2] and time.monotonic() - seen[1] < seen[2] * SHARE)):
        return None
    begun = time.monotonic()
    found = look()
    _looked[key] = (state, time.monotonic(), time.monotonic() - begun)
    return found


def comes_to_hold(workspace: Workspace, row: Sequence, definition: Definition) -> tuple[list[int], list[int]]:
    """(came, went): subscribers for whom the condition of entering holds now and did not at the last look, and the
    other way round."""

    def look() -> tuple[list[int], list[int]]:
        view = workspace.view()
        ids, holds = view.columns.people.id, condition(workspace, view, definition.begin)
        before = np.isin(ids, enrolments.held_before(workspace.store.read(), row.id), assume_unique=True)
        return ids[admission.entered(holds, before)].tolist(), ids[before & ~holds].tolist()

    return ([], []) if definition.begin.on == "manual" else _now_and_then(workspace, row.id, "enter", look) or ([], [])


def may_leave(workspace: Workspace, row: Sequence, definition: Definition) -> list[int]:
    """Subscribers inside who were suppressed, or for whom the rule of leaving holds: no event of theirs says so."""

    def look() -> list[int]:
        db, rule = workspace.store.read(), definition.leave.rule.strip()
        found: I64 = enrolments.suppressed_inside(db, row.id, workspace.now())
        if rule:
            view = workspace.view()
            holds = view.columns.people.id[view.mask(workspace.checked_rule(rule, view))]
            found = np.union1d(found, np.intersect1d(holds, enrolments.who_is_inside(db, row.id), assume_unique=True))
        return [int(s) for s in found]

    return _now_and_then(workspace, row.id, "leave", look) or []
