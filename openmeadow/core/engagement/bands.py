"""Cadence and the six engagement bands: a rule that everybody can check by hand."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from openmeadow.core.arrays import F64, I8, I32, I64, NEVER, Mask
from openmeadow.core.columns import Columns, Rows
from openmeadow.core.moments import DAY, HOUR

BANDS = ("Strong", "Steady", "Fading", "Inactive", "Unproven", "Masked")
STRONG, STEADY, FADING, INACTIVE, UNPROVEN, MASKED = range(6)
WINDOWS = (90, 120, 180, 270, 365, 540)
USUAL_GAP, YEAR = 7, 365 * DAY
PIECE = 1 << 19  # rows looked at together
FEW_IGNORED, FEW_ENGAGED, FEW_MACHINE = 5, 3, 3
SETTLED_SHARE, USUAL_SETTLED, ENOUGH_DELAYS, OLD_ENOUGH = 0.95, 3 * DAY, 100, 14 * DAY


@dataclass(frozen=True)
class Cadence:
    """``gap`` and inactive ``window`` in days; ``settled`` in seconds: the time within which 95% of engagement comes."""

    gap: int
    window: int
    settled: int = USUAL_SETTLED


@dataclass(frozen=True)
class Limits:
    """The score from which somebody is Strong, and Steady."""

    strong: float = 40.0
    steady: float = 12.0


def engagement_delays(columns: Columns, now: int, of: Callable[[I32], Mask] | None = None, one_in: int = 1) -> I64:
    """Seconds from a message to the first engagement with it, of those sent in the last year and at least two weeks
    ago, as known at ``now``; of one row in so many. ``of`` tells which people of a table count, where not all do."""
    rows = columns.rows
    sent, opened, reacted = (np.asarray(a[::one_in]) for a in (rows.first_at, rows.opened_at, rows.reacted_at))
    some = (sent > now - YEAR) & (sent <= now - OLD_ENOUGH)
    if of is not None:
        some &= of(rows.person[::one_in])
    first = np.minimum(opened[some], reacted[some])
    took = first - sent[some]
    return np.asarray(took[first <= now])


def _gaps(rows: Rows, now: int) -> list[I32]:
    """Seconds between consecutive first sends to a person, the later one in the last year; piece by piece, as there
    are many."""
    out = [np.zeros(0, np.int32)]
    for i in range(0, max(len(rows) - 1, 0), PIECE):
        first, person = rows.first_at[i : i + PIECE + 1], rows.person[i : i + PIECE + 1]
        later = first[1:]
        pair = (person[1:] == person[:-1]) & (later <= now) & (later > now - YEAR)
        out.append((later - first[:-1])[pair])
    return out


def cadence(columns: Columns, now: int, window: int = 0, settled: int = 0) -> Cadence:
    """The workspace's own rhythm: median gap of consecutive first sends, inactive window, and when messages are
    settled. A ``window`` in days that was set, and a time to settle (seconds) that is known, stand instead of those
    that are found."""
    gap, gaps = USUAL_GAP, np.concatenate(_gaps(columns.rows, now))
    if len(gaps):
        gap = max(1, int(np.floor(float(np.median(gaps, overwrite_input=True)) / DAY + 0.5)))
    found = next((w for w in WINDOWS if w >= 8 * gap), WINDOWS[-1])
    return Cadence(gap, window or found, settled or settles_within(engagement_delays(columns, now)))


def settles_within(took: I64) -> int:
    """The time within which 95% of engagement comes, in whole hours as seconds; three days while too little is known.
    ``took`` are the seconds that each engagement took."""
    if len(took) < ENOUGH_DELAYS:
        return USUAL_SETTLED
    return max(1, -(-int(np.quantile(took, SETTLED_SHARE)) // HOUR)) * HOUR


@dataclass(frozen=True)
class Standing:
    """What bands are told from, one entry a subscriber, as in ``Scores``; ``last_engaged`` since they rejoined."""

    now: int
    window: int  # days
    last_engaged: I64
    ignored: I32
    fresh_engaged: I32
    first_delivered: I64
    delivered_in_window: I32
    machine_in_window: I32

    @property
    def edge(self) -> int:
        """Where the inactive window begins."""
        return self.now - self.window * DAY

    @property
    def masked(self) -> Mask:
        """Nothing from them in the window, and machines opened at least half of what was delivered in it, and enough."""
        machine = (self.machine_in_window * 2 >= self.delivered_in_window) & (self.machine_in_window >= FEW_MACHINE)
        return (self.last_engaged <= self.edge) & machine


def bands(s: Standing, score: F64, limits: Limits) -> I8:
    """The first band that matches, in this order."""
    never, quiet = s.last_engaged == NEVER, s.last_engaged <= s.edge
    young = (s.ignored < FEW_IGNORED) | (s.first_delivered > s.edge)
    band: I8 = np.select(
        [
            never & young,
            s.masked,
            never | (quiet & (s.ignored >= FEW_IGNORED)),
            s.last_engaged <= s.now - s.window * DAY // 2,
            (score >= limits.strong) & (s.fresh_engaged >= FEW_ENGAGED),
            score >= limits.steady,
        ],
        [UNPROVEN, MASKED, INACTIVE, FADING, STRONG, STEADY],
        FADING,
    ).astype(np.int8)
    return band
