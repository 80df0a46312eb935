"""Today, the foot line, find."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from openmeadow.services.models.account import Moving
from openmeadow.services.models.common import Model
from openmeadow.services.models.relay import RelayAway


class Status(Model):
    now: int
    scored_at: int
    window_days: int  # days without engagement after which somebody counts as inactive
    strong_from: float  # the scores from which somebody is Strong, and Steady
    steady_from: float
    own_history: bool  # whether the chance to engage is fitted on the workspace's own history
    subscribers: int
    permitted: int
    purpose: str
    next_at: int | None
    next_name: str
    complaints: int
    sent: int
    sending: int
    moving: Moving | None
    stamp: str = Field(description="changes when something that pages show may have changed")
    worker_silent: int | None  # seconds since the worker last reported, where that is over a minute; -1 for never
    relay: RelayAway | None
    catching_up: bool  # many new events are being read; pages show what was known before them
    outgoing_paused: bool  # since a restore


class Found(Model):
    kind: Literal["subscriber", "segment", "campaign", "sequence"]
    id: int
    name: str
    detail: str


class Finds(Model):
    finds: list[Found]


class Decision(Model):
    kind: str
    title: str
    detail: str
    link: str
    act: str


class DayRow(Model):
    link: str
    name: str
    kind: Literal["batch", "external", "sequence"]  # external: another program sends it
    n: int = Field(description="the batch's number, or the hour of the day in which people are due")
    due_at: int
    state: str
    people: int
    sent: int


class BasePoint(Model):
    at: int
    bands: list[int]


class Provider(Model):
    name: str
    people: int
    sent: int
    deferred: int
    bounced: int
    complained: int
    weeks: list[float] = Field(description="deferred share of each of the last 12 weeks")


class FirstStep(Model):
    key: str
    name: str
    state: Literal["done", "open", "skipped"]
    sentence: str
    link: str


class SkipStep(Model):
    key: str
    skipped: bool


class TodayView(Model):
    now: int
    decisions: list[Decision]
    day_rows: list[DayRow]
    base: list[BasePoint]
    base_missing: int
    providers: list[Provider]
    day: tuple[int, int]
    goes_out: int
    due_in_sequences: int
    first_steps: list[FirstStep] = Field(description="from nothing to a first campaign; none once something was sent")
