"""Rules and their counts."""

from __future__ import annotations

from pydantic import Field

from openmeadow.web.models.common import Model, Row


class SieveRow(Model):
    text: str
    left: int
    alone: int | None
    arm: bool


class RuleIn(Model):
    rule: str = Field(max_length=500_000)
    own_name: str = ""


class Clause(Model):
    """One part of the topmost group: its text, and its tree for those who pick instead of writing."""

    text: str
    tree: dict[str, object]


class RuleCount(Model):
    joined_by: str = Field(description="and, or, or empty for a lone clause")
    clauses: list[Clause]
    count: int
    subscribers: int
    bands: list[int]
    as_of: int
    seconds: float
    text: str
    sieve: list[SieveRow]
    sample: list[Row]


class SegmentIn(Model):
    name: str = Field(max_length=200)
    rule: str = Field(max_length=500_000)


class Segment(Model):
    id: int
    name: str
    rule: str
    count: int | None
    problem: str
    bands: list[int]
    used_by: list[str]
    as_of: int
    changed_at: int


class Segments(Model):
    segments: list[Segment]
    words: dict[str, list[str]] = Field(description="known names for rules, by kind")


class Fits(Model):
    place: int
    fits: list[str]


class GrowthPoint(Model):
    at: int
    count: int


class FrozenCopy(Model):
    id: int
    day: str
    at: int
    people: int


class SegmentAbout(Model):
    growth: list[GrowthPoint]
    made_at: int
    frozen: list[FrozenCopy]
    used_by: list[str]
    as_of: int
    seconds: float


class OverlapIn(Model):
    rule: str = Field(max_length=500_000)
    others: list[int]


class Overlap(Model):
    id: int
    name: str
    both: int
    only_this: int
    only_that: int


class Overlaps(Model):
    overlaps: list[Overlap]


class WinBackIn(Model):
    name: str = Field(max_length=200)
    rule: str = Field(max_length=500_000)
