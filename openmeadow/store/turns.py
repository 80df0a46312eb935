"""Long work on the database in parts, each its own transaction, so that nobody else waits for long."""

from __future__ import annotations

import sqlite3
import time
from collections.abc import Callable, Iterator, Sequence, Sized
from contextlib import contextmanager, suppress
from typing import TypeVar

from openmeadow.store.connection import Store

T = TypeVar("T")
LONGEST = 0.05  # seconds that one part should hold the write lock
FIRST, LEAST, MOST = 100, 20, 20_000  # rows of a part
MOST_TOGETHER, LONGEST_TOGETHER = 500_000, 1.0  # rows and seconds of parts that are committed at once


class _TakenBack(Exception):
    """Ends a transaction of which nothing is kept."""


class Turns:
    """``rows`` is how many rows the next part should have: as many as went through in ``LONGEST`` before."""

    def __init__(self, store: Store, most: int = MOST) -> None:
        self.store, self.rows, self._most = store, min(FIRST, most), most
        self._together = 10 * self.rows  # that ``each`` commits at once where nobody waits

    @contextmanager
    def part(self, rows: Sized, *, keep: bool = True) -> Iterator[sqlite3.Connection]:
        """One transaction, for some rows, after those who wait to write have had their turn; rolled back where it is not
        to be kept."""
        self.store.queue.give_way()
        with suppress(_TakenBack), self.store.atomic() as db:
            begun = time.perf_counter()
            yield db
            if not keep:
                raise _TakenBack
        self._went_through(rows, time.perf_counter() - begun)

    def _went_through(self, rows: Sized, took: float) -> None:
        if len(rows) >= self.rows // 2:  # a rest says nothing about the next
            self.rows = int(max(LEAST, min(self._most, 2 * self.rows, self.rows * LONGEST / max(took, 1e-4))))

    def over(self, rows: Sequence[T]) -> Iterator[Sequence[T]]:
        """The rows, as many at a time as one transaction should take."""
        at = 0
        while at < len(rows):
            part = rows[at : at + self.rows]
            yield part
            at += len(part)

    def while_any(self, do: Callable[[sqlite3.Connection, int], int]) -> int:
        """``do`` with how many rows it may take at most, part by part, until it takes fewer; the sum of what it took."""
        done = 0
        while True:
            rows = range(self.rows)
            with self.part(rows) as db:
                took = do(db, len(rows))
            done += took
            if took < len(rows):
                return done

    def each(
        self,
        rows: Sequence[T],
        do: Callable[[sqlite3.Connection, Sequence[T]], int],
        told: Callable[[int, int], None] | None = None,
    ) -> int:
        """``do`` with all rows, part by part; the sum of what it returns. While nobody waits to write, parts go together
        in one transaction, as many as are committed in ``LONGEST``: pages that several of them change are written once.
        After each ``told`` of the rows that it had and the sum of what came of them."""
        parts, done = self.over(rows), 0
        part = next(parts, None)
        while part is not None:
            self.store.queue.give_way()
            with self.store.atomic() as db:
                held, came, end = 0, 0, time.monotonic() + LONGEST_TOGETHER
                while part is not None:
                    begun = time.perf_counter()
                    came += do(db, part)
                    self._went_through(part, time.perf_counter() - begun)
                    held += len(part)
                    part = next(parts, None)
                    if held >= self._together or time.monotonic() > end or self.store.queue.is_anybody():
                        break
                begun = time.perf_counter()
            took = time.perf_counter() - begun
            done += came
            if told is not None:
                told(held, came)
            self._together = int(max(LEAST, min(MOST_TOGETHER, 2 * self._together, held * LONGEST / max(took, 1e-4))))
        return done
