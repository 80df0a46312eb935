"""The relay: its settings, its connections, its check."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from openmeadow.services.models.common import Model


class ConnectionKind(Model):
    mode: str
    version: str  # "" for a connection in clear
    verified: bool
    signed_in: bool
    first_at: int
    last_at: int
    connections: int


class RelayAway(Model):
    since: int
    meaning: str
    waiting: int


class RelayView(Model):
    host: str
    port: int
    mode: str
    user: str
    helo: str
    connections: list[ConnectionKind]
    away: RelayAway | None


class RelayCheckIn(Model):
    send_to: str = Field(default="", max_length=320)


class RelayCheck(Model):
    state: Literal["pass", "fail", "unknown"]
    host: str
    port: int
    mode: str
    version: str
    verified: bool
    signed_in: bool
    meaning: str


class PausedPlan(Model):
    id: int
    name: str
    waiting: int


class PausedOutgoing(Model):
    since: int
    as_of: int
    why: str
    plans: list[PausedPlan]


class Outgoing(Model):
    paused: PausedOutgoing | None


class OutgoingLog(Model):
    text: str


class AsideReason(Model):
    reason: str
    n: int
    last: int


class AsideMail(Model):
    id: int
    at: int
    recipient: str
    reason: str
    bytes: int


class InboundView(Model):
    reasons: list[AsideReason]
    latest: list[AsideMail]
    waiting: int  # messages that wait to be read
