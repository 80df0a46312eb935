"""Inbox placement seen from engagement: when a provider puts mail into the spam folder, its people do not engage while
everybody else's do.

Each recipient enters once, when half of the engagement that comes has come (``EARLY``). The likelihood of what came is
set beside that of a half, a quarter and a tenth of what was expected (a mixture, as for the guardrails)."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from math import exp, log

import numpy as np

from openmeadow.core.arrays import F64, Mask
from openmeadow.core.engagement.expected import FEW_MAILINGS, Level

EARLY = 0.5  # of engagement has come when somebody is looked at
FACTORS = (0.5, 0.25, 0.1)
LIKELY, DISPERSION = 20.0, 2.0
UNKNOWN_SPREAD = 2.0  # of a mailing's level, while too few mailings are known
USUAL_DISPERSION = 0.05  # of log ratios between providers, while history shows too little
FEWEST_EXPECTED = 10.0  # of a provider and mailing whose ratio tells of the dispersion
FEWEST_RATIOS, MEDIAN_OF_SQUARES = 12, 0.4549  # the median of chi-squared with one degree of freedom
MOST_CHANCE = 0.999


@dataclass(frozen=True)
class Group:
    """The recipients of one provider who were looked at: their chances to engage by then (chance times EARLY), and
    whether they had."""

    chance: F64
    engaged: Mask

    @property
    def expected(self) -> float:
        return float(self.chance.sum())

    @property
    def observed(self) -> int:
        return int(self.engaged.sum())

    def noise(self, ratio: float) -> float:
        """The variance that chances alone give the log of observed over expected, where ``ratio`` of them engages."""
        q = np.minimum(self.chance * ratio, MOST_CHANCE)
        return float((q * (1 - q)).sum()) / max(float(q.sum()), 0.5) ** 2

    @property
    def variance(self) -> float:
        """Of the number who engage, from chances alone."""
        return float((self.chance * (1 - self.chance)).sum())


@dataclass(frozen=True)
class Evidence:
    """``observed`` of ``people`` beside ``expected`` (their chances at the usual level); ``likelihood`` of a worse
    placement beside the usual one, LIKELY and more is told; ``could_show`` whether so few people could show it at all.
    ``others`` is observed over expected at the other providers."""

    people: int
    observed: int
    expected: float
    likelihood: float
    could_show: bool
    others: float

    @property
    def is_spam(self) -> bool:
        """Whether the spam folder is the likely reason."""
        return self.likelihood >= LIKELY and self.observed < self.expected


def ratio_of_others(groups: Mapping[int, Group], provider: int, usual: Level) -> float:
    """Observed over expected at the other providers, drawn towards the usual level as far as its spread allows: hardly
    where that is not known yet."""
    others = [g for p, g in groups.items() if p != provider]
    observed, expected = sum(g.observed for g in others), sum(g.expected for g in others)
    if expected <= 0:
        return usual.level
    noise = sum(g.variance for g in others) / expected**2
    prior = max(usual.spread if usual.mailings >= FEW_MAILINGS else UNKNOWN_SPREAD, 1e-6) ** 2
    weight = prior / (prior + noise)
    return float(weight * observed / expected + (1 - weight) * usual.level)


def _likelihood(q: F64, engaged: Mask) -> float:
    """The mean over FACTORS of how much likelier a factor of the chance makes what came."""
    k = int(engaged.sum())
    left = q[~engaged]
    logs = [k * log(f) + float(np.log((1 - f * left) / (1 - left)).sum()) for f in FACTORS]
    top = max(logs)
    return float(exp(min(700.0, top)) * sum(exp(v - top) for v in logs) / len(FACTORS))


def evidence(groups: Mapping[int, Group], provider: int, usual: Level, dispersion: float) -> Evidence:
    """What a campaign shows about one provider. ``dispersion`` is that of log ratios between providers of this workspace:
    the test allows for twice of it."""
    mine = groups[provider]
    others = ratio_of_others(groups, provider, usual)
    q = np.minimum(mine.chance * others * exp(-DISPERSION * dispersion), MOST_CHANCE)
    none = np.zeros(len(q), bool)
    return Evidence(
        people=len(q),
        observed=mine.observed,
        expected=mine.expected * usual.level,
        likelihood=_likelihood(q, mine.engaged),
        could_show=_likelihood(q, none) >= LIKELY,
        others=others,
    )


def dispersion(ratios: F64, variances: F64) -> float:
    """How far providers usually are from each other: the spread that log ratios (one a provider and mailing) have beside
    the variance that chances alone give each. By the median, so that mailings that landed in spam do not hide the next
    one."""
    if len(ratios) < FEWEST_RATIOS:
        return USUAL_DISPERSION
    off = (ratios - np.median(ratios)) ** 2

    def is_too_small(spread: float) -> bool:
        return bool(np.median(off / (variances + spread**2)) > MEDIAN_OF_SQUARES)

    low, high = 0.0, 2.0
    while high - low > 1e-4:
        middle = (low + high) / 2
        low, high = (middle, high) if is_too_small(middle) else (low, middle)
    return high
