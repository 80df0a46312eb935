"""Batches: a pilot batch drawn at random within each band, the others by engagement or at random."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from openmeadow.core.arrays import F64, I8, I32, I64
from openmeadow.core.delivery.randomise import draw
from openmeadow.core.moments import HOUR

LEAD, ORDER = 1, 2


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
            batch[mine[np.argsort(lot[mine], kind="stable")[:wanted]]] = 0
    rest = np.flatnonzero(batch == 1)
    lot = draw(plan.seed, subscriber[rest], ORDER)
    if plan.order == "at random":
        order = np.argsort(lot, kind="stable")
    elif plan.order == "by time zone" and ahead is not None:
        order = np.lexsort((lot, -ahead[rest]))
    else:
        order = np.lexsort((lot, -score[rest]))
    if plan.sizes:
        ends = np.cumsum(plan.sizes)
        batch[rest[order]] = 1 + np.minimum(np.searchsorted(ends, np.arange(len(rest)), "right"), len(ends) - 1)
    else:
        batch[rest[order]] = 1 + np.arange(len(rest)) * plan.batches // max(len(rest), 1)
    return batch


def variants(seed: int, subscriber: I64, holdout_share: float, names: int) -> I32:
    """Each person's variant at random: -1 in the holdout group, else 0..names-1, as even as can be."""
    order = np.argsort(draw(seed, subscriber), kind="stable")
    variant = np.empty(len(subscriber), np.int32)
    held = round(holdout_share * len(subscriber))
    variant[order[:held]] = -1
    variant[order[held:]] = np.arange(len(subscriber) - held) % max(names, 1)
    return variant
