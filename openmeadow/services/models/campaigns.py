"""Campaigns: message, recipients, checks."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, JsonValue

from openmeadow.core.delivery.plan import Plan
from openmeadow.core.ids import CampaignId, DeliveryId, PurposeId, SubscriberId
from openmeadow.core.states import CampaignKind, CampaignState, Side
from openmeadow.services.models.common import Exclusion, Expectation, Model, NamedThing


class CampaignIn(Model):
    name: str | None = Field(None, max_length=200)
    purpose: PurposeId | None = None
    from_address: int | None = None
    from_name: str | None = Field(None, max_length=200)
    reply_to: str | None = Field(None, max_length=320)
    subject: str | None = Field(None, max_length=500)
    preview: str | None = Field(None, max_length=500)
    html: str | None = Field(None, max_length=1_000_000)
    plain: str | None = Field(None, max_length=1_000_000)
    blocks: list[dict[str, JsonValue]] | None = None
    segments_in: list[int] | None = None
    segments_out: list[int] | None = None
    lists_in: list[str] | None = None
    lists_out: list[str] | None = None
    with_sequences: bool | None = None
    track_opens: bool | None = None
    track_clicks: bool | None = None
    plan: Plan | None = None


class Check(Model):
    check: str
    level: Literal["blocker", "warning", "note"]
    finding: str
    fix: str
    may_override: bool
    overridden: str


class InOrder(Model):
    check: str
    words: str


class Checks(Model):
    checks: list[Check]
    passed: list[InOrder]


class OverrideIn(Model):
    check: str
    finding: str
    reason: str = Field("", max_length=1000)


class ChosenPerson(Model):
    id: int
    email: str
    side: Side


class ChooseIn(Model):
    email: str = Field(max_length=320)
    side: Literal["in", "out", ""]


class Excluded(Model):
    count: int
    people: list[NamedThing]


class CampaignLine(Model):
    id: int
    name: str
    kind: str
    state: str
    subject: str
    purpose: str
    people: int
    delivered: int
    opened: int  # by people, as clicked
    clicked: int
    engaged: int | None  # people, of the mailing once it was settled; None before, as expected
    expected: float | None
    made_at: int
    started_at: int | None
    archived: bool


class CampaignLines(Model):
    campaigns: list[CampaignLine]


class Version(Model):
    n: int
    letter: str
    at: int
    who: str
    subject: str
    preview: str
    html: str
    plain: str
    sent: int


class Approval(Model):
    needed: bool
    asked_by: str
    asked_at: int | None
    approved_by: str
    expired: bool


class ChangeIn(Model):
    subject: str | None = Field(None, max_length=500)
    preview: str | None = Field(None, max_length=500)
    html: str | None = Field(None, max_length=1_000_000)
    plain: str | None = Field(None, max_length=1_000_000)
    blocks: list[dict[str, JsonValue]] | None = None
    forget: bool = False
    only_show: bool = False


class Differs(Model):
    part: str
    lines: list[list[str]]


class Changed(Model):
    version: str
    differs: list[Differs]
    waiting: int
    sent: int


class UseIn(Model):
    n: int = Field(ge=1, le=1_000)
    why: str = Field("", max_length=500)


class Override(Model):
    check: str
    finding: str
    reason: str
    who: str


class Campaign(Model):
    id: int
    name: str
    kind: CampaignKind
    asks: list[str]
    chosen_people: int
    state: CampaignState
    external: bool
    message_name: str
    purpose: PurposeId | None
    purpose_name: str
    from_address: int | None
    from_text: str
    from_name: str
    reply_to: str
    subject: str
    preview: str
    html: str
    plain: str
    plain_edited: bool
    blocks: list[dict[str, JsonValue]] | None
    segments_in: list[int]
    segments_out: list[int]
    lists_in: list[str]
    lists_out: list[str]
    lists: list[Exclusion]
    chosen: list[ChosenPerson]
    with_sequences: bool
    track_opens: bool
    track_clicks: bool
    plan: Plan
    versions: list[Version]
    version: str
    approval: Approval
    checks: list[Check]
    purposes: list[NamedThing]
    fields: list[str]
    links: list[str]
    sequence: NamedThing | None
    unconfirmed: int
    untouched: bool = Field(description="started, and nothing has been tried yet: the start can be undone")
    at_start: list[Exclusion]
    overrides: list[Override]


class RecipientsView(Model):
    exclusions: list[Exclusion]
    bands: list[int]
    providers: list[Exclusion]
    zones: list[Exclusion]
    count: int
    expected: Expectation


class TestTo(Model):
    to: str = Field(max_length=320)
    subscriber: SubscriberId = SubscriberId(Field(default=0, ge=0, lt=2**63))  # as whom it is written; 0 is nobody


class Support(Model):
    what: str
    web: Literal["supported", "partly", "removed"]
    desktop: Literal["supported", "partly", "removed"]
    phone: Literal["supported", "partly", "removed"]
    instead: str


class FieldValue(Model):
    field: str
    value: str


class Preview(Model):
    subject: str
    preview: str
    html: str
    plain: str
    person: str
    subscriber: SubscriberId
    values: list[FieldValue]
    support: list[Support]
    problems: list[str]  # conditions that cannot be read
    hosted: list[str]  # hosts of images that the preview does not fetch


class ArchiveIn(Model):
    archived: bool


class CampaignBegin(Model):
    name: str = Field(max_length=200)
    template: int = 0
    campaign: CampaignId = CampaignId(0)


class Template(Model):
    id: int
    name: str
    subject: str
    made_at: int
    who: str
    by_blocks: bool


class Templates(Model):
    templates: list[Template]


class Image(Model):
    id: int
    url: str
    name: str
    width: int
    height: int
    bytes: int


class Images(Model):
    images: list[Image]


class Layout(Model):
    logo: str = Field("", max_length=1000)
    logo_alt: str = Field("", max_length=300)
    colour: str = "#33478F"
    paper: str = "#FFFFFF"
    footer: str = Field("", max_length=20_000)
    postal_address: str = Field("", max_length=500)
    require_approval: bool = False
    conversion_id: bool = False
    hidden_link: bool = True


class UnconfirmedDelivery(Model):
    delivery: DeliveryId
    subscriber: SubscriberId
    email: str
    name: str
    message_id: str
    at: int
    why: str


class UnconfirmedList(Model):
    people: list[UnconfirmedDelivery]


class RelayLog(Model):
    text: str
    complete: bool = False  # whom it does not name did not get it


class RelayLogRead(Model):
    arrived: int
    again: int
    left: int


class RefusedGroup(Model):
    words: str
    example: str
    people: int


class RefusedGroups(Model):
    groups: list[RefusedGroup]


class RequeueIn(Model):
    words: str = Field(max_length=2000)


class TestCopy(Model):
    id: int
    at: int
    who: str
    recipient: str


class TestCopies(Model):
    copies: list[TestCopy]


class ExplainedHeader(Model):
    name: str
    value: str
    meaning: str


class MessageSource(Model):
    raw: str
    is_made_anew: bool  # from its version, person and moment; else as it went
    headers: list[ExplainedHeader]
