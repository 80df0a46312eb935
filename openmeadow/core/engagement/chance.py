"""The chance to engage with the next message: the beta-geometric/beta-binomial model (Fader, Hardie and Shang 2010,
"Customer-base analysis in a discrete-time noncontractual setting").

Each message that counts is one opportunity. While active, a person engages with it with a probability p of their own,
p ~ Beta(alpha, beta); before each they may have become inactive for good with probability theta ~ Beta(gamma, delta).
All that is needed of a person is (x, t, n): messages engaged with, the place of the last of them, messages that counted.

Ratios of beta functions at whole steps are products over the steps, so that sums of logarithms replace log-gamma:
B(alpha + x, beta + n - x) / B(alpha, beta) = prod(alpha + k, k < x) prod(beta + k, k < n - x) / prod(alpha + beta + k, k < n).
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property, lru_cache

import numpy as np

from openmeadow.core.arrays import F64, I32, I64

MOST = 150  # the latest messages of a person that are looked at
_STEPS = np.arange(MOST + 1)


def _rising(a: float) -> F64:
    """log(a (a + 1) ... (a + k - 1)) for k = 0 ... MOST + 1."""
    return np.concatenate(([0.0], np.cumsum(np.log(a + _STEPS))))


def place(x: I32, t: I32, n: I32) -> I64:
    """Where (x, t, n) stands in a table of all 0 <= x <= t <= n <= MOST."""
    m, u = n.astype(np.int64), t.astype(np.int64)
    return np.asarray(m * (m + 1) * (m + 2) // 6 + u * (u + 1) // 2 + x)


@lru_cache(1)
def lattice() -> tuple[I32, I32, I32]:
    """Every (x, t, n), in the order of ``place``."""
    t_of, x_of = (a.astype(np.int32) for a in np.tril_indices(MOST + 1))
    sizes = (_STEPS + 1) * (_STEPS + 2) // 2
    n = np.repeat(_STEPS, sizes).astype(np.int32)
    return np.concatenate([x_of[:s] for s in sizes]), np.concatenate([t_of[:s] for s in sizes]), n


class _Logs:
    """Sums of logarithms for one set of parameters."""

    def __init__(self, alpha: float, beta: float, gamma: float, delta: float) -> None:
        self.engaged, self.ignored, self.both = _rising(alpha), _rising(beta), _rising(alpha + beta)
        self.stayed, self.either = _rising(delta), _rising(gamma + delta)
        self.left = np.log(gamma)

    def still_active(self, x: I32, n: I32) -> F64:
        """log of the likelihood of what was seen together with being active all the while."""
        return np.asarray(
            self.engaged[x] + self.ignored[n - x] - self.both[n] + self.stayed[n] - self.either[n], np.float64
        )

    def tails(self) -> F64:
        """tails[x, m]: the sum over m <= k < MOST of the likelihood of having become inactive after k messages, x
        engaged with, but for the factor of x. Summed from its small end: the terms fall with k."""
        k, x = _STEPS[None, :-1], _STEPS[:, None]
        ignored = np.where(k >= x, self.ignored[np.maximum(k - x, 0)], -np.inf)
        terms = np.exp(ignored - self.both[k] + self.left + self.stayed[k] - self.either[k + 1])
        out = np.zeros((MOST + 1, MOST + 1))
        out[:, :-1] = np.cumsum(terms[:, ::-1], axis=1)[:, ::-1]
        return out


def log_likelihood(parameters: tuple[float, float, float, float], x: I32, t: I32, n: I32) -> F64:
    """log L of each (x, t, n), all of one length and at most MOST."""
    logs = _Logs(*parameters)
    tails = logs.tails()
    gone = np.exp(logs.engaged[x]) * (tails[x, t] - tails[x, n])
    return np.asarray(np.log(np.exp(logs.still_active(x, n)) + gone), np.float64)


@dataclass(frozen=True)
class Adjustment:
    """Moves chances to what the last mailings showed, on the scale of log odds: intercept + slope * logit(chance).
    The one given does nothing. It keeps the order of people."""

    intercept: float = 0.0
    slope: float = 1.0

    def of(self, chance: F64) -> F64:
        """The chances, moved."""
        if self == AS_IT_IS:
            return chance
        return np.asarray(1.0 / (1.0 + np.exp(-self.intercept - self.slope * logit(chance))), np.float64)


AS_IT_IS = Adjustment()


def logit(chance: F64) -> F64:
    """Log odds; chances of 0 and 1 are kept a trillionth off."""
    p = np.clip(chance, 1e-12, 1 - 1e-12)
    return np.asarray(np.log(p / (1 - p)), np.float64)


@dataclass(frozen=True)
class ChanceModel:
    """Fitted parameters with their sample: ``people`` and ``messages`` they were found in, 0 for the defaults."""

    alpha: float = 0.6
    beta: float = 1.2
    gamma: float = 1.0
    delta: float = 40.0
    people: int = 0
    messages: int = 0
    adjustment: Adjustment = AS_IT_IS

    @property
    def parameters(self) -> tuple[float, float, float, float]:
        """alpha, beta, gamma, delta."""
        return self.alpha, self.beta, self.gamma, self.delta

    @property
    def is_own(self) -> bool:
        """Whether it was fitted on history."""
        return self.people > 0

    @cached_property
    def _tables(self) -> tuple[F64, F64]:
        return _tables(self.parameters, self.adjustment)

    def active(self, x: I32, t: I32, n: I32) -> F64:
        """The chance that somebody is still active at the next message."""
        return np.asarray(self._tables[0][place(x, t, n)])

    def chance(self, x: I32, t: I32, n: I32) -> F64:
        """The chance that somebody engages with the next message."""
        return np.asarray(self._tables[1][place(x, t, n)])

    def rate(self, x: I32, t: I32, n: I32) -> F64:
        """The share of messages that somebody engages with while active: (alpha + x) / (alpha + beta + n), adjusted
        as the chance is."""
        return np.asarray(self.chance(x, t, n) / self.active(x, t, n), np.float64)


@lru_cache(64)
def _tables(parameters: tuple[float, float, float, float], adjustment: Adjustment) -> tuple[F64, F64]:
    """``active`` and ``chance`` of every (x, t, n)."""
    (alpha, beta, gamma, delta), (x, t, n) = parameters, lattice()
    likelihood = log_likelihood(parameters, x, t, n)
    stays = (delta + n) / (gamma + delta + n)
    active = np.exp(_Logs(alpha, beta, gamma, delta).still_active(x, n) - likelihood) * stays
    return active, adjustment.of(active * (alpha + x) / (alpha + beta + n))


def with_one_more(x: int, t: int, n: int, *, engaged: bool, oldest_engaged: bool = False) -> tuple[int, int, int]:
    """(x, t, n) after the next message; beyond MOST the oldest one drops out."""
    if engaged:
        x, t = x + 1, n + 1
    n += 1
    if n > MOST:
        x, t, n = x - int(oldest_engaged), max(0, t - 1), n - 1
    return x, t, n
