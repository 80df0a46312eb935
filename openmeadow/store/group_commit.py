"""Small writes of several threads in one transaction: who comes while another commits goes with the next. Each is on the
disk before its thread goes on, as with a transaction of its own."""

from __future__ import annotations

import sqlite3
import threading
from collections.abc import Callable
from contextlib import AbstractContextManager
from typing import Generic, TypeVar, cast

T = TypeVar("T")
Write = Callable[[sqlite3.Connection], T]


class _Asked(Generic[T]):
    """One write, and what became of it."""

    def __init__(self, do: Write[T]) -> None:
        self.do = do
        self.is_done = False
        self.answer: T | None = None
        self.mistake: BaseException | None = None

    def run(self, db: sqlite3.Connection) -> None:
        """All of it or nothing; the others of the transaction stand in any case."""
        db.execute("SAVEPOINT one_of_several")
        try:
            self.answer = self.do(db)
        except Exception as e:
            if not db.in_transaction:
                raise  # the whole was rolled back: the disk is full
            db.execute("ROLLBACK TO one_of_several")
            self.mistake = e
        db.execute("RELEASE one_of_several")


class GroupCommit:
    """``run`` a write with those of other threads, in transactions that ``begin`` opens."""

    def __init__(self, begin: Callable[[], AbstractContextManager[sqlite3.Connection]]) -> None:
        self._begin = begin
        self._guard, self._turn = threading.Lock(), threading.Lock()
        self._asked: list[_Asked[object]] = []

    def run(self, do: Write[T]) -> T:
        """What ``do`` gives, once it is committed; raises what it raises, or what kept the transaction from the disk."""
        mine = _Asked(do)
        with self._guard:
            self._asked.append(cast(_Asked[object], mine))
        with self._turn:
            if not mine.is_done:
                self._write()
        if mine.mistake is not None:
            raise mine.mistake
        return cast(T, mine.answer)

    def _taken(self) -> list[_Asked[object]]:
        with self._guard:
            some, self._asked = self._asked, []
            return some

    def _write(self) -> None:
        some: list[_Asked[object]] = []
        try:
            with self._begin() as db:
                some = self._taken()  # whoever came while the lock was waited for goes along
                for one in some:
                    one.run(db)
        except BaseException as e:
            some = some or self._taken()
            for one in some:
                one.mistake = one.mistake or e
        for one in some:
            one.is_done = True
