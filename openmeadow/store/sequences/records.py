"""Sequences and enrolments, as the store gives them."""

from __future__ import annotations

from dataclasses import dataclass

from openmeadow.core.ids import EnrolmentId, MessageId, PurposeId, SequenceId, SubscriberId
from openmeadow.core.states import DeliveryState, SendKind, SequenceState
from openmeadow.store.rows import Record


@dataclass(frozen=True, slots=True)
class Sequence(Record):
    """``definition`` as JSON."""

    id: SequenceId
    name: str
    state: SequenceState
    definition: str
    version: int
    seed: int
    made_at: int
    started_at: int | None
    purpose: PurposeId | None
    from_address: int | None
    from_name: str
    seen_event: int
    seen_consent: int
    paused_why: str
    purpose_name: str | None


@dataclass(frozen=True, slots=True)
class SequenceLine(Record):
    id: SequenceId
    name: str
    state: SequenceState
    paused_why: str
    definition: str
    made_at: int
    started_at: int | None
    purpose_name: str | None
    active: int
    finished: int
    queued: int


@dataclass(frozen=True, slots=True)
class SequenceVersion(Record):
    n: int
    at: int
    who: str
    definition: str


@dataclass(frozen=True, slots=True)
class NextStep(Record):
    at: int
    name: str


@dataclass(frozen=True, slots=True)
class StepsOfHour(Record):
    sequence: SequenceId
    name: str
    hour: int
    people: int


@dataclass(frozen=True, slots=True)
class StepCount(Record):
    step: int
    people: int
    mailing: int
    next: int | None


@dataclass(frozen=True, slots=True)
class LeftCount(Record):
    step: int
    why: str | None
    people: int


@dataclass(frozen=True, slots=True)
class Waiting(Record):
    id: int
    subscriber: SubscriberId
    email: str
    name: str | None
    since: int
    due_at: int | None
    run: int
    again: int | None


@dataclass(frozen=True, slots=True)
class Enrolment(Record):
    id: EnrolmentId
    sequence: SequenceId
    subscriber: SubscriberId
    entered_at: int
    left_at: int | None
    finished: bool
    run: int
    version: int
    path: int
    step: int
    since: int
    due_at: int | None
    exit_reason: str | None
    holdout: bool


@dataclass(frozen=True, slots=True)
class ZonedEnrolment(Enrolment):
    time_zone: str | None


@dataclass(frozen=True, slots=True)
class MailedEnrolment(ZonedEnrolment):
    """An enrolment that waits for its message: the delivery's state and reason."""

    delivery: DeliveryState
    reason: str | None


@dataclass(frozen=True, slots=True)
class EnrolledPerson(ZonedEnrolment):
    email: str


@dataclass(frozen=True, slots=True)
class SentMail(Record):
    """A message of a step that went out, or would have to the holdout group."""

    step: int
    kind: SendKind
    message: MessageId | None
    subscriber: SubscriberId
    enrolment: int | None
    at: int
    state: DeliveryState
    reason: str | None
    holdout: bool
    chance: int | None  # to engage, as it was when the step came, in ten-thousandths


@dataclass(frozen=True, slots=True)
class QueuedPerson(Record):
    subscriber: SubscriberId
    provider: int


@dataclass(frozen=True, slots=True)
class InsideLine(Record):
    id: int
    subscriber: SubscriberId
    step: int
    path: int
    due_at: int | None
