"""Best hours: when people answer, by their own clocks; how sure that is; and one person's own hour where enough is known."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from openmeadow.core.arrays import I8, I32, I64
from openmeadow.core.delivery.time_zones import NO_HOUR
from openmeadow.core.statistics import Interval, wilson

WINDOW = 3  # hours taken together
AT_ONCE = 100_000  # people whose hours are looked at together
ENOUGH, ENOUGH_OF_ONE = 200, 8


@dataclass(frozen=True)
class BestHours:
    """``begin`` of the best three hours, their share of all answers; ``sure`` when they are ahead of the best three
    that do not overlap them by more than chance; ``counts`` answers by hour of the day."""

    begin: int
    share: Interval
    sure: bool
    counts: list[int]


def best(counts: I64) -> BestHours | None:
    """From answers by local hour (24 counts); None where there are too few to say anything."""
    n = int(counts.sum())
    if n < ENOUGH:
        return None
    together, begin = _together(counts[None, :])[0], int(_begins(counts[None, :])[0])
    k = int(together[begin])
    others = [int(together[h]) for h in range(24) if min((h - begin) % 24, (begin - h) % 24) >= WINDOW]
    # answers fall into one window or the other, so their shares are not independent: of both together, over half?
    sure = wilson(k, k + max(others)).low > 0.5
    return BestHours(begin, wilson(k, n), sure, [int(c) for c in counts])


def own_hours(person: I64 | I32, hour: I64 | I8, people: int) -> I8:
    """Each person's own hour: the middle of the three in which most of their answers came; NO_HOUR for those with fewer
    than ENOUGH_OF_ONE. ``person`` and ``hour`` are one answer a row."""
    out = np.full(people, NO_HOUR, np.int8)
    counts = np.bincount(person, minlength=people)
    known = np.flatnonzero(counts >= ENOUGH_OF_ONE)
    place = np.full(people, -1, np.int64)
    place[known] = np.arange(len(known))
    mine = place[person]
    for begin in range(0, len(known), AT_ONCE):
        part = (mine >= begin) & (mine < begin + AT_ONCE)
        some = known[begin : begin + AT_ONCE]
        grid = np.bincount((mine[part] - begin) * 24 + hour[part], minlength=len(some) * 24).reshape(-1, 24)
        out[some] = (_begins(grid) + WINDOW // 2) % 24
    return out


def _begins(counts: np.ndarray) -> np.ndarray:
    """Where the hours that hold most begin; of several that hold as many, those with most in their middle."""
    together, middle = _together(counts).astype(np.int64), np.roll(counts, -(WINDOW // 2), axis=1)
    return np.asarray(np.argmax(together * (int(counts.max(initial=0)) + 1) + middle, axis=1))


def _together(counts: np.ndarray) -> np.ndarray:
    """Sums over WINDOW hours from each hour on, round the clock."""
    return np.asarray(sum(np.roll(counts, -i, axis=1) for i in range(WINDOW)))
