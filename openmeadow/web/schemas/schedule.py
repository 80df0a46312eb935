"""Plans: batches, hours, guardrails."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from openmeadow.web.schemas.common import Model


class VariantIn(Model):
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
    pilot_share: float = 0.08
    batches: int = 3
    interval: int = 14_400
    order: Literal["most engaged first", "at random", "by time zone"] = "most engaged first"
    resend: bool = True
    resend_rule: Literal["not engaged", "opened, not clicked"] = "not engaged"
    wait: int = 259_200
    holdout_share: float = 0.1
    new_subject: str = ""
    variants: list[VariantIn] = []
    second: bool = False
    machine_only: bool = False
    suppress_after_days: int = 0
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
