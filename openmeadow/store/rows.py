"""Rows of the database as typed values: a frozen dataclass whose fields carry the names of a query's columns."""

from __future__ import annotations

import json
import sqlite3
import types
import typing
from collections.abc import Callable, Hashable, Iterator, Mapping
from dataclasses import fields
from enum import Enum
from functools import cache
from typing import Any, Self

SqlValue = str | int | float | bytes | None
Values = Mapping[str, SqlValue]  # what is written to a row, by column
_Convert = Callable[[Any], object]


def _converter(hint: object) -> _Convert | None:
    """How a column becomes a field of a type: 0 and 1 a bool, a text or number an enum, JSON a list,
    a mapping or a model."""
    if isinstance(hint, typing.NewType):
        return _converter(hint.__supertype__)
    if typing.get_origin(hint) in (types.UnionType, typing.Union):
        inner = next((c for a in typing.get_args(hint) if (c := _converter(a)) is not None), None)
        return None if inner is None else lambda value: None if value is None else inner(value)
    if hint is bool or (isinstance(hint, type) and issubclass(hint, Enum)):
        return typing.cast(_Convert, hint)
    if (of_model := getattr(hint, "model_validate_json", None)) is not None:
        return typing.cast(_Convert, of_model)
    if typing.get_origin(hint) is tuple:
        return lambda value: tuple(json.loads(value))
    return json.loads if typing.get_origin(hint) in (list, dict) else None


@cache
def _columns(cls: Hashable) -> tuple[tuple[str, _Convert | None], ...]:
    record = typing.cast(type, cls)
    hints = typing.get_type_hints(record)
    return tuple((f.name, _converter(hints[f.name])) for f in fields(record))


class Record:
    """The base of what a query gives: ``from_row`` reads one row, ``read`` the first of a cursor, ``read_all`` all."""

    @classmethod
    def from_row(cls, row: sqlite3.Row) -> Self:
        """One row, whose columns are the fields. A column that is missing raises IndexError."""
        make: Callable[..., Self] = cls
        return make(
            *[row[n] if convert is None else convert(row[n]) for n, convert in _columns(typing.cast(Hashable, cls))]
        )

    @classmethod
    def read(cls, rows: sqlite3.Cursor) -> Self | None:
        """The first row of a query, or None."""
        row = rows.fetchone()
        return None if row is None else cls.from_row(row)

    @classmethod
    def read_all(cls, rows: Iterator[sqlite3.Row]) -> list[Self]:
        """All rows of a query."""
        return [cls.from_row(row) for row in rows]
