"""Sequences: the definition, who stands where, the walk-through."""

from __future__ import annotations

from pydantic import Field

from openmeadow.core.ids import CampaignId, PurposeId, SubscriberId
from openmeadow.services.models.common import Model, NamedThing


class StepIn(Model):
    key: int
    kind: str
    path: int = 1
    meets: bool = True
    off: bool = False
    name: str = ""
    wait: int = 0
    hour: int | None = None
    weekdays: list[int] = Field(default_factory=list)
    own_zone: bool = False
    asks: str = "engaged"
    of: int = 0
    rule: str = ""
    yes: str = "continue"
    no: str = "follow-up path"
    value: str = ""
    take: bool = False
    subject: str = ""
    preview: str = ""
    purposes: list[str] = Field(default_factory=list)


class TriggerIn(Model):
    on: str = "manual"
    what: str = ""
    yearly: bool = True
    again_after: int | None = None
    a_day: int = Field(default=0, ge=0)
    first_day: int = Field(default=0, ge=0)
    a_provider: int = Field(default=0, ge=0)
    random: bool = False


class ExitIn(Model):
    engaged: bool = False
    confirmed: bool = False
    booked: bool = False
    rule: str = ""


class DefinitionIn(Model):
    steps: list[StepIn] = Field(default_factory=list)
    begin: TriggerIn = Field(default_factory=TriggerIn)
    leave: ExitIn = Field(default_factory=ExitIn)
    holdout: float = 0.0
    hours: tuple[int, int] = Field((0, 24), description="local hours from and until which its messages go out")


class SequenceIn(Model):
    name: str
    ready: str = ""


class SequenceChange(Model):
    """What is not given stays. ``going`` says where people at a step that is taken away go: another step's key, or out."""

    name: str | None = None
    purpose: PurposeId | None = None
    from_address: int | None = None
    from_name: str | None = None
    definition: DefinitionIn | None = None
    going: dict[str, str] = Field(default_factory=dict)


class SequenceStart(Model):
    with_those_there: bool = False


class SequencePeople(Model):
    """Who is put in: addresses, or the people of a rule, a segment or a list."""

    emails: list[str] = Field(default_factory=list)
    rule: str = ""


class SequenceLeft(Model):
    why: str
    people: int


class StepFigures(Model):
    here: int
    mailing: int
    next_at: int | None
    passed: int
    sent: int
    opened: int
    expected: float | None = Field(description="to engage, of the people ``of`` whose chance is known")
    of: int
    clicked: int
    deferred: int
    failed: int
    passed_over: int
    left: list[SequenceLeft]


class StepShown(Model):
    key: int
    title: str
    day: list[int] | None
    campaign: CampaignId | None
    subject: str
    state: str
    paused_why: str
    figures: StepFigures


class StepLack(Model):
    step: int
    sentence: str


class SequenceVersion(Model):
    n: int
    at: int
    who: str


class ResendAdds(Model):
    step: int
    sent: int
    first: int
    again: int
    together: int


class HoldoutComparison(Model):
    resent: int
    resend_engaged: int
    holdout: int
    holdout_engaged: int
    points: float
    low: float
    high: float
    verdict: str


class Beside(Model):
    campaigns: int
    people: int


class SequenceChoices(Model):
    lists: list[str]
    labels: list[str]
    segments: list[str]
    purposes: list[str]
    fields: list[str]


class SequenceFigures(Model):
    id: int
    name: str
    state: str
    paused_why: str  # where it paused itself
    version: int
    versions: list[SequenceVersion]
    started_at: int | None
    purpose: PurposeId | None
    purpose_name: str
    from_address: int | None
    from_name: str
    definition: DefinitionIn
    next_key: int  # for a new step: no other ever had it
    steps: list[StepShown]
    missing: list[StepLack]
    active: int
    queued: int
    there: int  # of a draft: for how many its beginning holds already
    finished: int
    left: list[SequenceLeft]
    added: list[ResendAdds]
    compared: HoldoutComparison | None
    portions: list[int]
    beside: Beside
    empty: str


class SequenceView(SequenceFigures):
    now: int
    addresses: list[NamedThing]
    purposes: list[NamedThing]
    choices: SequenceChoices
    begins: str


class SequenceLine(Model):
    id: int
    name: str
    state: str
    started_at: int | None
    active: int
    finished: int
    queued: int
    purpose: str
    messages: int
    days: int
    begins: str


class ReadySequence(Model):
    key: str
    name: str
    sentence: str


class SequenceList(Model):
    sequences: list[SequenceLine]
    ready: list[ReadySequence]


class PeopleAdded(Model):
    queued: int
    there: int = 0
    portions: list[int] = Field(default_factory=list)
    unknown: list[str] = Field(default_factory=list, description="addresses named that belong to no subscriber")


class PeopleMoved(Model):
    late: int
    days: int


class PeopleAtStep(Model):
    id: int
    subscriber: SubscriberId
    email: str
    name: str
    since: int
    goes: int | None


class PersonAtStep(Model):
    people: list[PeopleAtStep]
    total: int


class WalkDay(Model):
    at: int
    day: int
    step: int
    what: str
    said: str
    kind: str
    title: str
    subject: str
    campaign: CampaignId | None
    note: str


class WalkThrough(Model):
    who: str
    supposed: str
    days: list[WalkDay]
