"""Providers by day, refusals, obligations, receivers' reports, placement tests, address checks."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from openmeadow.core.states import Folder
from openmeadow.services.models.common import Model, NamedThing
from openmeadow.services.models.subscribers import ChoiceIn


class OwnFigures(Model):
    complaint_rate: float | None
    complaint_day: str
    standing: str
    day: str


class PlacementSeen(Model):
    """What a message's engagement at one provider says of its inbox placement; "too few" people show nothing."""

    message: str
    at: int
    people: int
    observed: int
    expected: float
    state: Literal["inbox", "spam", "too few"]


class ProviderDays(Model):
    name: str
    people: int
    days: dict[str, list[int]]
    limits: dict[str, float] = Field(description="of each measure, as a share: the provider's own or the workspace's")
    says: OwnFigures | None
    placement: list[PlacementSeen]  # by engagement, the earliest first


class Refusals(Model):
    provider: str
    kind: str
    text: str
    count: int
    first: int
    last: int


class Requirement(Model):
    requirement: str
    state: str
    evidence: str
    since: int | None


class Source(Model):
    domain: str
    ip: str
    messages: int
    aligned: int
    spf: int = Field(description="messages with an aligned SPF pass")
    dkim: int = Field(description="messages with an aligned DKIM pass")
    quarantined: int
    rejected: int
    reporters: list[str]
    overrides: list[str] = Field(description="why receivers did not follow the policy, in their words")
    acted: int
    first: int
    last: int
    signed_by: str
    name: str
    ours: bool


class ReportDay(Model):
    domain: str
    day: str
    messages: int
    aligned: int


class AggregateLine(Model):
    org: str
    report_id: str
    domain: str
    begin_at: int
    end_at: int
    policy: str
    messages: int


class PlacedCopy(Model):
    provider: str
    address: str
    folder: Folder
    seen_at: int | None


class PlacementTest(Model):
    id: int
    at: int
    campaign: str
    copies: list[PlacedCopy]


class Alerts(Model):
    to: list[str]
    url: str
    quiet_hours: str


class HealthView(Model):
    now: int
    days: int
    limits: dict[str, float]
    senders: list[NamedThing]
    looking: bool  # the worker is about to look up a sender, or to find copies just sent
    providers: list[ProviderDays]
    refusals: list[Refusals]
    requirements: list[Requirement]
    sources: list[Source]
    report_days: list[ReportDay]
    reports: list[AggregateLine]
    tests: list[PlacementTest]
    boxes: int
    words: Alerts


class SourceIn(Model):
    ip: str = Field(max_length=60)
    name: str = Field(max_length=200)
    ours: bool


class BouncesQuery(Model):
    provider: str = Field(max_length=200)
    since: int
    until: int


class BouncesFound(Model):
    people: int = Field(description="suppressed for a hard bounce there and then")


class UndoBouncesIn(Model):
    provider: str
    since: int
    until: int
    why: str = Field("", max_length=500)


class ImportedReport(Model):
    kind: str
    sentence: str


class ImportedReports(Model):
    taken: list[ImportedReport]


class VerdictReason(Model):
    words: str
    verdict: str
    count: int


class Typo(Model):
    typed: str
    meant: str
    count: int
    example: str


class AddressSummary(Model):
    counts: dict[str, int]
    unchecked: int
    reasons: list[VerdictReason]
    slips: list[Typo]
    required: bool


class AddressCheckIn(Model):
    choice: ChoiceIn
    ask_hosts: bool = False


class AddressCost(Model):
    people: int
    domains: int
    questions: int
    seconds: int


class AcceptIn(Model):
    typed: str = ""


class RequiredIn(Model):
    required: bool


class TypedIn(Model):
    text: str = Field(max_length=100_000)
    ask_hosts: bool = False


class TypedVerdict(Model):
    address: str
    verdict: str
    reasons: list[str]
    suggestion: str | None
    person: int | None


class TypedVerdicts(Model):
    verdicts: list[TypedVerdict]


class ImportedStatistics(Model):
    rows: int
    refused: list[str]
