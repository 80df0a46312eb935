"""The permission gate: may we mail these people, for this purpose, with this kind of message?

One computation over columns for a million people or for one; every reason that applies is kept, the first
decides (5-computation: permission gate).
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from openmeadow.core.columns import I8, I32, Mask

GIVEN, WITHDRAWN, AWAITING, NONE = 1, 2, 3, 0
CONSENT_STATES = ("none", "given", "withdrawn", "awaiting")
SUPPRESSION_REASONS = ("hard bounce", "complaint", "unsubscribed from all", "let go", "bad address", "other")

KINDS = ("campaign", "sequence", "confirmation", "consent request", "service")
_MARKETING = ("campaign", "sequence")
# reason -> the kinds of message it keeps away; the order is the order in which the first decides
REASONS: dict[str, tuple[str, ...]] = {
    "erased": KINDS,
    "suppressed": ("campaign", "sequence", "confirmation", "consent request"),
    "bounced for good": ("service",),
    "consent withdrawn": ("campaign", "sequence", "confirmation", "consent request"),
    "consent none": (*_MARKETING, "confirmation"),
    "awaiting confirmation": (*_MARKETING, "consent request"),
    "no prior relation stated": ("consent request",),
    "no contract or booking on record": ("service",),
    "asked for consent once already": ("consent request",),
    "paused by the subscriber": (*_MARKETING, "consent request"),
    "address not checked": (*_MARKETING, "consent request"),
    "inside a sequence that keeps campaigns away": ("campaign",),
    "too many messages": (*_MARKETING, "consent request"),
}
HARD_BOUNCE, BAD_ADDRESS, LEFT, LET_GO = (
    1 + SUPPRESSION_REASONS.index(r) for r in ("hard bounce", "bad address", "unsubscribed from all", "let go")
)
COME_BACK = [1 + SUPPRESSION_REASONS.index(r) for r in ("complaint", "unsubscribed from all", "let go")]
DAY = 86_400
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
    reasons: dict[str, Mask] = field(repr=False)

    @cached_property
    def permitted(self) -> Mask:
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

    def sieve(self, among: Mask) -> list[tuple[str, int]]:
        """How many of ``among`` each reason decided against, in order, leaving out the zeros."""
        counts = [(name, int((among & (self.first == i)).sum())) for i, name in enumerate(REASONS)]
        return [(name, count) for name, count in counts if count]

    def why_not(self, person: int) -> list[str]:
        return [name for name, mask in self.reasons.items() if mask[person]]


def ask(standing: Standing, kind: str) -> Answer:
    """The gate. ``kind`` is one of KINDS. Who complained, left everything or was let go and asks to join anew, by a
    form, is asked whether it was them; nobody else who is suppressed is."""
    s = standing
    back = np.isin(s.suppressed, COME_BACK) if kind == "confirmation" else np.False_
    masks: dict[str, Callable[[], Mask]] = {
        "erased": lambda: s.erased,
        "suppressed": lambda: np.asarray((s.suppressed > 0) & ~back),
        "bounced for good": lambda: (s.suppressed == HARD_BOUNCE) | (s.suppressed == BAD_ADDRESS),
        "consent withdrawn": lambda: s.consent == WITHDRAWN,
        "consent none": lambda: s.consent == NONE,
        "awaiting confirmation": lambda: s.consent == AWAITING,
        "no prior relation stated": lambda: ~s.related,
        "no contract or booking on record": lambda: ~s.related,
        "asked for consent once already": lambda: s.asked,
        "paused by the subscriber": lambda: s.paused,
        "address not checked": lambda: s.unchecked,
        "inside a sequence that keeps campaigns away": lambda: s.inside,
        "too many messages": lambda: (s.day >= s.most_a_day) | (s.week >= s.most_a_week) | s.filled,
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
