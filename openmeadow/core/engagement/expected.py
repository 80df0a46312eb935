"""How many people are expected to engage: the sum of their chances, how engagement comes in over time, and how far
mailings of this workspace usually are from it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from math import log, sqrt

import numpy as np

from openmeadow.core.arrays import F64, I64
from openmeadow.core.moments import DAY
from openmeadow.core.statistics import Z95

STEPS = 200  # quantiles that a curve is kept as
FEW_DELAYS, FEW_MAILINGS, LAST_MAILINGS = 100, 5, 20
USUAL_SPREAD = 0.15  # of the ratio of observed to expected, while fewer than FEW_MAILINGS are known
USUAL_TIME = DAY  # after which 63 of 100 engagements have come, while too few are known


@dataclass(frozen=True)
class Curve:
    """How engagement comes in after a message: ``delays`` in seconds at equal steps of its share, None for the usual
    one."""

    delays: F64 | None = None

    @classmethod
    def of(cls, delays: I64) -> Curve:
        """From seconds between messages and the first engagement with them."""
        if len(delays) < FEW_DELAYS:
            return cls()
        return cls(np.asarray(np.quantile(delays, np.linspace(0, 1, STEPS + 1)), np.float64))

    def come(self, age: F64 | I64) -> F64:
        """The share of engagement that has come so many seconds after sending."""
        after = np.maximum(np.asarray(age, np.float64), 0.0)
        if self.delays is None:
            return np.asarray(1.0 - np.exp(-after / USUAL_TIME))
        return np.asarray(np.interp(after, self.delays, np.linspace(0, 1, STEPS + 1)))

    def within(self, share: float) -> int:
        """The seconds within which a share of engagement comes."""
        if self.delays is None:
            return round(-USUAL_TIME * log(1 - share))
        return round(float(np.interp(share, np.linspace(0, 1, STEPS + 1), self.delays)))


@dataclass(frozen=True)
class Mailed:
    """A mailing that is settled: how many engaged, how many were expected to as their chances stood before, and the
    variance that chances alone give it, the sum of p (1 - p)."""

    observed: int
    expected: float
    variance: float


@dataclass(frozen=True)
class Level:
    """Observed over expected in the last ``mailings``: its mean, and its spread from one mailing to another."""

    level: float = 1.0
    spread: float = USUAL_SPREAD
    mailings: int = 0


@dataclass(frozen=True)
class Forecast:
    """How many are expected to engage, with a 95% interval."""

    expected: float
    low: float
    high: float


def student(freedom: float, z: float = Z95) -> float:
    """The quantile of Student's t that the normal one ``z`` stands for: two-sided 95% without it (Cornish and Fisher 1938,
    expanded to the third term)."""
    return (
        z
        + (z**3 + z) / (4 * freedom)
        + (5 * z**5 + 16 * z**3 + 3 * z) / (96 * freedom**2)
        + (3 * z**7 + 19 * z**5 + 17 * z**3 - 15 * z) / (384 * freedom**3)
    )


def usual_level(mailings: Sequence[Mailed]) -> Level:
    """From the last mailings, the latest last. The spread is what chances alone do not explain, widened for how few
    mailings it is told from."""
    some = [m for m in mailings if m.expected > 0][-LAST_MAILINGS:]
    n = len(some)
    if n < FEW_MAILINGS:
        return Level(mailings=n)
    ratio = np.array([m.observed / m.expected for m in some])
    noise = np.array([m.variance / m.expected**2 for m in some])
    level = float(ratio.mean())
    extra = max(0.0, float(ratio.var(ddof=1)) - float((noise * level**2).mean()))
    widened = sqrt(extra * (1 + 1 / n)) * student(n - 1) / Z95
    return Level(level, widened, n)


def forecast(chance: F64, usual: Level) -> Forecast:
    """Of people with these chances (or chances times the share that has come by now)."""
    return forecast_of_sums(len(chance), float(chance.sum()), float((chance * (1 - chance)).sum()), usual)


def forecast_of_sums(people: int, e: float, variance: float, usual: Level) -> Forecast:
    """The same of the sum of people's chances and that of their variances p (1 - p)."""
    half = Z95 * sqrt(variance * usual.level**2 + (e * usual.spread) ** 2)
    point = e * usual.level
    return Forecast(min(point, float(people)), max(0.0, point - half), min(float(people), point + half))
