"""From SQLite to the core's columns: the arrays are loaded once and brought up to date from the highest event seen."""

from __future__ import annotations

import gc
import sqlite3
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from openmeadow.core.columns import FAR, I32, I64, NEVER, Columns, Mask, People, RawEvents, build, splice
from openmeadow.core.engagement.machines import is_listed
from openmeadow.store.subscribers import people_version

_EVENT_SQL = "SELECT id, at, kind, subscriber, message, link, agent, value FROM events WHERE {where} "


def _table(db: sqlite3.Connection, sql: str, arguments: Sequence[Any], types: str) -> list[np.ndarray[Any, Any]]:
    """The columns of a query, read in blocks so that no more than one block of tuples is alive."""
    collecting = gc.isenabled()
    gc.disable()  # rows hold no cycles; looking for them costs more than reading
    try:
        return _read(db.cursor(), sql, arguments, types)
    finally:
        if collecting:
            gc.enable()


def _read(cursor: sqlite3.Cursor, sql: str, arguments: Sequence[Any], types: str) -> list[np.ndarray[Any, Any]]:
    cursor.row_factory = None
    cursor.execute(sql, arguments)
    blocks: list[list[np.ndarray[Any, Any]]] = []
    while part := cursor.fetchmany(50_000):
        blocks.append([np.array(c, dtype=t) for c, t in zip(zip(*part, strict=True), types, strict=True)])
    if not blocks:
        return [np.zeros(0, t) for t in types]
    return [np.concatenate(c) for c in zip(*blocks, strict=True)]


@dataclass(frozen=True)
class Everybody:
    """Everybody ever brought in, by id, at one ``version`` of the table."""

    people: People
    erased: Mask
    provider: np.ndarray[Any, Any]
    door: np.ndarray[Any, Any]
    version: int


def everybody_of(db: sqlite3.Connection, known: Everybody | None = None) -> Everybody:
    """All people; ``known`` again when nothing about them has changed."""
    version = people_version(db)
    if known is not None and known.version == version:
        return known
    id, joined, since, erased, provider, door = _table(
        db,
        "SELECT id, joined_at, coalesce(rejoined_at, ?), erased_at IS NOT NULL, provider, coalesce(door, 0) "
        "FROM subscribers ORDER BY id",
        (int(NEVER),),
        "qqq?ii",
    )
    return Everybody(People(id, joined, since), erased, provider, door, version)


def raw_events(db: sqlite3.Connection, of: People, *, only: I64 | None = None, until: int | None = None) -> RawEvents:
    """All events of the people, or of some (store ids), or those up to a moment."""
    where, arguments = ["1"], []
    if until is not None:
        where.append("at <= ?")
        arguments.append(until)
    if only is not None:
        where.append(f"subscriber IN ({','.join('?' * len(only))})")
        arguments += only.tolist()
    sql = _EVENT_SQL.format(where=" AND ".join(where))
    id, at, kind, subscriber, message, link, agent, value = _table(db, sql, arguments, "qqbqiiid")
    listed, blind = _agents(db)
    place = np.searchsorted(of.id, subscriber)
    trap = np.zeros(int(db.execute("SELECT coalesce(max(id), 0) AS n FROM links").fetchone()["n"]) + 1, bool)
    for row in db.execute("SELECT id FROM links WHERE trap"):
        trap[row["id"]] = True
    return RawEvents(id, at, kind, place.astype(np.int32), message, link, value, listed[agent], blind[agent], trap[link])


def _agents(db: sqlite3.Connection) -> tuple[Mask, Mask]:
    top = int(db.execute("SELECT coalesce(max(id), 0) AS n FROM agents").fetchone()["n"])
    listed, blind = np.zeros(top + 1, bool), np.zeros(top + 1, bool)
    blind[0] = True
    for row in db.execute("SELECT id, agent, ip FROM agents"):
        listed[row["id"]] = is_listed(row["agent"], row["ip"])
    return listed, blind


def link_counts(db: sqlite3.Connection) -> I32:
    """The number of links of each message, the hidden one left out."""
    top = int(db.execute("SELECT coalesce(max(id), 0) AS n FROM messages").fetchone()["n"])
    out = np.zeros(top + 1, np.int32)
    for row in db.execute("SELECT message, count(*) AS n FROM links WHERE NOT trap GROUP BY message"):
        out[row["message"]] = row["n"]
    return out


def load(db: sqlite3.Connection, everybody: People, until: int | None = None) -> tuple[Columns, int]:
    """All columns and the highest event in them."""
    events = raw_events(db, everybody, until=until)
    return build(everybody, events, link_counts(db)), int(events.id.max()) if len(events.id) else 0


def refresh(db: sqlite3.Connection, everybody: People, old: Columns, seen: int) -> tuple[Columns, int, I64]:
    """Columns with what came since event ``seen``; also the row numbers of the people it touched."""
    new_ids, subscriber = _table(db, "SELECT id, subscriber FROM events WHERE id > ?", (seen,), "qq")
    known = len(old.people)
    same = len(everybody) >= known and bool((everybody.id[:known] == old.people.id).all())
    touched = np.unique(np.searchsorted(everybody.id, subscriber))
    if not same or len(touched) > 20_000 or len(touched) * 4 > known:
        fresh, top = load(db, everybody)
        return fresh, top, np.arange(len(everybody))
    if len(touched) == 0:
        if len(everybody) == known:
            return Columns(everybody, old.rows, old.acts, old.start), seen, touched
        top = seen
        events = raw_events(db, everybody, only=np.zeros(0, np.int64))
    else:
        top = int(new_ids.max())
        events = raw_events(db, everybody, only=everybody.id[touched])
    return splice(old, everybody, touched, build(everybody, events, link_counts(db))), top, touched


__all__ = ["FAR", "Everybody", "everybody_of", "link_counts", "load", "raw_events", "refresh"]
