"""Rules and their counts."""

from __future__ import annotations

from pydantic import Field

from openmeadow.services.models.common import Model, Row


class BreakdownRow(Model):
    """One clause. In an ``and``: how many remain after it, and how many it alone removes; in an ``or``: how many it adds,
    and how many it alone adds."""

    clause: str
    remaining: int | None = None
    removed_only_by_this: int | None = None
    adds: int | None = None
    added_only_by_this: int | None = None


class RuleIn(Model):
    rule: str = Field(max_length=500_000)
    own_name: str = ""


class Clause(Model):
    """One part of the topmost group: its text, and its tree for those who pick instead of writing."""

    text: str
    tree: dict[str, object]


class RuleCount(Model):
    tree: dict[str, object] = Field(description="the whole rule")
    joined_by: str = Field(description="and, or, or empty for a lone clause")
    clauses: list[Clause]
    count: int
    subscribers: int
    bands: list[int]
    chance: float | None = Field(description="the mean chance to engage with the next message; None where no one matches")
    as_of: int
    seconds: float
    text: str
    breakdown: list[BreakdownRow]
    sample: list[Row]


class SegmentIn(Model):
    name: str = Field(max_length=200)
    rule: str = Field(max_length=500_000)
    label: str = Field("", max_length=60)


class ShownTo(Model):
    """Who sees a conditional part of a message, of all its recipients."""

    people: int
    recipients: int


class SampleIn(Model):
    people: int = Field(ge=1, le=10_000_000)
    list: str = Field(max_length=200, description="the name of the list they are put on")


class Segment(Model):
    id: int
    name: str
    rule: str
    count: int | None
    problem: str
    bands: list[int]
    chance: float | None  # the mean chance to engage with the next message
    used_by: list[str]
    as_of: int
    changed_at: int
    label: str
    alert_share: float | None = Field(description="by what share its size may change before Today says so")


class SegmentChange(Model):
    name: str = Field(max_length=200)
    rule: str = Field(max_length=500_000)
    label: str = Field("", max_length=60)
    changed_at: int = Field(description="when it was last changed, as it was read")


class WatchIn(Model):
    share: float | None = Field(None, gt=0, le=1)


class Segments(Model):
    segments: list[Segment]


class Name(Model):
    name: str
    people: int | None = Field(description="subscribers it applies to; None where that is not counted")


class Names(Model):
    names: dict[str, list[Name]] = Field(description="names that rules can use, by kind")


class Fits(Model):
    place: int
    fits: list[str]


class GrowthPoint(Model):
    at: int
    count: int


class Snapshot(Model):
    id: int
    day: str
    at: int
    people: int


class SegmentAbout(Model):
    growth: list[GrowthPoint]
    made_at: int
    snapshots: list[Snapshot]
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
