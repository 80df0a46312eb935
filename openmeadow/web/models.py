"""Request and response models; the API's description and the TypeScript types are made from these."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field


class Model(BaseModel):
    model_config = ConfigDict(extra="forbid", json_schema_serialization_defaults_required=True)


class Done(Model):
    ok: bool = True
    id: int = 0
    count: int = 0


class Problem(Model):
    error: str
    place: int | None = None
    fits: list[str] = []


class SignIn(Model):
    name: str = Field(max_length=200)
    password: str = Field(max_length=1000)
    code: str = Field("", max_length=12)


class Me(Model):
    name: str
    role: Literal["analyst", "writer", "observer"]
    csrf: str
    second_factor: bool
    workspace: str
    time_zone: str
    demo: bool
    world_url: str
    email: str


class SecondFactor(Model):
    secret: str
    address: str


class SecondFactorProof(Model):
    secret: str
    code: str


class Token(Model):
    token: str


class ClockMove(Model):
    by: int | None = Field(None, description="seconds; none for the next event")


class Moving(Model):
    now: int
    target: int | None = None
    begun_from: int | None = None


class Foot(Model):
    now: int
    scored_at: int
    subscribers: int
    permitted: int
    purpose: str
    next_at: int | None
    next_name: str
    complaints: int
    handed_over: int
    sending: int
    moving: Moving | None


class Found(Model):
    kind: Literal["subscriber", "segment", "campaign"]
    id: int
    name: str
    detail: str


class Finds(Model):
    finds: list[Found]


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


class Sieved(Model):
    words: str
    count: int


class SelectionView(Model):
    count: int
    bands: list[int]
    sieve: list[Sieved]
    providers: list[Sieved]
    purpose: str
    purposes: list[str]
    rule: str


class Row(Model):
    id: int
    email: str
    name: str
    band: int
    score: float
    trace: str
    permitted: bool
    last_answer: int | None
    unanswered: int
    joined_at: int


class Rows(Model):
    total: int
    offset: int
    rows: list[Row]
    now: int


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


class Record(Model):
    record: str
    state: Literal["holds", "mend", "broken", "unknown"]
    expected: str
    found: str
    meaning: str
    publish: str


class FromAddress(Model):
    id: int
    address: str
    confirmed_at: int | None
    domain: int
    usable: bool


class Domain(Model):
    id: int
    name: str
    state: Literal["holds", "mend", "broken", "unknown"]
    selector: str
    checked_at: int | None
    records: list[Record]
    addresses: list[FromAddress]


class Domains(Model):
    domains: list[Domain]


class NameIn(Model):
    name: str = Field(max_length=300)


class PlanIn(Model):
    start: int | None = None
    lead_share: float = 0.08
    batches: int = 3
    interval: int = 14_400
    order: Literal["most engaged first", "by lot"] = "most engaged first"
    resend: bool = True
    wait: int = 259_200
    held_share: float = 0.1
    new_subject: str = ""
    machine_only: bool = False


class CampaignIn(Model):
    name: str | None = Field(None, max_length=200)
    purpose: int | None = None
    from_address: int | None = None
    from_name: str | None = Field(None, max_length=200)
    subject: str | None = Field(None, max_length=500)
    preview: str | None = Field(None, max_length=500)
    html: str | None = Field(None, max_length=2_000_000)
    plain: str | None = Field(None, max_length=2_000_000)
    segments_in: list[int] | None = None
    segments_out: list[int] | None = None
    plan: PlanIn | None = None


class Check(Model):
    check: str
    level: Literal["stop", "mend", "note"]
    finding: str


class NamedThing(Model):
    id: int
    name: str


class CampaignLine(Model):
    id: int
    name: str
    state: str
    subject: str
    purpose: str
    people: int
    made_at: int
    started_at: int | None


class CampaignLines(Model):
    campaigns: list[CampaignLine]


class Campaign(Model):
    id: int
    name: str
    state: Literal["draft", "planned", "sending", "held", "finished", "stopped"]
    purpose: int | None
    purpose_name: str
    from_address: int | None
    from_text: str
    from_name: str
    subject: str
    preview: str
    html: str
    plain: str
    plain_by_hand: bool
    segments_in: list[int]
    segments_out: list[int]
    plan: PlanIn
    checks: list[Check]
    purposes: list[NamedThing]
    fields: list[str]
    links: list[str]
    in_doubt: int


class RecipientsView(Model):
    sieve: list[Sieved]
    bands: list[int]
    providers: list[Sieved]
    count: int


class PlannedBatch(Model):
    n: int
    due_at: int
    people: int
    lead: bool
    bands: list[int]


class PlanView(Model):
    batches: list[PlannedBatch]
    note: str


class BatchLine(Model):
    id: int
    kind: Literal["first", "resend"]
    n: int
    due_at: int
    state: Literal["waiting", "going out", "gone", "held", "stopped"]
    people: int
    handed: int
    waiting: int
    deferred: int
    failed: int
    in_doubt: int
    passed_over: int
    delivered: int
    opened: int
    unsure: int
    clicked: int
    machine_only: int
    unsubscribed: int
    complained: int
    bounced: int
    bands: list[int]


class Arm(Model):
    arm: str
    people: int
    answered: int
    unsubscribed: int
    complained: int
    difference: float | None
    low: float | None
    high: float | None
    added: float | None
    verdict: str


class Results(Model):
    as_of: int
    batches: list[BatchLine]
    handed: int
    delivered: int
    opened: int
    unsure: int
    clicked: int
    machine_only: int
    arms: list[Arm]
    verdict: str
    answered_first: int
    answered_all: int
    why_not: list[Sieved]
    hours: list[int]
    half_hours: float | None
    in_doubt: int


class TestTo(Model):
    to: str = Field(max_length=300)


class Preview(Model):
    subject: str
    html: str
    plain: str
    person: str


class Settle(Model):
    arrived: bool


class Decision(Model):
    kind: str
    title: str
    detail: str
    link: str
    act: str


class Lane(Model):
    campaign: int
    name: str
    kind: Literal["first", "resend"]
    n: int
    due_at: int
    state: str
    people: int
    handed: int


class BasePoint(Model):
    at: int
    bands: list[int]


class Provider(Model):
    name: str
    people: int
    handed_over: int
    deferred: int
    bounced: int
    complained: int
    weeks: list[float] = Field(description="deferred share of each of the last 12 weeks")


class TodayView(Model):
    now: int
    decisions: list[Decision]
    lanes: list[Lane]
    base: list[BasePoint]
    providers: list[Provider]
    goes_out: int


Anything = dict[str, Any]
