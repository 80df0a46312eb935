"""The map: days since the last answer against messages left unanswered since, each cell divided by band."""

from __future__ import annotations

import numpy as np

from openmeadow.core.columns import DAY, I8, I64, NEVER, Mask
from openmeadow.core.engagement.score import BANDS, Scores

DAY_EDGES = (0, 8, 31, 61, 91, 181, 366)
DAY_WORDS = ("0–7 d", "8–30", "31–60", "61–90", "91–180", "181–365", "over 365", "never")
LEFT_EDGES = (0, 1, 3, 6, 11, 21)
LEFT_WORDS = ("none", "1–2", "3–5", "6–10", "11–20", "21+")


def coordinates(s: Scores) -> tuple[I8, I8]:
    """Each person's column (0..7, 7 = never) and row (0..5) on the map."""
    days = (s.now - np.maximum(s.last_answer, 0)) // DAY
    column = np.searchsorted(DAY_EDGES, days, side="right") - 1
    column = np.where(s.last_answer == NEVER, len(DAY_EDGES), np.maximum(column, 0))
    row = np.searchsorted(LEFT_EDGES, s.unanswered, side="right") - 1
    return column.astype(np.int8), row.astype(np.int8)


def grid(s: Scores, alive: Mask) -> I64:
    """Counts of shape (8 day columns, 6 unanswered rows, 6 bands) over the people of the mask ``alive``."""
    column, row = coordinates(s)
    cell = (column.astype(np.int64) * len(LEFT_EDGES) + row) * len(BANDS) + s.band
    counts = np.bincount(cell[alive], minlength=len(DAY_WORDS) * len(LEFT_EDGES) * len(BANDS))
    return counts.reshape(len(DAY_WORDS), len(LEFT_EDGES), len(BANDS))
