"""Why somebody has their score: message by message what counted, and the chance as it went."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from openmeadow.core.arrays import I32
from openmeadow.core.columns import Columns
from openmeadow.core.engagement.chance import MOST, with_one_more
from openmeadow.core.engagement.counted import Marks, engaged_by_itself, marks
from openmeadow.core.engagement.score import Scores


@dataclass(frozen=True)
class Step:
    """One delivered message: ``what`` became of it, whether it counts, and the chance after it (0 to 1)."""

    message: int
    at: int
    what: str  # engaged | clicked | not clicked | ignored | machine only | not settled | before rejoining
    counts: bool
    chance: float


@dataclass(frozen=True)
class Explanation:
    """Of the ``counted`` latest messages they engaged with ``engaged``, the last of them being the ``last``-th; then
    they ignored ``ignored_now``, and before that at most ``ignored_before`` in a row. ``rate`` is the share they engage
    with while active; ``if_engaged`` and ``if_ignored`` are the chance after the next message."""

    engaged: int
    last: int
    counted: int
    ignored_now: int
    ignored_before: int
    active: float
    rate: float
    chance: float
    if_engaged: float
    if_ignored: float
    masked: bool
    steps: list[Step]


def _one(value: int) -> I32:
    return np.array([value], np.int32)


def _what(found: Marks, i: int, *, hidden: bool) -> str:
    """What became of the i-th message; of those whose reading cannot be seen, whether they clicked."""
    if found.reacted[i]:
        return "clicked"
    if hidden and found.fresh[i]:
        return "not clicked" if found.settled[i] else "not settled"
    if found.engaged[i]:
        return "engaged"
    if not found.fresh[i]:
        return "before rejoining"
    if found.machine[i]:
        return "machine only"
    return "ignored" if found.settled[i] else "not settled"


def _steps(
    columns: Columns, person: int, scores: Scores, chance: Callable[[int, int, int], float], *, hidden: bool
) -> tuple[list[Step], list[bool], tuple[int, int, int]]:
    """Every delivered message, the oldest first; of those that count whether each was engaged with; and (x, t, n)."""
    a, b = int(columns.start[person]), int(columns.start[person + 1])
    since, now = columns.people.since[person : person + 1], scores.now
    loose = engaged_by_itself(columns, now)
    found = marks(columns, now, scores.cadence.settled, loose, a, b, since, np.zeros(b - a, np.int32))
    yes, no = found.clicking() if hidden else found.reading()
    steps: list[Step] = []
    answered: list[bool] = []
    x = t = n = 0
    for i in np.flatnonzero(found.delivered).tolist():
        if yes[i] or no[i]:
            oldest = len(answered) >= MOST and answered[len(answered) - MOST]
            x, t, n = with_one_more(x, t, n, engaged=bool(yes[i]), oldest_engaged=oldest)
            answered.append(bool(yes[i]))
        message, at = int(columns.rows.message[a + i]), int(columns.rows.first_at[a + i])
        steps.append(Step(message, at, _what(found, i, hidden=hidden), bool(yes[i] or no[i]), chance(x, t, n)))
    return steps, answered, (x, t, n)


def explain(columns: Columns, person: int, scores: Scores, *, hidden: bool) -> Explanation:
    """Of the person at a place in ``columns``, by the model that they are judged by (``hidden``: their reading cannot be
    seen); its last chance is that of ``scores``."""
    model = scores.basis.models.model_of(int(columns.people.source[person]), hidden=hidden)

    def chance(x: int, t: int, n: int) -> float:
        return float(model.chance(_one(x), _one(t), _one(n))[0])

    steps, answered, (x, t, n) = _steps(columns, person, scores, chance, hidden=hidden)
    oldest = len(answered) >= MOST and answered[len(answered) - MOST]
    longest = run = 0
    for engaged in answered[: len(answered) - (n - t)]:
        run = 0 if engaged else run + 1
        longest = max(longest, run)
    return Explanation(
        engaged=x,
        last=t,
        counted=n,
        ignored_now=n - t,
        ignored_before=longest,
        active=float(model.active(_one(x), _one(t), _one(n))[0]),
        rate=float(model.rate(_one(x), _one(t), _one(n))[0]),
        chance=chance(x, t, n),
        if_engaged=chance(*with_one_more(x, t, n, engaged=True, oldest_engaged=oldest)),
        if_ignored=chance(*with_one_more(x, t, n, engaged=False, oldest_engaged=oldest)),
        masked=hidden,
        steps=steps,
    )
