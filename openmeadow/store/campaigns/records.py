"""Campaigns, their sends, batches and deliveries, as the store gives them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Self

from openmeadow.core.delivery.plan import Plan
from openmeadow.core.ids import BatchId, CampaignId, DeliveryId, MessageId, PurposeId, SequenceId, SubscriberId
from openmeadow.core.states import BatchState, CampaignKind, CampaignState, DeliveryState, DomainState, SendKind, Side
from openmeadow.store.rows import Record


@dataclass(frozen=True, slots=True)
class Texts(Record):
    """What a message says; ``blocks`` as JSON where it is written by blocks."""

    subject: str
    preview: str
    html: str
    plain: str
    blocks: str | None

    @classmethod
    def of(cls, source: Campaign | Version | Template) -> Self:
        return cls(source.subject, source.preview, source.html, source.plain, source.blocks)


@dataclass(frozen=True, slots=True)
class Addressed:
    """Whom one message is written to; delivery 0 is a test or a preview."""

    id: int
    subscriber: SubscriberId
    email: str
    version: int | None


@dataclass(frozen=True, slots=True)
class Campaign(Record):
    """A campaign or a message of a sequence, with its purpose, from address and sending domain."""

    id: CampaignId
    name: str
    purpose: PurposeId | None
    from_address: int | None
    from_name: str
    subject: str
    preview: str
    html: str
    plain: str
    plain_edited: bool
    segments_in: list[int]
    segments_out: list[int]
    plan: Plan
    seed: int
    state: CampaignState
    exclusions: list[tuple[str, int]]
    message: MessageId | None
    made_at: int
    started_at: int | None
    kind: CampaignKind
    asks: list[str]
    paused_why: str
    paused_evidence: str
    guard_from: int
    lists_in: list[str]
    lists_out: list[str]
    with_sequences: bool
    blocks: str | None
    track_opens: bool
    track_clicks: bool
    version: int
    asked_at: int | None
    asked_by: str | None
    approved_at: int | None
    approved_by: str | None
    approved_as: str | None
    sequence: SequenceId | None
    step: int | None
    gate: str
    external: bool
    reply_to: str
    purpose_name: str | None
    from_text: str | None
    confirmed_at: int | None
    domain_name: str | None
    domain_id: int | None
    domain_state: DomainState | None
    selector: str | None
    private_key: str | None


@dataclass(frozen=True, slots=True)
class ConsentRequest(Record):
    """A consent request that was started."""

    id: int
    name: str
    message: MessageId
    state: CampaignState
    started_at: int
    asks: list[str]
    message_name: str
    plan: Plan


@dataclass(frozen=True, slots=True)
class CampaignLine(Record):
    """A line of the list of campaigns; ``people`` are those of its first send."""

    id: CampaignId
    name: str
    kind: CampaignKind
    state: CampaignState
    paused_why: str
    subject: str
    made_at: int
    started_at: int | None
    message: MessageId | None
    purpose_name: str | None
    people: int


@dataclass(frozen=True, slots=True)
class WaitingPlan(Record):
    id: CampaignId
    name: str
    state: CampaignState


@dataclass(frozen=True, slots=True)
class ExternalPlan(Record):
    """A plan that another system sends."""

    id: CampaignId
    message: MessageId


@dataclass(frozen=True, slots=True)
class CampaignText(Record):
    id: CampaignId
    name: str
    subject: str
    html: str
    plain: str


@dataclass(frozen=True, slots=True)
class CalledMessage(Record):
    """The message of a name: whether anything is known of it, and whose it is."""

    id: int
    heard: bool
    campaign: str | None


@dataclass(frozen=True, slots=True)
class Link(Record):
    id: int
    message: MessageId
    url: str
    trap: bool


@dataclass(frozen=True, slots=True)
class ApprovalWanted(Record):
    id: CampaignId
    name: str
    asked_by: str
    sequence: SequenceId | None


@dataclass(frozen=True, slots=True)
class StartedCampaign(Record):
    """``resent``: its resend has gone out to somebody."""

    id: CampaignId
    name: str
    subject: str
    message: MessageId
    resent: bool


@dataclass(frozen=True, slots=True)
class Version(Record):
    """The text of a campaign as it was at a moment."""

    campaign: CampaignId
    n: int
    at: int
    who: str
    subject: str
    preview: str
    html: str
    plain: str
    blocks: str | None


@dataclass(frozen=True, slots=True)
class SentVersion(Version):
    """``sent``: messages that said it."""

    sent: int


@dataclass(frozen=True, slots=True)
class Override(Record):
    """A finding of the checks that somebody overruled, with the reason."""

    campaign: CampaignId
    name: str
    finding: str
    reason: str
    who: str
    at: int


@dataclass(frozen=True, slots=True)
class LinkCheck(Record):
    """What a link answered; ``status`` 0 for nothing."""

    url: str
    at: int
    status: int
    said: str


@dataclass(frozen=True, slots=True)
class Template(Record):
    id: int
    name: str
    subject: str
    preview: str
    html: str
    plain: str
    plain_edited: bool
    blocks: str | None
    made_at: int
    who: str


@dataclass(frozen=True, slots=True)
class Image(Record):
    """``bytes`` is its size in octets."""

    id: int
    hash: str
    name: str
    kind: str
    bytes: int
    width: int
    height: int
    alt: str
    at: int
    who: str


@dataclass(frozen=True, slots=True)
class TestCopyLine(Record):
    id: int
    at: int
    who: str
    recipient: str


@dataclass(frozen=True, slots=True)
class TestCopy(Record):
    """A test message as it was sent."""

    id: int
    campaign: CampaignId
    at: int
    who: str
    recipient: str
    raw: bytes


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
