"""Who begins today: limits a day and a provider, in the order they came or at random, a small first portion."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from openmeadow.core.arrays import I64, Mask
from openmeadow.core.delivery.randomise import draw
from openmeadow.core.sequences.definition import Begin


def entered(now: Mask, before: Mask) -> Mask:
    """Those who match the condition now and did not at the last look."""
    return now & ~before


NO_LIMIT = 1 << 62


def room(begin: Begin, begun_today: int, begun_ever: bool) -> int:
    """How many may still begin today over all providers; ``begun_ever`` before today, so that the first day is known."""
    limit = begin.first_day if begin.first_day and not begun_ever else begin.a_day
    return max(0, limit - begun_today) if limit else NO_LIMIT


def begins(
    begin: Begin, subscriber: I64, provider: np.ndarray, seed: int, room: int, today_of: Mapping[int, int]
) -> Mask:
    """Who of a queue (in the order they came) begins now, where there is ``room`` for so many; ``today_of`` says how
    many of each provider began today already."""
    n = len(subscriber)
    order = np.argsort(draw(seed, subscriber), kind="stable") if begin.random else np.arange(n)
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
