"""Segments as the store gives them."""

from __future__ import annotations

from dataclasses import dataclass

from openmeadow.core.ids import SegmentId
from openmeadow.store.rows import Record


@dataclass(frozen=True, slots=True)
class Segment(Record):
    id: SegmentId
    name: str
    rule: str
    made_at: int
    changed_at: int
    label: str
    alert_share: float | None
    alert_count: int | None
    alert_at: int | None


@dataclass(frozen=True, slots=True)
class SegmentCount(Record):
    at: int
    count: int


@dataclass(frozen=True, slots=True)
class Snapshot(Record):
    """The people of a segment at a moment; ``day`` (ISO) in the workspace's zone, ``rule`` as it was then."""

    id: int
    day: str
    at: int
    people: int
    rule: str
