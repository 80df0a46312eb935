"""The map, a person, importing."""

from __future__ import annotations

from typing import Literal

from pydantic import ConfigDict, Field

from openmeadow.core.ids import DeliveryId, SubscriberId
from openmeadow.core.states import JobState
from openmeadow.services.models.common import Model


class Grid(Model):
    words: list[str]
    cells: list[int] = Field(description="flat fine cell, word, people; and so on")


class Grids(Model):
    band: Grid
    provider: Grid
    year: Grid
    list: Grid
    gate: Grid


class MapView(Model):
    now: int
    day_words: list[str]
    left_words: list[str]
    day_edges: list[int]
    left_edges: list[int]
    fine_days: list[int] = Field(description="left edges of the fine columns; one more column is never engaged")
    fine_left: list[int]
    groups: Grids
    expected: list[float] = Field(description="who would engage with the next message: flat cell, people; and so on")
    subscribers: int
    purpose: str
    purposes: list[str]
    window_days: int
    gap_days: int


class MapRule(Model):
    rule: str


class Sums(Model):
    messages: list[float]
    delivered: list[float]
    engagements: list[float]
    opens: list[float]
    clicks: list[float]
    bookings: list[float]
    worth: list[float]
    complaints: list[float]
    hard_bounces: list[float]
    unsubscribes: list[float]


class ReplayView(Model):
    months: int
    since: int
    until: int
    messages: int
    off: float = Field(description="share by which an estimate may be off, 95 times of 100; 0 where all was replayed")
    sums: Sums = Field(description="each: flat fine cell, value; and so on")
    for_good: Sums = Field(description="the same for cut-offs: who is beyond one gets nothing after it")


MOST_IDS = 10_000


class Ids(Model):
    ids: list[int]


class ChoiceIn(Model):
    """People by ids where given, else by rule, text and bands; never those of ``without``."""

    rule: str = Field("", max_length=200_000)
    text: str = Field("", max_length=300)
    bands: list[str] = []
    ids: list[int] | None = Field(None, max_length=MOST_IDS)
    without: list[int] = Field([], max_length=MOST_IDS)
    also: list[Literal["Unproven", "Masked", "booked"]] = Field(
        [], description="whom an act that stops mailing leaves out unless they are named here"
    )


class ActionIn(Model):
    act: str
    argument: str = Field("", max_length=300)
    choice: ChoiceIn


class Spared(Model):
    """People of a choice whom an act that stops mailing leaves out unless they are ticked in."""

    group: Literal["Unproven", "Masked", "booked"]
    people: int
    words: str


class ActionPreview(Model):
    people: int
    spared: list[Spared]
    changes: int
    sentence: str


class ActionDone(Model):
    action: int
    job: int
    people: int


class Undone(Model):
    sentence: str
    job: int  # that does it, 0 where it is done


class ExportIn(Model):
    choice: ChoiceIn
    columns: list[str]
    form: Literal["csv", "ndjson"] = "csv"
    name: str = Field("", max_length=300)


class ExportColumns(Model):
    columns: list[str]
    usual: list[str]
    kept_days: float


class SourceFigures(Model):
    kind: str
    name: str
    people: int
    mailed: int
    first: int
    last: int
    engaged: int
    bounced: int
    complained: int
    left: int
    never_engaged: int
    bands: list[int]
    signs: list[str]
    rule: str


class Sources(Model):
    sources: list[SourceFigures]


class Shares(Model):
    all: int
    machines: int
    unsure: int


class ProviderOpens(Model):
    name: str
    opens: Shares
    clicks: Shares
    masked: int
    people: int


class Reason(Model):
    words: str
    opens: int
    clicks: int
    machine: bool


class MachineOpens(Model):
    days: int
    as_of: int
    listed: int
    providers: list[ProviderOpens]
    reasons: list[Reason]


class Step(Model):
    """A message in "why this score": what became of it, and the chance after it."""

    message: str
    at: int
    what: str
    counts: bool
    chance: float


class Why(Model):
    """Why somebody has their score, in counts. Chances are shares of 1; ``counted_engaged`` of ``counted`` messages were
    engaged with, the last of them being number ``last_engaged_at_message``; ``engaged`` is of all time."""

    score: float
    chance: float
    active: float
    rate: float
    band: str
    engaged: int
    ignored: int
    counted: int
    counted_engaged: int
    last_engaged_at_message: int
    ignored_now: int
    ignored_before: int
    if_engaged: float
    if_ignored: float
    masked: bool
    own_history: bool = Field(description="whether the workspace has enough history for a model of its own")
    last_engaged: int | None
    as_of: int
    window_days: int
    settled_days: float
    steps: list[Step]


class ScorePart(Model):
    """People with about the same chance: the mean of what was expected, and the share who engaged."""

    expected: float
    observed: float
    people: int


class ScoreCheck(Model):
    """The score held against the last mailings; figures are None where there is nothing to tell them from."""

    auc: float | None
    auc_recency: float | None
    auc_90_days: float | None
    brier: float | None
    calibration_error: float | None
    tenths: list[ScorePart]
    mailings: int
    people: int
    checked_at: int


class ScoreModel(Model):
    """The parameters that stand, and what they were fitted on; ``own`` is False for the defaults."""

    alpha: float
    beta: float
    gamma: float
    delta: float
    people: int
    messages: int
    own: bool
    intercept: float  # of the adjustment to what the last mailings showed, on log odds; 0 and 1 for none
    slope: float
    fitted_at: int


class ScoreChecked(Model):
    check: ScoreCheck | None
    model: ScoreModel


class Happened(Model):
    at: int
    event: str
    message: str
    link: str
    agent: str
    ip: str
    code: str
    diagnostic: str
    value: float
    who: str
    because: str
    delivery: DeliveryId | None  # of a message sent from here, whose source can be read


class Permission(Model):
    purpose: str
    permitted: bool
    reasons: list[str]


class ConsentEntry(Model):
    purpose: str
    channel: str
    state: str
    at: int
    source: str
    wording: str
    wording_text: str = Field(description="what was shown, word for word")
    method: str = Field(description="how it was said: a form, a confirmation link, by hand …")
    page: str


class Suppressed(Model):
    reason: str
    at: int
    source: str


class Note(Model):
    id: int
    subscriber: SubscriberId
    at: int
    who: str
    text: str


class NoteIn(Model):
    text: str = Field(max_length=5_000)


class Enrolment(Model):
    name: str
    entered_at: int
    left_at: int | None
    finished: bool


class Verdict(Model):
    verdict: str
    reasons: list[str]
    suggestion: str
    at: int


class AddressIn(Model):
    email: str = Field(max_length=320)


class PersonIn(Model):
    name: str | None = None
    time_zone: str | None = None
    language: str | None = None
    country: str | None = None
    labels: list[str] | None = None
    fields: dict[str, str] | None = None


class ReturnedMail(Model):
    id: int
    at: int
    kind: str
    diagnostic: str


class Person(Model):
    id: int
    email: str
    name: str
    joined_at: int
    source: str
    provider: str
    time_zone: str
    language: str
    country: str
    lists: list[str]
    labels: list[str]
    fields: dict[str, str]
    trace: str
    why: Why
    permission: list[Permission]
    events: list[Happened]
    consent: list[ConsentEntry]
    suppressed: list[Suppressed]
    returned: list[ReturnedMail]
    signs: list[str]
    notes: list[Note]
    sequences: list[Enrolment]
    verdict: Verdict | None


class ValueLine(Model):
    value: str
    count: int
    state: str = Field(description="the state of consent it is taken for; empty for none")


class Upload(Model):
    upload: str
    kind: Literal["subscribers", "events"]
    name: str
    header: list[str]
    targets: list[str]
    sample: list[list[str]]
    known: list[str]
    bytes: int
    encoding: str = "utf-8"
    separator: str = "comma"
    dates: dict[str, list[str]] = {}
    values: dict[str, list[ValueLine]] = Field({}, description="of each column of consent what its values are taken for")
    purposes: list[str] = []
    fields: list[str] = Field([], description="the fields that subscribers have")
    styles: dict[str, str] = Field({}, description="the ways dates are written, each with an example")
    remembered: bool = False


class LookAgain(Model):
    upload: str
    encoding: str = "utf-8"
    corrections: dict[str, str] = {}


class ImportIn(Model):
    upload: str
    kind: Literal["subscribers", "events"]
    corrections: dict[str, str] = {}
    list_name: str = ""
    source: str = ""
    consent: dict[str, Literal["given", "withdrawn", "pending", "none"]] = {}
    wording: str = Field("", max_length=10_000)
    values: dict[str, dict[str, str]] = {}
    encoding: str = "utf-8"
    dates: dict[str, str] = {}
    suppressed: str = ""
    check: bool = False
    dry_run: bool = True


class Refusal(Model):
    line: int
    column: str
    reason: str


class Outcome(Model):
    model_config = ConfigDict(extra="ignore", json_schema_serialization_defaults_required=True)
    error: str = ""
    rows: int = 0
    taken: int = 0
    repeated: int = 0
    aside: int = 0
    refused: int = 0
    aside_addresses: list[str] = []
    refused_rows: list[Refusal] = []
    notes: list[str] = []
    dry_run: bool = False
    action: int | None = None
    people: int = 0
    permitted: dict[str, int] = {}
    typos: int = 0
    disposable: int = 0
    file: str = ""
    verdicts: dict[str, int] = {}
    sentence: str = ""


class Job(Model):
    id: int
    kind: str
    state: JobState
    done: int
    total: int
    outcome: Outcome | None
    made_at: int
    name: str
    dry_run: bool


class Jobs(Model):
    jobs: list[Job]
