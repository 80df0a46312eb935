"""Batches: a pilot batch drawn at random within each band, the others by engagement or at random."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from openmeadow.core.arrays import F64, I8, I32, I64
from openmeadow.core.delivery.randomise import draw
from openmeadow.core.moments import HOUR

LEAD, ORDER = 1, 2
LOT_BITS = 43  # of a lot that tell people of one score apart


@dataclass(frozen=True)
class BatchPlan:
    """``pilot_share`` of the recipients go first; the rest into ``batches`` equal ones ``interval`` s apart, or into such
    of the ``sizes``. The first of the rest follows the pilot batch after ``first_gap`` s, where that is longer."""

    seed: int
    start: int
    pilot_share: float = 0.0
    batches: int = 1
    interval: int = HOUR
    order: str = "most engaged first"
    sizes: tuple[int, ...] = ()
    first_gap: int = 0


ORDERS = ("most engaged first", "at random", "by time zone")


def assign(plan: BatchPlan, subscriber: I64, band: I8, score: F64, ahead: I64 | None = None) -> I32:
    """Each recipient's batch, 0 = pilot batch (empty when ``pilot_share`` is 0). Every one has exactly one. ``ahead`` are
    seconds ahead of UTC, for the order by time zone: the day begins in the east."""
    n = len(subscriber)
    batch = np.ones(n, np.int32)
    if plan.pilot_share > 0:
        lot = draw(plan.seed, subscriber, LEAD)
        for b in np.unique(band):
            mine = np.flatnonzero(band == b)
            wanted = round(plan.pilot_share * len(mine))
            if wanted:
                batch[mine[np.argpartition(lot[mine], wanted - 1)[:wanted]]] = 0
    rest = np.flatnonzero(batch == 1)
    lot = draw(plan.seed, subscriber[rest], ORDER)
    if plan.order == "at random":
        order = np.argsort(lot, kind="stable")
    elif plan.order == "by time zone" and ahead is not None:
        order = _highest_first(ahead[rest], lot)
    else:
        order = _highest_first(score[rest], lot)
    if plan.sizes:
        ends = np.cumsum(plan.sizes)
        batch[rest[order]] = 1 + np.minimum(np.searchsorted(ends, np.arange(len(rest)), "right"), len(ends) - 1)
    else:
        batch[rest[order]] = 1 + np.arange(len(rest)) * plan.batches // max(len(rest), 1)
    return batch


def _highest_first(value: F64 | I64, lot: F64) -> I64:
    """Places by value, the highest first, and at random (by ``lot`` in [0, 1)) where it is the same; by one whole number
    each, which is sorted in half the time of two columns."""
    distinct, rank = np.unique(-value, return_inverse=True)
    if len(distinct) >> (64 - LOT_BITS):
        return np.lexsort((lot, -value))
    return np.argsort(rank.astype(np.uint64) << np.uint64(LOT_BITS) | (lot * (1 << LOT_BITS)).astype(np.uint64))


def variants(seed: int, subscriber: I64, holdout_share: float, names: int) -> I32:
    """Each person's variant at random: -1 in the holdout group, else 0..names-1, as even as can be."""
    order = np.argsort(draw(seed, subscriber), kind="stable")
    variant = np.empty(len(subscriber), np.int32)
    held = round(holdout_share * len(subscriber))
    variant[order[:held]] = -1
    variant[order[held:]] = np.arange(len(subscriber) - held) % max(names, 1)
    return variant
