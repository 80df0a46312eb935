"""What the tables of sends, batches and deliveries give back."""

from __future__ import annotations

from dataclasses import dataclass

from openmeadow.core.ids import BatchId, CampaignId, DeliveryId, MessageId, PurposeId, SubscriberId
from openmeadow.core.states import BatchState, CampaignKind, CampaignState, DeliveryState, SendKind, Side
from openmeadow.store.rows import Record


@dataclass(frozen=True, slots=True)
class Send(Record):
    """One part of a campaign; ``variants`` as JSON."""

    id: int
    campaign: CampaignId
    kind: SendKind
    variants: str
    holdout_share: float


@dataclass(frozen=True, slots=True)
class Batch(Record):
    id: BatchId
    send: int
    n: int
    variant: int
    due_at: int
    state: BatchState
    people: int
    sent_at: int | None
    late: int
    campaign: CampaignId
    kind: SendKind
    variants: str
    holdout_share: float


@dataclass(frozen=True, slots=True)
class BatchCounts(Batch):
    """A batch with how many of its deliveries are in each state."""

    sent: int
    waiting: int
    deferred: int
    failed: int
    unconfirmed: int
    passed_over: int


@dataclass(frozen=True, slots=True)
class DueBatch(Record):
    id: BatchId
    campaign: CampaignId


@dataclass(frozen=True, slots=True)
class ComingBatch(Record):
    """A batch due between two moments; ``sent`` counts deliveries."""

    id: BatchId
    n: int
    variant: int
    due_at: int
    state: BatchState
    people: int
    kind: SendKind
    campaign: CampaignId
    name: str
    campaign_state: CampaignState
    external: bool
    sent: int


@dataclass(frozen=True, slots=True)
class ExternalPending(Record):
    campaign: CampaignId
    name: str
    kind: SendKind
    people: int


@dataclass(frozen=True, slots=True)
class Delivery(Record):
    """One person's message of a send."""

    id: DeliveryId
    send: int
    batch: BatchId
    subscriber: SubscriberId
    variant: int
    state: DeliveryState
    reason: str | None
    band: int
    attempts: int
    next_at: int | None
    changed_at: int | None
    version: int | None
    enrolment: int | None


@dataclass(frozen=True, slots=True)
class QueuedDelivery(Delivery):
    """A delivery that waits, with whom it goes to."""

    email: str
    name: str | None
    fields: dict[str, str]
    provider: int


@dataclass(frozen=True, slots=True)
class CampaignDelivery(Delivery):
    """A delivery with its campaign, which has started and so has a message."""

    campaign: CampaignId
    kind: SendKind
    variants: str
    message: MessageId
    purpose: PurposeId | None
    campaign_name: str
    campaign_kind: CampaignKind
    asks: list[str]


@dataclass(frozen=True, slots=True)
class BatchPerson(Record):
    id: int
    subscriber: SubscriberId
    state: DeliveryState
    reason: str | None


@dataclass(frozen=True, slots=True)
class MovedBatch(Record):
    id: BatchId
    due_at: int


@dataclass(frozen=True, slots=True)
class UnconfirmedCampaign(Record):
    id: CampaignId
    name: str
    people: int


@dataclass(frozen=True, slots=True)
class UnconfirmedDelivery(Record):
    id: DeliveryId
    subscriber: SubscriberId
    changed_at: int | None
    reason: str | None
    email: str
    name: str | None


@dataclass(frozen=True, slots=True)
class UnconfirmedWithEvent(Record):
    id: DeliveryId
    campaign: CampaignId


@dataclass(frozen=True, slots=True)
class SettledDelivery(Record):
    id: DeliveryId
    subscriber: SubscriberId
    batch: BatchId
    changed_at: int | None
    campaign: CampaignId


@dataclass(frozen=True, slots=True)
class UnderWay(Record):
    id: int
    name: str
    waiting: int


@dataclass(frozen=True, slots=True)
class FailedDelivery(Record):
    id: DeliveryId
    batch: BatchId
    attempts: int
    reason: str | None


@dataclass(frozen=True, slots=True)
class GuardedCampaign(Record):
    id: CampaignId
    name: str
    guard_from: int


@dataclass(frozen=True, slots=True)
class SentCount(Record):
    """Deliveries by what guardrails tell apart; ``again`` those tried more than once."""

    kind: SendKind
    batch: int  # its number
    provider: int
    state: DeliveryState
    reason: str | None
    again: bool
    n: int


@dataclass(frozen=True, slots=True)
class ReturnCount(Record):
    """Bounces, complaints and unsubscribes by what guardrails tell apart."""

    kind: SendKind
    batch: int  # its number
    provider: int
    event: int
    code: str | None
    diagnostic: str | None
    n: int


@dataclass(frozen=True, slots=True)
class TroubleCount(Record):
    """People of a domain or list that were tried, and how many of them are in trouble."""

    name: str
    n: int
    k: int


@dataclass(frozen=True, slots=True)
class ChosenPerson(Record):
    """Somebody chosen one by one, to be among the recipients or left out."""

    id: SubscriberId
    email: str
    side: Side
