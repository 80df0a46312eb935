"""Every state, kind and outcome that the database keeps as a word; each is also a CHECK of its column."""

from __future__ import annotations

from enum import StrEnum


class CampaignState(StrEnum):
    DRAFT = "draft"
    SCHEDULED = "scheduled"
    SENDING = "sending"
    PAUSED = "paused"
    FINISHED = "finished"
    STOPPED = "stopped"


UNDER_WAY = (CampaignState.SCHEDULED, CampaignState.SENDING, CampaignState.PAUSED)


class CampaignKind(StrEnum):
    CAMPAIGN = "campaign"
    CONSENT_REQUEST = "consent request"


class SendKind(StrEnum):
    """What a part of a campaign is: the mailing, or a resend to those who did not engage."""

    FIRST = "first"
    RESEND = "resend"
    SECOND_RESEND = "second resend"


class BatchState(StrEnum):
    SCHEDULED = "scheduled"
    SENDING = "sending"
    SENT = "sent"
    PAUSED = "paused"
    STOPPED = "stopped"


OPEN_BATCHES = (BatchState.SCHEDULED, BatchState.SENDING)


class DeliveryState(StrEnum):
    """``SENDING`` is committed before DATA; ``UNCONFIRMED`` is what a crash left between DATA and its reply."""

    QUEUED = "queued"
    SENDING = "sending"
    SENT = "sent"
    DEFERRED = "deferred"
    FAILED = "failed"
    UNCONFIRMED = "unconfirmed"
    SKIPPED = "skipped"


class BounceClass(StrEnum):
    """What a bounce or rejection says about the address, or about the sender."""

    HARD = "hard"
    SOFT = "soft"
    BLOCKED = "blocked"
    UNKNOWN = "unknown"
    UNSENDABLE = "unsendable"  # nothing was said to the relay: it cannot carry this address


HOLDOUT = "holdout"  # the reason of a delivery that is kept back at random, to compare with


def failure_class(reason: str) -> str:
    """The class that a delivery's reason begins with, as in "hard: no such user"; "" where it has none."""
    return reason.partition(":")[0].partition(" ")[0]


class Side(StrEnum):
    """Where somebody chosen one by one belongs: among the recipients, or left out of them."""

    IN = "in"
    OUT = "out"


class SequenceState(StrEnum):
    DRAFT = "draft"
    RUNNING = "running"
    PAUSED = "paused"
    ENDED = "ended"


class DomainState(StrEnum):
    PASS = "pass"
    WARNING = "warning"
    FAIL = "fail"
    UNKNOWN = "unknown"


class KeyState(StrEnum):
    """A DKIM key beside the one in use: made and not yet published, signing too, or kept while its signatures are about."""

    NEXT = "next"
    SECOND = "second"
    OLD = "old"


class JobKind(StrEnum):
    SUBSCRIBERS = "subscribers"
    EVENTS = "events"
    ACT = "act"
    EXPORT = "export"
    ADDRESSES = "addresses"
    ADDRESS_FILE = "address file"


class JobState(StrEnum):
    WAITING = "waiting"
    WORKING = "working"
    PAUSED = "paused"
    FINISHED = "finished"
    FAILED = "failed"


class ClockState(StrEnum):
    WAITING = "waiting"
    MOVING = "moving"
    FINISHED = "finished"


class SignupState(StrEnum):
    PENDING = "pending"
    CONFIRMED = "confirmed"
    EXPIRED = "expired"


class SunsetOutcome(StrEnum):
    SUPPRESSED = "suppressed"
    ENGAGED = "engaged"
    NOT_PERMITTED = "no longer permitted"


class Folder(StrEnum):
    """Where a placement copy was found."""

    WAITING = "waiting"
    INBOX = "inbox"
    SPAM = "spam"
    MISSING = "missing"
    REFUSED = "refused"


class RelayState(StrEnum):
    UP = "up"
    AWAY = "away"


class Role(StrEnum):
    ANALYST = "analyst"
    WRITER = "writer"
    OBSERVER = "observer"


class Scope(StrEnum):
    """What a token may do."""

    READ = "read"
    EVENTS = "events"
    ALL = "all"


class LinkUse(StrEnum):
    """What a one-time link is for."""

    SIGN_IN = "sign in"
    SET_PASSWORD = "set password"
