"""Subject lines by a workspace's own past: how mailings with a trait did beside those without it, each held against what
was expected of its recipients."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from math import exp, log, sqrt

import numpy as np

from openmeadow.core.engagement.expected import student

FEW = 5  # mailings on each side of a comparison
LONG = 45  # characters that most phones show
Z99 = (
    2.5758293035489004  # five traits are looked at: each is shown only where chance alone would show it once in a hundred
)

TRAITS: dict[str, Callable[[str], bool]] = {
    "a question": lambda s: "?" in s,
    "a number": lambda s: re.search(r"\d", s) is not None,
    "the reader's name": lambda s: "first_name" in s or "{{ name" in s,
    f"more than {LONG} characters": lambda s: len(s) > LONG,
    "an exclamation mark": lambda s: "!" in s,
}


@dataclass(frozen=True)
class Mailed:
    """A settled mailing; ``ratio`` is observed over expected engagement, above 0."""

    subject: str
    ratio: float


@dataclass(frozen=True)
class Compared:
    """Mailings whose subject has a trait against those without: how many of each, and how many times as much of the
    expected engagement they had, with a 99% interval (Welch 1947, on logarithms)."""

    trait: str
    mailings: int
    others: int
    times: float
    low: float
    high: float

    @property
    def shown(self) -> bool:
        """Whether a difference is shown at all."""
        return self.low > 1 or self.high < 1


def compared(subject: str, past: Sequence[Mailed]) -> list[Compared]:
    """Of each trait that a subject has and that enough mailings have, and enough have not."""
    out = []
    for trait, has in TRAITS.items():
        if not has(subject):
            continue
        mine, others = ([log(m.ratio) for m in past if has(m.subject) is side and m.ratio > 0] for side in (True, False))
        if min(len(mine), len(others)) < FEW:
            continue
        a, b = (float(np.var(x, ddof=1)) / len(x) for x in (mine, others))
        least = min(len(mine), len(others)) - 1
        freedom = max(least, (a + b) ** 2 / max(a**2 / (len(mine) - 1) + b**2 / (len(others) - 1), 1e-300))
        apart = float(np.mean(mine) - np.mean(others))
        half = student(freedom, Z99) * sqrt(a + b)
        out.append(Compared(trait, len(mine), len(others), exp(apart), exp(apart - half), exp(apart + half)))
    return out
