"""Who begins today: limits a day and a provider, in the order they came or by lot, a small first portion."""

from __future__ import annotations

import numpy as np

from openmeadow.core.columns import I64, Mask
from openmeadow.core.lot import draw
from openmeadow.core.sequences.ladder import Begin


def entered(now: Mask, before: Mask) -> Mask:
    """Of whom the condition holds now and did not at the last look."""
    return now & ~before


def begins(
    begin: Begin,
    subscriber: I64,
    provider: np.ndarray,
    seed: int,
    begun_today: int,
    begun_ever: int,
    today_of: dict[int, int],
) -> Mask:
    """Who of a queue (in the order they came) begins now. ``begun_today`` over all, ``today_of`` by provider;
    ``begun_ever`` before today, so that the first day is known."""
    n = len(subscriber)
    room = n
    if begin.a_day or begin.first_day:
        limit = begin.first_day if begin.first_day and not begun_ever else begin.a_day
        room = max(0, limit - begun_today) if limit else n
    order = np.argsort(draw(seed, subscriber), kind="stable") if begin.by_lot else np.arange(n)
    out = np.zeros(n, bool)
    had = dict(today_of)
    for i in order.tolist():
        if room <= 0:
            break
        p = int(provider[i])
        if begin.a_provider and had.get(p, 0) >= begin.a_provider:
            continue
        had[p] = had.get(p, 0) + 1
        out[i] = True
        room -= 1
    return out


def portions(count: int, begin: Begin) -> list[int]:
    """How many of so many begin on each day, for the sentence that says so; all at once where nothing limits."""
    out: list[int] = []
    while count > 0 and len(out) < 400:
        limit = begin.first_day if not out and begin.first_day else begin.a_day
        out.append(min(count, limit) if limit else count)
        count -= out[-1]
    return out
