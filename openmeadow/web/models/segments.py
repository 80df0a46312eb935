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


class RuleCount(Model):
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
