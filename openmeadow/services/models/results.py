"""What campaigns did, and what works over all of them."""

from __future__ import annotations

from pydantic import Field

from openmeadow.core.ids import SubscriberId
from openmeadow.core.states import BatchState, SendKind
from openmeadow.services.models.common import Exclusion, Model, Observed
from openmeadow.services.models.health import PlacementTest


class BatchLine(Model):
    late: int  # seconds after its moment, where that is worth saying
    id: int
    kind: SendKind
    n: int
    variant: str
    due_at: int
    state: BatchState
    people: int
    sent: int
    waiting: int
    deferred: int
    failed: int
    unconfirmed: int
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
    observed: Observed | None  # None where the chances of its people are not known, and of resends


class VariantResult(Model):
    variant: str
    people: int
    engaged: int
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
    sent: int
    delivered: int
    opened: int
    observed: Observed | None
    unsure: int
    clicked: int
    machine_only: int
    variants: list[VariantResult]
    verdict: str
    second_arms: list[VariantResult]
    second_verdict: str
    settles_at: int | None  # when what the resends did is settled
    engaged_first: int
    engaged_all: int
    why_not: list[Exclusion]
    hours: list[int]
    days: list[int] = Field(description="first engagements by whole days since sending, the last one and later together")
    settled_at: int | None = Field(description="when nearly all engagement with what has gone out is in")
    half_hours: float | None
    unconfirmed: int
    failed: int


class DividedLine(Model):
    words: str
    sent: int
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


class ClicksDrawn(Model):
    html: str


class TrialLine(Model):
    words: str
    people: int
    engaged: int


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
    sent: int
    delivered: int
    opened: int
    clicked: int
    machine_only: int
    unsubscribed: int
    complained: int
    bounced: int


class Replied(Model):
    subscriber: SubscriberId
    email: str
    at: int


class BounceReason(Model):
    kind: str = Field(description="hard, soft, blocked or unknown")
    code: str
    text: str
    people: int


class Booked(Model):
    subscriber: SubscriberId
    email: str
    value: float = Field(description="in the workspace's currency")


class ResultParts(Model):
    by: list[DividedBy]
    links: list[LinkLine]
    replies: int
    replied: list[Replied]
    bookings: int
    value: float
    booked: list[Booked]
    bounce_reasons: list[BounceReason]
    placement: list[PlacementTest]
    trial: TrialResult | None


class Divided(ResultParts):
    usual: Usual | None
    compared: list[ComparedLine]
    text: str


class PooledVariant(Model):
    variant: str
    people: int
    engaged: int
    holdout: int
    holdout_engaged: int
    difference: float
    low: float
    high: float
    verdict: str
    unsubscribed: int
    complained: int


class PooledResends(Model):
    campaigns: int
    lines: list[PooledVariant]
    sentence: str


class Comparison(Model):
    words: str
    mailings: int
    delivered: int
    share: float
    least: float
    most: float
    ratio: float | None = Field(description="engaged over expected, of the mailings whose expectation is known")
    enough: bool


class ComparisonKind(Model):
    title: str
    lines: list[Comparison]


class WhatWorks(Model):
    resends: PooledResends
    kinds: list[ComparisonKind]
    mailings: int


class SubjectTrait(Model):
    """Settled mailings whose subject has a trait against the others: ``times`` as much of the expected engagement, with a
    99% interval."""

    trait: str
    mailings: int
    others: int
    times: float
    low: float
    high: float
    shown: bool


class SubjectPast(Model):
    traits: list[SubjectTrait]
    mailings: int
