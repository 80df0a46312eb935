"""The map: days since the last engagement against messages left ignored since. What is drawn are few large cells;
counts and cut-offs stand on a finer grid (``replay.FINE_DAYS`` × ``replay.FINE_LEFT``)."""

from __future__ import annotations

from collections.abc import Sequence

DAY_EDGES = (0, 8, 31, 61, 91, 181, 366)
DAY_WORDS = ("0–7 d", "8–30", "31–60", "61–90", "91–180", "181–365", "over 365", "never")
LEFT_EDGES = (0, 1, 3, 6, 11, 21)
LEFT_WORDS = ("none", "1–2", "3–5", "6–10", "11–20", "21+")


def rule_of(days: Sequence[int], left: Sequence[int], columns: tuple[int, int], rows: tuple[int, int]) -> str:
    """The rule of a rectangle of cells, first and last column and row included. ``days`` and ``left`` are the
    edges of the grid; one column more than ``days`` stands for "never engaged"."""
    never = len(days)
    parts = []
    if columns == (never, never):
        parts.append("never engaged")
    else:
        if columns[0] > 0:
            parts.append(f"not engaged in {days[columns[0]]} days")
        if columns[1] + 1 < never:
            parts.append(f"not (not engaged in {days[columns[1] + 1]} days)")
        elif columns[1] + 1 == never:
            parts.append("not (never engaged)")
    if rows[0] > 0:
        parts.append(f"ignored at least {left[rows[0]]} in a row")
    if rows[1] + 1 < len(left):
        parts.append(f"ignored at most {left[rows[1] + 1] - 1} in a row")
    return " and ".join(parts) or "joined more than 0 days ago"
