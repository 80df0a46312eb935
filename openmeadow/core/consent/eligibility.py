"""The eligibility check: may these people be mailed, for this purpose, with this kind of message?

One computation over columns, for a million people or for one. Every reason that applies is kept; the first decides.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from functools import cached_property

import numpy as np

from openmeadow.core.arrays import I8, I32, Mask
from openmeadow.core.moments import DAY

GIVEN, WITHDRAWN, PENDING, NONE = 1, 2, 3, 0
CONSENT_STATES = ("none", "given", "withdrawn", "pending")
SUPPRESSION_REASONS = ("hard bounce", "complaint", "unsubscribed from all", "inactive", "bad address", "other")

KINDS = ("campaign", "sequence", "confirmation", "consent request", "service")
_MARKETING = ("campaign", "sequence")


class Reason(StrEnum):
    """Why a message is kept from somebody, as people read it."""

    ERASED = "erased"
    SUPPRESSED = "suppressed"
    HARD_BOUNCED = "hard bounced"
    WITHDRAWN = "consent withdrawn"
    NO_CONSENT = "no consent"
    PENDING = "confirmation pending"
    NO_RELATIONSHIP = "no existing relationship"
    NO_CONTRACT = "no contract or booking"
    ALREADY_ASKED = "already asked for consent"
    PAUSED = "paused by the subscriber"
    NOT_CHECKED = "address not checked"
    IN_SEQUENCE = "active in a sequence"
    FREQUENCY = "frequency limit"


# reason -> the kinds of message it keeps away; the order is the order in which the first decides
REASONS: dict[Reason, tuple[str, ...]] = {
    Reason.ERASED: KINDS,
    Reason.SUPPRESSED: ("campaign", "sequence", "confirmation", "consent request"),
    Reason.HARD_BOUNCED: ("service",),
    Reason.WITHDRAWN: ("campaign", "sequence", "confirmation", "consent request"),
    Reason.NO_CONSENT: (*_MARKETING, "confirmation"),
    Reason.PENDING: (*_MARKETING, "consent request"),
    Reason.NO_RELATIONSHIP: ("consent request",),
    Reason.NO_CONTRACT: ("service",),
    Reason.ALREADY_ASKED: ("consent request",),
    Reason.PAUSED: (*_MARKETING, "consent request"),
    Reason.NOT_CHECKED: (*_MARKETING, "consent request"),
    Reason.IN_SEQUENCE: ("campaign",),
    Reason.FREQUENCY: (*_MARKETING, "consent request"),
}
HARD_BOUNCE, BAD_ADDRESS, LEFT, SUPPRESSED_INACTIVE = (
    1 + SUPPRESSION_REASONS.index(r) for r in ("hard bounce", "bad address", "unsubscribed from all", "inactive")
)
COME_BACK = [1 + SUPPRESSION_REASONS.index(r) for r in ("complaint", "unsubscribed from all", "inactive")]
MOST_A_DAY, MOST_IN_7_DAYS = 1, 3


@dataclass(frozen=True)
class Standing:
    """Where each person stands; arrays of one length. ``suppressed`` is 0 or 1 + an index into
    SUPPRESSION_REASONS; ``consent`` the state for the purpose asked about; ``day``/``week`` count messages
    sent in the last 1 and 7 days (zeros leave the limit out); ``filled`` marks who asked for fewer messages and has
    had theirs. ``related`` has a prior relation on record (for a service: the one that its purpose names) and ``asked``
    was mailed a consent request: they matter for service messages and consent requests only. ``unchecked`` are those
    whose address has to be checked first, where the workspace requires that."""

    erased: Mask
    suppressed: I8
    consent: I8
    paused: Mask
    inside: Mask
    day: I32
    week: I32
    filled: Mask
    related: Mask
    asked: Mask
    unchecked: Mask
    most_a_day: int = MOST_A_DAY
    most_a_week: int = MOST_IN_7_DAYS


@dataclass(frozen=True)
class Answer:
    """``reasons`` maps each reason that this kind of message asks for to its mask, in the order in which the first
    decides."""

    people: int
    reasons: dict[Reason, Mask] = field(repr=False)

    @cached_property
    def permitted(self) -> Mask:
        """Who may be mailed."""
        against = np.zeros(self.people, bool)
        for mask in self.reasons.values():
            against |= mask
        return ~against

    @cached_property
    def first(self) -> I8:
        """The place in REASONS of the first reason that applies; -1 where permitted."""
        out = np.full(self.people, -1, np.int8)
        for i, name in reversed(list(enumerate(REASONS))):
            if name in self.reasons:
                out[self.reasons[name]] = i
        return out

    def exclusions(self, among: Mask) -> list[tuple[str, int]]:
        """How many of ``among`` each reason decided against, in order, leaving out the zeros."""
        counts = [(name, int((among & (self.first == i)).sum())) for i, name in enumerate(REASONS)]
        return [(name, count) for name, count in counts if count]

    def why_not(self, person: int) -> list[str]:
        """Every reason against one person, in words."""
        return [name for name, mask in self.reasons.items() if mask[person]]


def ask(standing: Standing, kind: str) -> Answer:
    """The eligibility check. ``kind`` is one of KINDS. Who complained, left everything or was suppressed and asks to
    join anew, by a
    form, is asked whether it was them; nobody else who is suppressed is."""
    s = standing
    back = np.isin(s.suppressed, COME_BACK) if kind == "confirmation" else np.False_
    masks: dict[Reason, Callable[[], Mask]] = {
        Reason.ERASED: lambda: s.erased,
        Reason.SUPPRESSED: lambda: np.asarray((s.suppressed > 0) & ~back),
        Reason.HARD_BOUNCED: lambda: (s.suppressed == HARD_BOUNCE) | (s.suppressed == BAD_ADDRESS),
        Reason.WITHDRAWN: lambda: s.consent == WITHDRAWN,
        Reason.NO_CONSENT: lambda: s.consent == NONE,
        Reason.PENDING: lambda: s.consent == PENDING,
        Reason.NO_RELATIONSHIP: lambda: ~s.related,
        Reason.NO_CONTRACT: lambda: ~s.related,
        Reason.ALREADY_ASKED: lambda: s.asked,
        Reason.PAUSED: lambda: s.paused,
        Reason.NOT_CHECKED: lambda: s.unchecked,
        Reason.IN_SEQUENCE: lambda: s.inside,
        Reason.FREQUENCY: lambda: (s.day >= s.most_a_day) | (s.week >= s.most_a_week) | s.filled,
    }
    return Answer(len(s.erased), {name: masks[name]() for name, kinds in REASONS.items() if kind in kinds})


def next_allowed(sent: Sequence[int], now: int, most_a_day: int = MOST_A_DAY, most_a_week: int = MOST_IN_7_DAYS) -> int:
    """The first moment from ``now`` on at which one more message is not too many, given the moments of those sent."""
    newest = sorted((t for t in sent if t <= now), reverse=True)
    out = now
    for most, seconds in ((most_a_day, DAY), (most_a_week, 7 * DAY)):
        if len(newest) >= most:
            out = max(out, newest[most - 1] + seconds)
    return out
