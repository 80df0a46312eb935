"""Many rows in few statements."""

from __future__ import annotations

import sqlite3
from collections.abc import Collection, Iterator, Sequence
from itertools import islice
from typing import TypeVar

T = TypeVar("T")
Many = Iterator[T] | Collection[T]  # whatever can be gone through once
AT_ONCE = 200  # rows of one statement: what a statement costs to begin is paid once for all of them


def insert_many(db: sqlite3.Connection, head: str, rows: Many[Sequence[object]], width: int) -> None:
    """``head`` is INSERT … INTO table (columns); the values of many rows follow, each of ``width`` columns."""
    one = f"({', '.join('?' * width)})"
    whole = f"{head} VALUES {', '.join([one] * AT_ONCE)}"
    waiting = iter(rows)
    while some := list(islice(waiting, AT_ONCE)):
        sql = whole if len(some) == AT_ONCE else f"{head} VALUES {', '.join([one] * len(some))}"
        db.execute(sql, [value for row in some for value in row])
