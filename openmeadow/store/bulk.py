"""Many rows in few statements, and as columns."""

from __future__ import annotations

import gc
import sqlite3
from collections.abc import Collection, Iterator, Sequence
from contextlib import contextmanager
from itertools import islice
from typing import TypeVar

import numpy as np

from openmeadow.core.arrays import Array
from openmeadow.store.rows import SqlValue

T = TypeVar("T")
Many = Iterator[T] | Collection[T]  # whatever can be gone through once
BLOCK = 50_000  # rows of a query that are read at once
AT_ONCE = 200  # rows of one statement: what a statement costs to begin is paid once for all of them


def insert_many(db: sqlite3.Connection, head: str, rows: Many[Sequence[object]], width: int) -> None:
    """``head`` is INSERT … INTO table (columns); the values of many rows follow, each of ``width`` columns."""
    one = f"({', '.join('?' * width)})"
    waiting, sql, length = iter(rows), "", 0
    while some := list(islice(waiting, AT_ONCE)):
        if len(some) != length:
            length = len(some)
            sql = f"{head} VALUES {', '.join([one] * length)}"
        db.execute(sql, [value for row in some for value in row])


def distinct(db: sqlite3.Connection, table: str, column: str) -> list[str]:
    """The texts in a column that an index begins with, in order: one look into the index for each, however many rows."""
    rows = db.execute(
        f"WITH RECURSIVE found(x) AS (SELECT min({column}) FROM {table} WHERE {column} IS NOT NULL UNION ALL "
        f"SELECT (SELECT min({column}) FROM {table} WHERE {column} > x) FROM found WHERE x IS NOT NULL) "
        "SELECT x FROM found WHERE x IS NOT NULL"
    )
    return [str(r[0]) for r in rows]


@contextmanager
def one_moment(db: sqlite3.Connection) -> Iterator[None]:
    """Several reads of one moment; within a transaction they are that already."""
    if db.in_transaction:
        yield
        return
    db.execute("BEGIN")
    try:
        yield
    finally:
        db.execute("COMMIT")


WHOLE = frozenset("?bhiq")  # numpy's codes of whole numbers and truths


def read_columns(db: sqlite3.Connection, sql: str, arguments: Sequence[SqlValue], types: str) -> list[Array]:
    """The columns of a query, of one numpy type each; a whole number is never NULL. Whole numbers alone come as one text a
    column, which costs a quarter of rows; anything else in blocks, so that no more than one block of tuples is alive."""
    if WHOLE.issuperset(types):
        return _numbers(db.cursor(), sql, arguments, types)
    collecting = gc.isenabled()
    gc.disable()  # rows hold no cycles; looking for them costs more than reading
    try:
        return _read(db.cursor(), sql, arguments, types)
    finally:
        if collecting:
            gc.enable()


def _numbers(cursor: sqlite3.Cursor, sql: str, arguments: Sequence[SqlValue], types: str) -> list[Array]:
    cursor.row_factory = None
    names = [f"c{i}" for i in range(len(types))]
    together = ", ".join(f"group_concat({n})" for n in names)
    cursor.execute(f"WITH asked({', '.join(names)}) AS ({sql}) SELECT count(*), {together} FROM asked", arguments)
    count, *texts = cursor.fetchone()
    out = [np.fromstring(t or "", np.int64, sep=",") for t in texts]
    if any(len(column) != count for column in out):
        raise ValueError("a column holds NULL")
    return [column.astype(t, copy=False) for column, t in zip(out, types, strict=True)]


def _read(cursor: sqlite3.Cursor, sql: str, arguments: Sequence[SqlValue], types: str) -> list[Array]:
    cursor.row_factory = None
    cursor.execute(sql, arguments)
    blocks: list[list[Array]] = []
    while part := cursor.fetchmany(BLOCK):
        blocks.append([np.array(c, dtype=t) for c, t in zip(zip(*part, strict=True), types, strict=True)])
    if not blocks:
        return [np.zeros(0, t) for t in types]
    return [np.concatenate(c) for c in zip(*blocks, strict=True)]
