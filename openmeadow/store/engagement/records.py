"""Events as the store gives them."""

from __future__ import annotations

from dataclasses import dataclass

from openmeadow.core.ids import MessageId, SubscriberId
from openmeadow.store.rows import Record


@dataclass(frozen=True, slots=True)
class FirstSent(Record):
    subscriber: SubscriberId
    at: int


@dataclass(frozen=True, slots=True)
class BounceCount(Record):
    code: str | None
    diagnostic: str | None
    people: int


@dataclass(frozen=True, slots=True)
class Event(Record):
    id: int
    at: int
    kind: int
    subscriber: SubscriberId
    message: MessageId
    link: int
    agent: int
    value: float
    code: str | None
    diagnostic: str | None
    outside_id: str | None


@dataclass(frozen=True, slots=True)
class SubscriberEvent(Event):
    """An event with what it is about."""

    message_name: str | None
    url: str | None
    trap: bool | None
    agent_text: str | None
    ip: str | None


@dataclass(frozen=True, slots=True)
class ExportedEvent(Event):
    email: str
    message_name: str | None
    url: str | None
    agent_name: str | None
    ip: str | None


@dataclass(frozen=True, slots=True)
class AsideEvent(Record):
    """``row`` as it stood in the file."""

    id: int
    row: str


@dataclass(frozen=True, slots=True)
class Reply(Record):
    subscriber: SubscriberId
    email: str
    at: int


@dataclass(frozen=True, slots=True)
class ForgottenEvent(Record):
    at: int
    kind: int
    subscriber: SubscriberId
    message: MessageId
    code: str | None
    diagnostic: str | None


@dataclass(frozen=True, slots=True)
class ProviderWeek(Record):
    """Events of a provider and kind, so many weeks ago; ``month`` are those within the month."""

    provider: int
    kind: int
    week: int
    month: int
    n: int


@dataclass(frozen=True, slots=True)
class MessageHours(Record):
    """How many of a message were sent, and from when on."""

    message: MessageId
    sent: int
    began: int
