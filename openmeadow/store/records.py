"""Activity and jobs, as the store gives them."""

from __future__ import annotations

from dataclasses import dataclass

from openmeadow.core.states import ClockState, JobKind, JobState
from openmeadow.store.rows import Record


@dataclass(frozen=True, slots=True)
class Activity(Record):
    """A line of the activity log; ``undo`` names how it is undone."""

    id: int
    at: int
    who: str
    act: str
    what: str
    people: int
    undo: str | None
    undone_at: int | None


@dataclass(frozen=True, slots=True)
class Job(Record):
    """``arguments`` and ``outcome`` as JSON."""

    id: int
    kind: JobKind
    arguments: str
    state: JobState
    done: int
    total: int
    outcome: str | None
    who: str
    made_at: int
    changed_at: int


@dataclass(frozen=True, slots=True)
class ClockMove(Record):
    id: int
    target: int | None
    state: ClockState
    begun_from: int
    reached: int
