"""Subscribers, their consent, addresses and signups, as the store gives them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

from openmeadow.core.ids import PurposeId, SequenceId, SubscriberId
from openmeadow.core.states import SignupState, SunsetOutcome
from openmeadow.store.rows import Record


class NewSubscriber(NamedTuple):
    """What is written of a subscriber who is added, or merged into who is there by the same ``key``; ``fields`` as JSON."""

    email: str
    key: str
    name: str | None
    joined_at: int | None
    now: int
    time_zone: str | None
    language: str | None
    country: str | None
    provider: int
    fields: str
    source: int | None
    action: int | None


@dataclass(frozen=True, slots=True)
class NamedRow(Record):
    id: int
    name: str


@dataclass(frozen=True, slots=True)
class Subscriber(Record):
    id: SubscriberId
    email: str
    email_key: str
    name: str | None
    joined_at: int
    time_zone: str | None
    language: str | None
    country: str | None
    provider: int
    source: int | None
    fields: dict[str, str]
    erased_at: int | None
    rejoined_at: int | None
    action: int | None


@dataclass(frozen=True, slots=True)
class SubscriberWithSource(Subscriber):
    source_name: str | None


@dataclass(frozen=True, slots=True)
class ConsentEntry(Record):
    """An entry of the consent log; ``state`` as in core/consent."""

    id: int
    subscriber: SubscriberId
    purpose: PurposeId
    channel: str
    state: int
    at: int
    method: str
    source: str | None
    wording: str | None
    reason: str | None
    list_id: int | None
    action: int | None
    said: str | None
    before: str | None
    void: bool
    wording_id: int | None
    wording_hash: str | None
    form: int | None
    page: str | None


@dataclass(frozen=True, slots=True)
class NamedEntry(ConsentEntry):
    """An entry with its purpose and the words that were shown."""

    purpose_name: str
    wording_text: str | None


@dataclass(frozen=True, slots=True)
class SealedEntry(NamedEntry):
    """An entry with whose it is."""

    email: str | None
    list_name: str | None


@dataclass(frozen=True, slots=True)
class Suppression(Record):
    """``reason`` as in core/consent/eligibility."""

    subscriber: SubscriberId
    reason: int
    at: int
    source: str
    action: int | None


@dataclass(frozen=True, slots=True)
class SuppressedPerson(Suppression):
    email: str
    name: str | None


@dataclass(frozen=True, slots=True)
class Note(Record):
    id: int
    subscriber: SubscriberId
    at: int
    who: str
    text: str


@dataclass(frozen=True, slots=True)
class Enrolled(Record):
    """Somebody's time in a sequence."""

    name: str
    id: int
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
class Verdict(Record):
    """What checks say of an address; ``verdict`` and ``reasons`` as in core/addresses."""

    subscriber: SubscriberId
    verdict: int
    reasons: list[str]
    suggestion: str | None
    at: int


@dataclass(frozen=True, slots=True)
class SunsetEnrolment(Record):
    id: int
    subscriber: SubscriberId
    began_at: int
    tries: int
    asked_for_click: int
    next_at: int
    ended_at: int | None
    outcome: SunsetOutcome | None


@dataclass(frozen=True, slots=True)
class Form(Record):
    """A signup form; ``reminders`` are seconds after the signup."""

    id: int
    list_id: int
    purposes: list[PurposeId]
    intro: str
    ask_name: bool
    confirm: bool
    reminders: list[int]
    is_open: bool
    mail_subject: str
    mail_text: str
    list_name: str


@dataclass(frozen=True, slots=True)
class FormCounts(Form):
    """A form with its signups by state."""

    joined: int
    pending: int
    confirmed: int
    expired: int


@dataclass(frozen=True, slots=True)
class Signup(Record):
    id: int
    form: int
    subscriber: SubscriberId
    purposes: list[PurposeId]
    at: int
    network: str
    state: SignupState
    mails: int
    next_mail_at: int | None
    confirmed_at: int | None
    shown: str
    page: str


@dataclass(frozen=True, slots=True)
class FormSignup(Signup):
    """A signup with its form."""

    list_id: int
    reminders: list[int]
    mail_subject: str
    mail_text: str
    list_name: str


@dataclass(frozen=True, slots=True)
class Burst(Record):
    """Signups of one network."""

    network: str
    n: int
    first: int
    last: int


@dataclass(frozen=True, slots=True)
class UnconfirmedSignup(Record):
    email_key: str
    at: int
    network: str


@dataclass(frozen=True, slots=True)
class SignupDay(Record):
    """A day's signups of a form by state."""

    form: int
    day: str
    joined: int
    pending: int
    confirmed: int
    expired: int


@dataclass(frozen=True, slots=True)
class AddressChange(Record):
    id: int
    subscriber: SubscriberId
    email: str
    asked_at: int
    done_at: int | None
    mail_at: int | None
    told_at: int | None
    before: str


@dataclass(frozen=True, slots=True)
class SuggestedAddress(Record):
    subscriber: SubscriberId
    suggestion: str
    email: str
    email_key: str
    provider: int


@dataclass(frozen=True, slots=True)
class Slip(Record):
    """A domain that was typed, the one that was meant, how often, and an example."""

    typed: str
    meant: str
    count: int
    example: str


@dataclass(frozen=True, slots=True)
class Purpose(Record):
    """What people agree to; ``wording_id``, ``version`` and ``text`` of its present wording."""

    id: PurposeId
    name: str
    basis: str
    transactional: bool
    retired: bool
    wording_id: int | None
    version: int | None
    text: str | None


@dataclass(frozen=True, slots=True)
class Wording(Record):
    id: int
    purpose: PurposeId
    version: int
    text: str
    made_at: int


@dataclass(frozen=True, slots=True)
class AgreedWording(Wording):
    """``people`` have agreed to it."""

    people: int
