"""Purposes, forms, evidence, suppressions."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from openmeadow.core.ids import PurposeId, SubscriberId
from openmeadow.services.models.common import Exclusion, Model


class StateCounts(Model):
    none: int
    given: int
    withdrawn: int
    pending: int


class Purpose(Model):
    id: int
    name: str
    basis: str
    transactional: bool
    retired: bool
    version: int
    wording_id: int | None
    text: str
    counts: StateCounts
    permitted: int


class Evidence(Model):
    entries: int
    verified: bool
    broken_at: int | None
    what: str


class EvidenceSeen(Evidence):
    pending: bool  # a long record is still being verified


class FormDay(Model):
    day: str
    joined: int
    pending: int
    confirmed: int
    expired: int


class FormLine(Model):
    id: int
    list_name: str
    purposes: list[PurposeId]
    intro: str
    ask_name: bool
    confirm: bool
    reminders: list[int]
    is_open: bool
    mail_subject: str
    mail_text: str
    joined: int
    pending: int
    confirmed: int
    expired: int
    days: list[FormDay]


class SignUpForm(FormLine):
    address: str
    snippet: str


class Burst(Model):
    network: str
    n: int
    first: int
    last: int


class ConsentView(Model):
    purposes: list[Purpose]
    bases: list[str]
    sources: list[str]
    forms: list[SignUpForm]
    bursts: list[Burst]


class PurposeIn(Model):
    name: str | None = Field(None, max_length=200)
    basis: str | None = None
    transactional: bool | None = None
    retired: bool | None = None
    text: str | None = Field(None, max_length=5_000)


class FormIn(Model):
    list_name: str = Field(max_length=200)
    purposes: list[PurposeId]
    intro: str = Field("", max_length=2_000)
    ask_name: bool = True
    confirm: bool = True
    reminders: list[int] = [2, 6]
    is_open: bool = True
    mail_subject: str = Field("", max_length=200)
    mail_text: str = Field("", max_length=10_000)


class SuppressedRow(Model):
    subscriber: SubscriberId
    email: str
    reason: str
    at: int
    source: str
    liftable: bool


class SuppressionList(Model):
    counts: list[Exclusion]
    rows: list[SuppressedRow]
    total: int


class LiftIn(Model):
    subscriber: SubscriberId
    reason: str
    why: str = Field("", max_length=500)


class AlertsIn(Model):
    purpose: PurposeId
    state: Literal["given", "withdrawn"]
    reason: str = Field("", max_length=500)


class WhyNot(Model):
    subscriber: SubscriberId
    permitted: bool
    reasons: list[str]
    deliveries: list[str]


class ConsentRequestIn(Model):
    purposes: list[str]
    none: bool = True
    older_days: int = Field(0, ge=0, le=10_000)
    sources: list[str] = []
    relation: str = Field("", max_length=500)
    suppress_after_days: int = 0


class ConsentRequest(Model):
    rule: str
    groups: list[Exclusion]
    people: int
    exclusions: list[Exclusion]
    permitted: int
    unrelated: int


class ConsentRequestLine(Model):
    id: int
    name: str
    state: str
    asks: list[str]
    started_at: int
    suppress_after_days: int
    suppressed_at: int | None
    mailed: int
    agreed: int
    no_reply: int


class ConsentRequests(Model):
    requests: list[ConsentRequestLine]


class SunsetIn(Model):
    after_days: int
    tries: int
    wait_days: int
    ask_masked: bool
    automatic: bool
    purpose: str


class SunsetPerson(Model):
    id: int
    email: str
    last_engaged: int | None
    tries: int
    suppress_at: int | None


class SunsetGroup(Model):
    step: str
    words: str
    count: int
    people: list[SunsetPerson]


class Saved(Model):
    beyond: float
    all: float


class Pattern(Model):
    id: int | None
    name: str
    stop: str


class SunsetView(Model):
    active: bool
    after_days: int
    tries: int
    wait_days: int
    ask_masked: bool
    automatic: bool
    sentence: str
    purpose: str
    purposes: list[str]
    groups: list[SunsetGroup]
    stopped: int
    protected: int
    saving: dict[str, Saved]
    saving_off: float = Field(description="share by which it may be off, 95 times of 100; 0 where all was replayed")
    patterns: list[Pattern]
    ran_at: int | None
    next_at: int | None
    outcomes: dict[str, int]
    as_of: int


class SunsetDone(Model):
    counts: dict[str, int]
    action: int


class WordingLine(Model):
    id: int
    version: int
    text: str
    made_at: int
    people: int = Field(description="who said yes to it")


class Wordings(Model):
    wordings: list[WordingLine]
