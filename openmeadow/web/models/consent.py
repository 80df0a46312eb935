"""Purposes, forms, evidence, suppressions."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from openmeadow.web.models.common import Model, Sieved


class StateCounts(Model):
    none: int
    given: int
    withdrawn: int
    awaiting: int


class Purpose(Model):
    id: int
    name: str
    basis: str
    transactional: bool
    left_out: bool
    version: int
    wording_id: int | None
    text: str
    counts: StateCounts
    permitted: int


class Evidence(Model):
    entries: int
    holds: bool
    broken_at: int | None
    what: str


class FormDay(Model):
    day: str
    joined: int
    awaiting: int
    confirmed: int
    lapsed: int


class SignUpForm(Model):
    id: int
    list_name: str
    purposes: list[int]
    intro: str
    ask_name: bool
    confirm: bool
    reminders: list[int]
    is_open: bool
    mail_subject: str
    mail_text: str
    joined: int
    awaiting: int
    confirmed: int
    lapsed: int
    days: list[FormDay]
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
    left_out: bool | None = None
    text: str | None = Field(None, max_length=5_000)


class FormIn(Model):
    list_name: str = Field(max_length=200)
    purposes: list[int]
    intro: str = Field("", max_length=2_000)
    ask_name: bool = True
    confirm: bool = True
    reminders: list[int] = [2, 6]
    is_open: bool = True
    mail_subject: str = Field("", max_length=200)
    mail_text: str = Field("", max_length=10_000)


class SuppressedRow(Model):
    subscriber: int
    email: str
    reason: str
    at: int
    source: str
    liftable: bool


class SuppressionList(Model):
    counts: list[Sieved]
    rows: list[SuppressedRow]
    total: int


class LiftIn(Model):
    subscriber: int
    reason: str
    why: str = Field("", max_length=500)


class WordIn(Model):
    purpose: int
    state: Literal["given", "withdrawn"]
    reason: str = Field("", max_length=500)


class WhyNot(Model):
    subscriber: int
    permitted: bool
    reasons: list[str]
    deliveries: list[str]


class AskAgainIn(Model):
    purposes: list[str]
    none: bool = True
    older_days: int = Field(0, ge=0, le=10_000)
    sources: list[str] = []
    relation: str = Field("", max_length=500)
    let_go_days: int = 0


class AskAgain(Model):
    rule: str
    groups: list[Sieved]
    people: int
    sieve: list[Sieved]
    permitted: int
    unrelated: int


class RequestLine(Model):
    id: int
    name: str
    state: str
    asks: list[str]
    started_at: int
    let_go_days: int
    let_go_done: int | None
    mailed: int
    agreed: int
    silent: int


class Requests(Model):
    requests: list[RequestLine]


class CleanUpIn(Model):
    after_days: int
    tries: int
    wait_days: int
    ask_veiled: bool
    by_itself: bool
    purpose: str


class CleanUpPerson(Model):
    id: int
    email: str
    last_answer: int | None
    tries: int
    let_go_at: int | None


class CleanUpGroup(Model):
    step: str
    words: str
    count: int
    people: list[CleanUpPerson]


class Saved(Model):
    beyond: float
    all: float


class Pattern(Model):
    id: int | None
    name: str
    stop: str


class CleanUp(Model):
    agreed: bool
    after_days: int
    tries: int
    wait_days: int
    ask_veiled: bool
    by_itself: bool
    sentence: str
    purpose: str
    purposes: list[str]
    groups: list[CleanUpGroup]
    stopped: int
    protected: int
    saving: dict[str, Saved]
    patterns: list[Pattern]
    ran_at: int | None
    next_at: int | None
    outcomes: dict[str, int]
    as_of: int


class CleanUpDone(Model):
    counts: dict[str, int]
    deed: int


class WordingLine(Model):
    id: int
    version: int
    text: str
    made_at: int
    people: int = Field(description="who said yes to it")


class Wordings(Model):
    wordings: list[WordingLine]
