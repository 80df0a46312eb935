"""Plans: batches, hours, guardrails."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from openmeadow.services.models.common import Expectation, Model, NamedExpectation


class MessageName(Model):
    name: str


class MoveIn(Model):
    due_at: int


class PlannedBatch(Model):
    n: int
    due_at: int
    people: int
    pilot: bool
    bands: list[int]
    expected: Expectation
    again_at: int | None = None


class BestHours(Model):
    begin: int
    share: float
    low: float
    high: float
    sure: bool
    engagements: int
    counts: list[int]
    own: int
    sent_at: int | None


class PlanView(Model):
    batches: list[PlannedBatch]
    note: str
    resend: str
    best: BestHours | None
    usual_wait: int
    variants: list[str]
    expected: Expectation
    expected_by_band: list[NamedExpectation]
    expected_by_provider: list[NamedExpectation]


class Resolve(Model):
    arrived: bool
    deliveries: list[int] | None = Field(default=None, max_length=1000)  # None: all that are unconfirmed


class Guardrail(Model):
    kind: str
    place: str
    name: str
    guardrail: str
    k: int
    n: int
    limit: float
    evidence: float
    state: Literal["within limit", "near limit", "over limit"]


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
    paused_why: str
    evidence: list[Guardrail]
    too_small: list[Shows]
    providers: list[str]


class BatchThatFits(Model):
    largest: int
    rate: float
    busiest: float
    delivered: int
    responses: int
