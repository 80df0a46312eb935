"""What campaigns did, and what works over all of them."""

from __future__ import annotations

from typing import Literal

from openmeadow.web.models.common import Model, Sieved
from openmeadow.web.models.health import PlacementTest


class BatchLine(Model):
    late: int  # seconds after its moment, where that is worth saying
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
    second_arms: list[Arm]
    second_verdict: str
    settles_at: int | None  # when what the resends did is settled
    answered_first: int
    answered_all: int
    why_not: list[Sieved]
    hours: list[int]
    half_hours: float | None
    in_doubt: int
    failed: int


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
