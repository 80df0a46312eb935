"""Reports, placement and providers' figures, as the store gives them."""

from __future__ import annotations

from dataclasses import dataclass

from openmeadow.core.ids import CampaignId, MessageId, SubscriberId
from openmeadow.core.states import Folder
from openmeadow.store.rows import Record


@dataclass(frozen=True, slots=True)
class DayCount(Record):
    """Events of a day counted back from the end."""

    provider: int
    kind: int
    back: int
    code: str | None
    diagnostic: str | None
    n: int


@dataclass(frozen=True, slots=True)
class ProviderPeak(Record):
    provider: int
    most: int


@dataclass(frozen=True, slots=True)
class WaitingCopy(Record):
    id: int
    test: int
    provider: str
    address: str
    mark: str
    folder: Folder
    seen_at: int | None
    at: int


@dataclass(frozen=True, slots=True)
class PlacedCopy(Record):
    id: int
    at: int
    campaign: CampaignId | None
    campaign_name: str | None
    provider: str
    address: str
    folder: Folder
    seen_at: int | None


@dataclass(frozen=True, slots=True)
class PlacedDay(Record):
    provider: str
    folder: Folder
    back: int
    n: int


@dataclass(frozen=True, slots=True)
class ProviderFigure(Record):
    provider: str
    domain: str
    day: str
    complaint_rate: float | None
    standing: str | None
    taken_at: int


@dataclass(frozen=True, slots=True)
class AsideReason(Record):
    reason: str
    n: int
    last: int


@dataclass(frozen=True, slots=True)
class AsideMail(Record):
    id: int
    at: int
    recipient: str
    reason: str
    bytes: int


@dataclass(frozen=True, slots=True)
class DomainPeople(Record):
    domain: str
    provider: int
    people: int


@dataclass(frozen=True, slots=True)
class ReturnedMail(Record):
    id: int
    at: int
    hash: str
    kind: str
    subscriber: SubscriberId | None
    message: MessageId | None
    bounce_class: str | None
    code: str | None
    diagnostic: str | None
    raw: bytes


@dataclass(frozen=True, slots=True)
class ReturnedMailLine(Record):
    id: int
    at: int
    kind: str
    bounce_class: str | None
    code: str | None
    diagnostic: str | None


@dataclass(frozen=True, slots=True)
class ReportSource(Record):
    domain: str
    ip: str
    messages: int
    aligned: int
    spf: int
    dkim: int
    quarantined: int
    rejected: int
    reporters: str
    overrides: str | None
    acted: int
    last: int
    first: int
    dkim_domain: str
    spf_domain: str
    name: str | None
    ours: bool | None


@dataclass(frozen=True, slots=True)
class ReportDay(Record):
    domain: str
    day: str
    messages: int
    aligned: int


@dataclass(frozen=True, slots=True)
class RefusalCount(Record):
    provider: int
    kind: int
    code: str | None
    diagnostic: str | None
    n: int
    people: int
    first: int
    last: int


@dataclass(frozen=True, slots=True)
class MessageOfId(Record):
    id: int
    subscriber: SubscriberId
    message: MessageId | None


@dataclass(frozen=True, slots=True)
class BouncedSuppression(Record):
    subscriber: SubscriberId
    reason: int
    at: int
    source: str
    action: int | None


@dataclass(frozen=True, slots=True)
class AggregateReport(Record):
    """A DMARC report of a receiver; ``messages`` it counts."""

    id: int
    org: str
    report_id: str
    domain: str
    begin_at: int
    end_at: int
    policy: str
    taken_at: int
    messages: int | None
