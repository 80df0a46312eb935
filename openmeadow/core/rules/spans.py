"""What clauses measure with: spans of time as they were typed, and bounds of figures."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from openmeadow.core.arrays import Figures, Mask
from openmeadow.core.moments import DAY

UNITS = {"day": 1, "week": 7, "month": 30, "year": 365}  # days of one
SIDES = ("at least", "at most", "more than", "fewer than")


def number(value: float) -> str:
    """As people type it: no decimals where there are none."""
    return f"{value:g}" if value != int(value) else str(int(value))


@dataclass(frozen=True)
class Span:
    """So many days, weeks, months (30 days) or years (365 days); kept as typed."""

    n: float
    unit: str = "day"

    @property
    def days(self) -> float:
        """Its length in days."""
        return self.n * UNITS[self.unit]

    @property
    def seconds(self) -> float:
        """Its length in seconds."""
        return self.days * DAY

    def text(self) -> str:
        """As a rule writes it."""
        return f"{number(self.n)} {self.unit}{'' if self.n == 1 else 's'}"


@dataclass(frozen=True)
class Bound:
    """One of SIDES and a figure."""

    side: str
    value: float

    def text(self) -> str:
        """As a rule writes it."""
        return f"{self.side} {number(self.value)}"

    def met_by(self, values: Figures) -> Mask:
        """Which of an array of figures are within the bound."""
        value = int(self.value) if self.value == int(self.value) else self.value
        if self.side == "at least":
            return np.asarray(values >= value)
        if self.side == "at most":
            return np.asarray(values <= value)
        return np.asarray(values > value if self.side == "more than" else values < value)

    def can_hold(self, low: float, high: float) -> bool:
        """Whether any figure from ``low`` to ``high`` is within the bound."""
        if self.side == "at least":
            return self.value <= high
        if self.side == "at most":
            return self.value >= low
        return self.value < high if self.side == "more than" else self.value > low
