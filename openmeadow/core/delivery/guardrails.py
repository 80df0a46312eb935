"""Guardrails: limits that pause a campaign by themselves, by a test that may be looked at all the time.

With k events among n sends and a limit p0, the evidence is the mean over f in {2, 4, 8} of the likelihood ratio of
a true rate of f times the limit. While the true rate is at the limit the evidence is a martingale with mean 1, so that
it ever reaches 20 in fewer than 1 of 20 plans, however often one looks (Ville's inequality).
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

FACTORS = (2, 4, 8)
PAUSE_AT = 20.0
EVERY = 50  # sends between two looks
WATCH_SHARE, WATCH_EVENTS = 1 / 3, 3

LIMITS = {
    "complaints": 0.003,
    "hard bounces": 0.02,
    "unsubscribes": 0.01,
    "deferrals": 0.10,
    "blocked": 0.02,
    "spam placement": 0.20,
}


def evidence(k: int, n: int, limit: float) -> float:
    """L for k of n against a limit in (0, 1); infinite where it is beyond numbers."""
    if n <= 0:
        return 1.0
    k = min(k, n)
    total = 0.0
    for f in FACTORS:
        p = min(f * limit, 0.999)
        log = k * math.log(p / limit) + (n - k) * math.log((1 - p) / (1 - limit))
        if log > 700:
            return math.inf
        total += math.exp(log)
    return total / len(FACTORS)


Level = Literal["within limit", "near limit", "over limit"]


@dataclass(frozen=True)
class Reading:
    """One guardrail at one moment."""

    name: str
    k: int
    n: int
    limit: float
    evidence: float
    state: Level

    @property
    def sentence(self) -> str:
        """The reading as a sentence."""
        rate = 100 * self.k / self.n if self.n else 0.0
        return (
            f"{self.name.capitalize()}: {self.k:,} of {self.n:,} ({rate:.2f}%), over the limit of {100 * self.limit:g}%."
        )


def read(name: str, k: int, n: int, limit: float) -> Reading:
    """A guardrail's state from its counts."""
    found = evidence(k, n, limit)
    watch = k >= WATCH_EVENTS and n > 0 and k / n > limit * WATCH_SHARE
    return Reading(
        name, k, n, limit, found, "over limit" if found >= PAUSE_AT else "near limit" if watch else "within limit"
    )


def could_show(n: int, limit: float, factor: float = 3.0) -> bool:
    """Whether a true rate of ``factor`` times the limit would be expected to hold a campaign of n people at all."""
    return evidence(round(n * limit * factor), n, limit) >= PAUSE_AT


def enough(limit: float, factor: float = 3.0) -> int:
    """The smallest size, in looks, at which that would be expected."""
    n = EVERY
    while not could_show(n, limit, factor) and n < 1_000_000:
        n += EVERY
    return n
