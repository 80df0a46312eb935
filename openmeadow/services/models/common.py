"""Models that several places share."""

from __future__ import annotations

from typing import Self

from pydantic import BaseModel, ConfigDict, Field


class Model(BaseModel):
    # built when first used: a command needs few of them, and the server asks for each once
    model_config = ConfigDict(extra="forbid", json_schema_serialization_defaults_required=True, defer_build=True)

    @classmethod
    def read_from(cls, source: object) -> Self:
        """From an object whose attributes have the names of the fields."""
        return cls.model_validate(source, from_attributes=True)


class Done(Model):
    ok: bool = True
    id: int = 0
    count: int = 0


class Problem(Model):
    error: str
    place: int | None = None
    fits: list[str] = []


class NamedThing(Model):
    id: int
    name: str


class NameIn(Model):
    name: str = Field(max_length=300)


class Exclusion(Model):
    words: str
    count: int


class Expectation(Model):
    """How many of some people are expected to engage, with a 95% interval; ``mailings`` it is told from (fewer than five:
    a usual spread stands in)."""

    people: int
    expected: float
    low: float
    high: float
    mailings: int


class NamedExpectation(Expectation):
    name: str


class Observed(Model):
    """How many engaged beside what was expected by now, with a 95% interval; ``ratio`` of the two. ``complete``: nearly all
    that comes has come; ``unusual``: outside the interval."""

    people: int
    observed: int
    expected: float
    low: float
    high: float
    expected_in_all: float
    ratio: float | None
    complete: bool
    unusual: bool
    mailings: int


class Row(Model):
    id: int
    email: str
    name: str
    band: int
    score: float
    trace: str
    permitted: bool
    last_engaged: int | None
    ignored: int
    joined_at: int
    provider: str
    source: str
    lists: list[str]
    labels: list[str]
    language: str
    country: str
    time_zone: str
    verdict: str
    consents: dict[str, str] = Field(description="by purpose the state of consent by email; absent for none")
    fields: dict[str, str]


class Rows(Model):
    total: int
    offset: int
    rows: list[Row]
    now: int
