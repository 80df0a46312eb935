"""Message, recipients, plan, results."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from openmeadow.web.models.common import Model, NamedThing, Sieved
from openmeadow.web.models.health import PlacementTest


class ArmIn(Model):
    subject: str = Field("", max_length=500)
    preview: str = Field("", max_length=500)
    wait: int = 0


class TrialIn(Model):
    figure: Literal["opened", "clicked"] = "opened"
    wait: int = 14_400
    pick: Literal["better", "by hand"] = "better"
    settled: str = ""
    why: str = ""


class PlanIn(Model):
    start: int | None = None
    lead_share: float = 0.08
    batches: int = 3
    interval: int = 14_400
    order: Literal["most engaged first", "by lot", "by time zone"] = "most engaged first"
    resend: bool = True
    resend_rule: Literal["not answered", "opened, not clicked"] = "not answered"
    wait: int = 259_200
    held_share: float = 0.1
    new_subject: str = ""
    arms: list[ArmIn] = []
    second: bool = False
    machine_only: bool = False
    let_go_days: int = 0
    hours: list[int] = Field([0, 24], min_length=2, max_length=2)
    weekdays: list[int] = [0, 1, 2, 3, 4, 5, 6]
    zones: bool = False
    own_hour: bool = False
    caps: dict[str, int] = {}
    largest: int = 0
    ramp: int = 0
    no_later_than: int | None = None
    moved: dict[str, int] = {}
    test: TrialIn | None = None


class CampaignIn(Model):
    name: str | None = Field(None, max_length=200)
    purpose: int | None = None
    from_address: int | None = None
    from_name: str | None = Field(None, max_length=200)
    subject: str | None = Field(None, max_length=500)
    preview: str | None = Field(None, max_length=500)
    html: str | None = Field(None, max_length=2_000_000)
    plain: str | None = Field(None, max_length=2_000_000)
    blocks: list[dict[str, Any]] | None = None
    segments_in: list[int] | None = None
    segments_out: list[int] | None = None
    lists_in: list[str] | None = None
    lists_out: list[str] | None = None
    with_sequences: bool | None = None
    record_opens: bool | None = None
    record_clicks: bool | None = None
    plan: PlanIn | None = None


class Check(Model):
    check: str
    level: Literal["stop", "mend", "note"]
    finding: str
    mend: str
    may_overrule: bool
    overruled: str


class InOrder(Model):
    check: str
    words: str


class Checks(Model):
    checks: list[Check]
    holds: list[InOrder]


class OverruleIn(Model):
    check: str
    finding: str
    reason: str = Field("", max_length=1000)


class ChosenPerson(Model):
    id: int
    email: str
    side: Literal["in", "out"]


class ChooseIn(Model):
    email: str = Field(max_length=320)
    side: Literal["in", "out", ""]


class Fallen(Model):
    count: int
    people: list[NamedThing]


class CampaignLine(Model):
    id: int
    name: str
    kind: str
    state: str
    subject: str
    purpose: str
    people: int
    delivered: int
    opened: int  # by people, as clicked
    clicked: int
    made_at: int
    started_at: int | None


class MessageName(Model):
    name: str


class CampaignLines(Model):
    campaigns: list[CampaignLine]


class Version(Model):
    n: int
    letter: str
    at: int
    who: str
    subject: str
    preview: str
    html: str
    plain: str
    handed: int


class Approval(Model):
    needed: bool
    asked_by: str
    asked_at: int | None
    approved_by: str
    lapsed: bool


class ChangeIn(Model):
    subject: str | None = Field(None, max_length=500)
    preview: str | None = Field(None, max_length=500)
    html: str | None = Field(None, max_length=2_000_000)
    plain: str | None = Field(None, max_length=2_000_000)
    blocks: list[dict[str, Any]] | None = None
    forget: bool = False
    only_show: bool = False


class Differs(Model):
    part: str
    lines: list[list[str]]


class Changed(Model):
    version: str
    differs: list[Differs]
    waiting: int
    handed: int


class UseIn(Model):
    n: int
    why: str = Field("", max_length=500)


class MoveIn(Model):
    due_at: int


class Campaign(Model):
    id: int
    name: str
    kind: Literal["campaign", "consent request"]
    asks: list[str]
    chosen_people: int
    state: Literal["draft", "planned", "sending", "held", "finished", "stopped"]
    elsewhere: bool
    message_name: str
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
    blocks: list[dict[str, Any]] | None
    segments_in: list[int]
    segments_out: list[int]
    lists_in: list[str]
    lists_out: list[str]
    lists: list[Sieved]
    chosen: list[ChosenPerson]
    with_sequences: bool
    record_opens: bool
    record_clicks: bool
    plan: PlanIn
    versions: list[Version]
    version: str
    approval: Approval
    machine_openers: int
    checks: list[Check]
    purposes: list[NamedThing]
    fields: list[str]
    links: list[str]
    sequence: NamedThing | None
    in_doubt: int


class RecipientsView(Model):
    sieve: list[Sieved]
    bands: list[int]
    providers: list[Sieved]
    zones: list[Sieved]
    count: int


class PlannedBatch(Model):
    n: int
    due_at: int
    people: int
    lead: bool
    bands: list[int]
    again_at: int | None = None


class BestHours(Model):
    begin: int
    share: float
    low: float
    high: float
    sure: bool
    answers: int
    counts: list[int]
    own: int
    sent_at: int | None


class PlanView(Model):
    batches: list[PlannedBatch]
    note: str
    resend: str
    best: BestHours | None
    usual_wait: int
    arms: list[str]


class BatchLine(Model):
    id: int
    kind: Literal["first", "resend", "second resend"]
    n: int
    arm: str
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


class Support(Model):
    what: str
    web: Literal["kept", "partly", "dropped"]
    desktop: Literal["kept", "partly", "dropped"]
    phone: Literal["kept", "partly", "dropped"]
    instead: str


class FieldValue(Model):
    field: str
    value: str


class Preview(Model):
    subject: str
    preview: str
    html: str
    plain: str
    person: str
    values: list[FieldValue]
    support: list[Support]


class CampaignBegin(Model):
    name: str = Field(max_length=200)
    template: int = 0
    campaign: int = 0


class Template(Model):
    id: int
    name: str
    subject: str
    made_at: int
    who: str
    by_blocks: bool


class Templates(Model):
    templates: list[Template]


class Picture(Model):
    id: int
    url: str
    name: str
    width: int
    height: int
    bytes: int


class Pictures(Model):
    pictures: list[Picture]


class Frame(Model):
    logo: str = Field("", max_length=1000)
    logo_alt: str = Field("", max_length=300)
    colour: str = "#33478F"
    paper: str = "#FFFFFF"
    footer: str = Field("", max_length=20_000)
    postal_address: str = Field("", max_length=500)
    second_pair: bool = False
    tell_back: bool = False


class Settle(Model):
    arrived: bool


class Guardrail(Model):
    kind: str
    place: str
    name: str
    guardrail: str
    k: int
    n: int
    limit: float
    evidence: float
    state: Literal["holds", "watch", "hold"]


class Shows(Model):
    guardrail: str
    enough: int


class TroubleFrom(Model):
    place: str
    name: str
    k: int
    n: int
    rest_k: int
    rest_n: int


class Guardrails(Model):
    sources: list[TroubleFrom]
    guardrails: list[Guardrail]
    held_why: str
    evidence: list[Guardrail]
    silent: list[Shows]
    providers: list[str]


class BatchThatFits(Model):
    largest: int
    rate: float
    busiest: float
    delivered: int
    responses: int


class DividedLine(Model):
    words: str
    handed: int
    delivered: int
    opened: int
    clicked: int
    machine_only: int


class DividedBy(Model):
    title: str
    lines: list[DividedLine]
    note: str


class LinkLine(Model):
    url: str
    people: int
    machines: int


class TrialLine(Model):
    words: str
    people: int
    answered: int


class TrialResult(Model):
    figure: str
    versions: list[TrialLine]
    difference: float
    low: float
    high: float
    verdict: str
    settled: str
    why: str


class UsualRange(Model):
    low: float
    middle: float
    high: float


class Usual(Model):
    mailings: int
    about: str
    opened: UsualRange
    clicked: UsualRange
    unsubscribed: UsualRange
    complained: UsualRange
    bounced: UsualRange


class ComparedLine(Model):
    id: int
    name: str
    at: int | None
    handed: int
    delivered: int
    opened: int
    clicked: int
    machine_only: int
    unsubscribed: int
    complained: int
    bounced: int


class Replied(Model):
    subscriber: int
    email: str
    at: int


class Divided(Model):
    by: list[DividedBy]
    links: list[LinkLine]
    replies: int
    replied: list[Replied]
    bookings: int
    value: float
    placement: list[PlacementTest]
    trial: TrialResult | None
    usual: Usual | None
    compared: list[ComparedLine]
    text: str


class PooledArm(Model):
    arm: str
    people: int
    answered: int
    held: int
    held_answered: int
    difference: float
    low: float
    high: float
    verdict: str
    unsubscribed: int
    complained: int


class PooledResends(Model):
    campaigns: int
    lines: list[PooledArm]
    sentence: str


class WorksLine(Model):
    words: str
    mailings: int
    delivered: int
    share: float
    least: float
    most: float
    enough: bool


class WorksKind(Model):
    title: str
    lines: list[WorksLine]


class WhatWorks(Model):
    resends: PooledResends
    kinds: list[WorksKind]
    mailings: int
