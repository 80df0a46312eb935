"""The event log: a chunk of rows turned into columns, and the reasons for rows that cannot be taken."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import repeat
from operator import contains
from typing import NamedTuple
from zoneinfo import ZoneInfo

import numpy as np

from openmeadow.core.addresses.syntax import address_key
from openmeadow.core.errors import MeadowError
from openmeadow.core.events import KIND_OF_WORD
from openmeadow.core.imports.dates import moment
from openmeadow.core.imports.report import Refusal
from openmeadow.core.imports.subscribers import LONGEST_CELL

REQUIRED = ("at", "event", "email", "message")
OPTIONAL = ("id", "url", "agent", "ip", "code", "diagnostic", "value")
NAMES = REQUIRED + OPTIONAL
MAY_LACK_MESSAGE = {"booked", "complained", "unsubscribed", "replied"}


_NUMBER_OF_WORD = {word: int(kind) for word, kind in KIND_OF_WORD.items()}


class Event(NamedTuple):
    """One event as read; ``at`` in UTC seconds, ``kind`` as in ``Kind``, text as written or None."""

    at: int
    kind: int
    email_key: str
    message: str
    id: str | None
    url: str
    agent: str
    ip: str
    code: str | None
    diagnostic: str | None
    value: float


def places(header: Sequence[str]) -> list[int]:
    """Where each of NAMES stands in the header; -1 for an optional one that is absent."""
    clean = [h.strip().lower() for h in header]
    missing = [name for name in REQUIRED if name not in clean]
    if missing:
        raise MeadowError(f"The event log has no column “{missing[0]}”. Required: {', '.join(REQUIRED)}.")
    return [clean.index(name) if name in clean else -1 for name in NAMES]


class Chunk(NamedTuple):
    """Many events as columns, in the fields of ``Event``."""

    at: list[int]
    kind: list[int]
    email_key: list[str]
    message: list[str]
    id: list[str | None]
    url: Sequence[str]
    agent: Sequence[str]
    ip: Sequence[str]
    code: list[str | None]
    diagnostic: list[str | None]
    value: list[float]

    def part(self, first: int, end: int) -> Chunk:
        """The events from place ``first`` up to ``end``."""
        return Chunk._make(column[first:end] for column in self)

    @staticmethod
    def of(events: Sequence[Event]) -> Chunk:
        """Events as columns."""
        return Chunk(*(list(c) for c in zip(*events, strict=True))) if events else Chunk(*([] for _ in NAMES))


def read_many(
    rows: Sequence[tuple[int, Sequence[str]]], where: Sequence[int], zone: ZoneInfo
) -> tuple[Chunk, list[Refusal]]:
    """A chunk at once. The columns of a clean chunk are read whole; one with anything odd, row by row."""
    if rows and (clean := _read_columns([cells for _, cells in rows], where, zone)) is not None:
        return clean, []
    found: list[Event] = []
    refused: list[Refusal] = []
    for line, cells in rows:
        mine = [cells[i] if 0 <= i < len(cells) else "" for i in where]
        one = read(mine, line, zone)
        if isinstance(one, Event):
            found.append(one)
        else:
            refused.append(replace(one, cells=mine))
    return Chunk.of(found), refused


def _or_none(column: Sequence[str]) -> list[str | None]:
    return [c or None for c in column] if any(column) else [None] * len(column)


def _moments(at: Sequence[str], zone: ZoneInfo) -> list[int]:
    """UTC seconds of many times; those written to the second in UTC are read all at once."""
    if set(map(len, at)) == {20} and "".join(at)[19::20].count("Z") == "".join(at)[10::20].count("T") == len(at):
        seconds: list[int] = np.array([a[:19] for a in at], "datetime64[s]").astype(np.int64).tolist()
        return seconds
    return [moment(a, zone) for a in at]


def _read_columns(rows: Sequence[Sequence[str]], where: Sequence[int], zone: ZoneInfo) -> Chunk | None:
    """The columns of a chunk in which nothing is odd; None when something is."""
    try:
        columns = list(zip(*rows, strict=True))
        empty = ("",) * len(rows)
        at, word, email, message, row_id, url, agent, ip, code, diagnostic, value = (
            columns[i] if i >= 0 else empty for i in where
        )
        for column in columns:
            text = "".join(column)
            if not text.isascii():
                text.encode()
            if len(text) > LONGEST_CELL and max(map(len, column)) > LONGEST_CELL:
                return None
        kinds = [_NUMBER_OF_WORD[w] for w in word]
        moments = _moments(at, zone)
        worth = [float(v) if v else 0.0 for v in value] if any(value) else [0.0] * len(rows)
    except (ValueError, KeyError, IndexError, OverflowError):
        return None
    if not all(map(contains, email, repeat("@"))) or (any(value) and not all(abs(w) < 1e15 for w in worth)):
        return None
    if not all(message) and any(not m and w not in MAY_LACK_MESSAGE for m, w in zip(message, word, strict=True)):
        return None
    every = "".join(email)
    keys = (
        list(map(str.lower, email)) if every.isascii() and " " not in every else [address_key(e.strip()) for e in email]
    )
    return Chunk(
        moments,
        kinds,
        keys,
        list(map(str.strip, message)),
        _or_none(row_id),
        url,
        agent,
        ip,
        _or_none(code),
        _or_none(diagnostic),
        worth,
    )


def _problem(cells: Sequence[str]) -> tuple[str, str] | None:
    for name, cell in zip(NAMES, cells, strict=True):
        if len(cell) > LONGEST_CELL:
            return name, "the cell is over 64 kB"
        try:
            cell.encode()
        except UnicodeEncodeError:
            return name, "the cell cannot be decoded as UTF-8"
    return None


def read(cells: Sequence[str], line: int, zone: ZoneInfo) -> Event | Refusal:
    """``cells`` in the order of NAMES, absent ones empty."""
    at, word, email, message, row_id, url, agent, ip, code, diagnostic, value = cells
    if (problem := _problem(cells)) is not None:
        return Refusal(line, *problem)
    kind = KIND_OF_WORD.get(word) or KIND_OF_WORD.get(word.strip().lower())
    if kind is None:
        return Refusal(line, "event", f"“{word[:40]}” is not an event; use one of {', '.join(KIND_OF_WORD)}")
    try:
        when = moment(at, zone)
    except (ValueError, OverflowError):
        return Refusal(line, "at", f"“{at[:40]}” is not a time; write it like 2026-03-12T14:10:00+00:00")
    if "@" not in email:
        return Refusal(line, "email", f"“{email[:60]}” is not an address")
    if not message and word.strip().lower() not in MAY_LACK_MESSAGE:
        return Refusal(line, "message", f"a {word.strip().lower()} event needs the name of its message")
    worth = 0.0
    if value:
        try:
            worth = float(value)
        except ValueError:
            return Refusal(line, "value", f"“{value[:40]}” is not a number")
        if not abs(worth) < 1e15:
            return Refusal(line, "value", f"“{value[:40]}” is not a sum of money")
    return Event(
        when,
        int(kind),
        address_key(email.strip()),
        message.strip(),
        row_id or None,
        url,
        agent,
        ip,
        code or None,
        diagnostic or None,
        worth,
    )
