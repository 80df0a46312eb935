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
    confirmed: int


class SignUpForm(Model):
    id: int
    list_name: str
    purposes: list[int]
    intro: str
    ask_name: bool
    confirm: bool
    reminders: list[int]
    is_open: bool
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
