"""Events of a file that wait to be written together, in the order in which the indexes of events grow best: each row of a
file that is sorted in any other way would change a page of its own; of a million in order, those that lie together go
together."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from openmeadow.core.arrays import Array

WINDOW = 1_000_000  # rows: about 60 MB
# at, kind, subscriber, message, link, agent, value: of numbers; then code, diagnostic and outside id: texts or None
NUMBERS = (np.int64, np.int8, np.int32, np.int32, np.int32, np.int32, np.float64)
Columns = tuple[Sequence[Any], ...]


class Window:
    """``add`` columns, and take rows of them ``at`` places of ``order``."""

    def __init__(self) -> None:
        self._numbers: list[list[Array]] = [[] for _ in NUMBERS]
        self._texts: list[list[Sequence[str | None]]] = [[], [], []]
        self._length = 0

    def __len__(self) -> int:
        return self._length

    def add(self, columns: Columns) -> None:
        """Rows that wait from now on."""
        if not columns[0]:
            return
        for kept, column, kind in zip(self._numbers, columns, NUMBERS, strict=False):
            kept.append(np.array(column, kind))
        for texts, column in zip(self._texts, columns[len(NUMBERS) :], strict=True):
            texts.append(column)
        self._length += len(columns[0])

    def span(self) -> tuple[int, int]:
        """The first time and the last."""
        return min(int(c.min()) for c in self._numbers[0]), max(int(c.max()) for c in self._numbers[0])

    def order(self, *, by_person: bool) -> list[int]:
        """The places of all rows by time, or by person and time; of one time as they came."""
        for kept in self._numbers:
            kept[:] = [np.concatenate(kept)] if kept else []
        for texts in self._texts:
            texts[:] = [[text for some in texts for text in some]]
        if not self._length:
            return []
        at, person = self._numbers[0][0], self._numbers[2][0]
        places: list[int] = (np.lexsort((at, person)) if by_person else np.argsort(at, kind="stable")).tolist()
        return places

    def at(self, places: Sequence[int]) -> Columns:
        """The rows at some places, after ``order``."""
        some = np.asarray(places)
        return (*(kept[0][some].tolist() for kept in self._numbers), *([t[0][i] for i in places] for t in self._texts))

    def clear(self) -> None:
        """Nothing waits."""
        self._numbers = [[] for _ in NUMBERS]
        self._texts = [[], [], []]
        self._length = 0
