"""Models that several places share."""

from __future__ import annotations

from typing import Self

from pydantic import BaseModel, ConfigDict, Field


class Model(BaseModel):
    model_config = ConfigDict(extra="forbid", json_schema_serialization_defaults_required=True)

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
    fields: dict[str, str]


class Rows(Model):
    total: int
    offset: int
    rows: list[Row]
    now: int
