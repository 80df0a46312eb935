"""The map, a person, bringing in."""

from __future__ import annotations

from typing import Literal

from pydantic import ConfigDict, Field

from openmeadow.web.models.common import Model, Sieved


class MapView(Model):
    now: int
    day_words: list[str]
    left_words: list[str]
    bands: list[str]
    grid: list[list[list[int]]] = Field(description="[day column][unanswered row][band]")
    totals: list[int]
    subscribers: int
    window_days: int
    gap_days: int


class Selection(Model):
    cells: list[tuple[int, int]] = Field(max_length=48)
    purpose: str = ""


class SelectionView(Model):
    count: int
    bands: list[int]
    sieve: list[Sieved]
    providers: list[Sieved]
    purpose: str
    purposes: list[str]
    rule: str


class Term(Model):
    message: str
    at: int
    age_days: float
    weight: float
    value: float
    adds: float
    what: str


class Why(Model):
    score: float
    band: str
    E: float
    N: float
    answered: int
    unanswered: int
    last_answer: int | None
    as_of: int
    half_life_days: int
    window_days: int
    terms: list[Term]


class Happened(Model):
    at: int
    event: str
    message: str
    link: str
    agent: str
    ip: str
    code: str
    diagnostic: str
    value: float
    who: str


class Permission(Model):
    purpose: str
    permitted: bool
    reasons: list[str]


class ConsentEntry(Model):
    purpose: str
    state: str
    at: int
    source: str
    wording: str


class Suppressed(Model):
    reason: str
    at: int
    source: str


class Person(Model):
    id: int
    email: str
    name: str
    joined_at: int
    door: str
    provider: str
    time_zone: str
    language: str
    country: str
    lists: list[str]
    labels: list[str]
    fields: dict[str, str]
    trace: str
    why: Why
    permission: list[Permission]
    events: list[Happened]
    consent: list[ConsentEntry]
    suppressed: list[Suppressed]


class Upload(Model):
    upload: str
    kind: Literal["subscribers", "events"]
    name: str
    header: list[str]
    targets: list[str]
    sample: list[list[str]]
    known: list[str]
    bytes: int


class BringIn(Model):
    upload: str
    kind: Literal["subscribers", "events"]
    corrections: dict[str, str] = {}
    list_name: str = ""
    source: str = ""
    dry_run: bool = True


class Refusal(Model):
    line: int
    column: str
    reason: str


class Outcome(Model):
    model_config = ConfigDict(extra="ignore", json_schema_serialization_defaults_required=True)
    error: str = ""
    rows: int = 0
    taken: int = 0
    repeated: int = 0
    aside: int = 0
    refused: int = 0
    aside_addresses: list[str] = []
    refused_rows: list[Refusal] = []
    notes: list[str] = []
    dry_run: bool = False


class Job(Model):
    id: int
    kind: str
    state: Literal["waiting", "working", "finished", "failed"]
    done: int
    total: int
    outcome: Outcome | None
    made_at: int
    name: str
    dry_run: bool


class Jobs(Model):
    jobs: list[Job]
