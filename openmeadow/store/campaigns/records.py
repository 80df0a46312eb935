"""Campaigns, their sends, batches and deliveries, as the store gives them."""

from __future__ import annotations

from dataclasses import dataclass, fields, replace
from typing import Self

from openmeadow.core.delivery.plan import Plan
from openmeadow.core.ids import CampaignId, MessageId, PurposeId, SequenceId
from openmeadow.core.states import CampaignKind, CampaignState, DomainState
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
        """The texts of a campaign, version or template."""
        return cls(source.subject, source.preview, source.html, source.plain, source.blocks)


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

    def changed_in(self, later: Campaign) -> bool:
        """Whether somebody changed the campaign since it was read. News of its sending domain, which is looked up
        beside, is none of its own."""
        own = {f.name: getattr(self, f.name) for f in fields(self) if f.name.startswith("domain_")}
        return replace(later, **own, selector=self.selector, private_key=self.private_key) != self


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
    archived_at: int | None
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
    preview: str
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
class LinkOfMessage(Record):
    """A link with the name of its message and of what that was about."""

    message: MessageId
    url: str
    message_name: str
    purpose_name: str | None


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
