"""From SQLite to the core's columns: the arrays are loaded once and brought up to date from the highest event seen."""

from __future__ import annotations

import gc
import sqlite3
from collections.abc import Sequence
from dataclasses import dataclass, fields, replace

import numpy as np

from openmeadow.core.arrays import FAR, I32, I64, NEVER, Array, Mask
from openmeadow.core.columns import Columns, People, Trouble, Troubles, build, splice
from openmeadow.core.engagement.bot_signatures import Machines
from openmeadow.core.events import RawEvents
from openmeadow.core.reports.bounces import bounce_class
from openmeadow.store.rows import SqlValue
from openmeadow.store.subscribers.subscribers import people_version

_EVENT_SQL = "SELECT id, at, kind, subscriber, message, link, agent, value FROM events WHERE {where} "


def _table(db: sqlite3.Connection, sql: str, arguments: Sequence[SqlValue], types: str) -> list[Array]:
    """The columns of a query, read in blocks so that no more than one block of tuples is alive."""
    collecting = gc.isenabled()
    gc.disable()  # rows hold no cycles; looking for them costs more than reading
    try:
        return _read(db.cursor(), sql, arguments, types)
    finally:
        if collecting:
            gc.enable()


def _read(cursor: sqlite3.Cursor, sql: str, arguments: Sequence[SqlValue], types: str) -> list[Array]:
    cursor.row_factory = None
    cursor.execute(sql, arguments)
    blocks: list[list[Array]] = []
    while part := cursor.fetchmany(50_000):
        blocks.append([np.array(c, dtype=t) for c, t in zip(zip(*part, strict=True), types, strict=True)])
    if not blocks:
        return [np.zeros(0, t) for t in types]
    return [np.concatenate(c) for c in zip(*blocks, strict=True)]


@dataclass(frozen=True)
class AllPeople:
    """Everyone ever imported, by id, at one ``version`` of the table."""

    people: People
    erased: Mask
    provider: Array
    source: Array
    version: int


def all_people_of(db: sqlite3.Connection, known: AllPeople | None = None) -> AllPeople:
    """All people; ``known`` again when nothing about them has changed."""
    version = people_version(db)
    if known is not None and known.version == version:
        return known
    return _people(db, "", version)


def _people(db: sqlite3.Connection, where: str, version: int) -> AllPeople:
    row_id, joined, since, erased, provider, source = _table(
        db,
        "SELECT id, joined_at, coalesce(rejoined_at, ?), erased_at IS NOT NULL, provider, coalesce(source, 0) "
        f"FROM subscribers {where} ORDER BY id",
        (int(NEVER),),
        "qqq?ii",
    )
    return AllPeople(People(row_id, joined, since), erased, provider, source, version)


def few_of(db: sqlite3.Connection, ids: I64) -> AllPeople:
    """A few people, by ascending id."""
    return _people(db, f"WHERE id IN ({','.join(map(str, ids.tolist()))})", 0)


def some_of(db: sqlite3.Connection, ids: I64, machines: Machines) -> tuple[AllPeople, Columns]:
    """A few people with what is known of them alone: as quick beside a million as beside a hundred."""
    few = few_of(db, ids)
    return few, build(few.people, raw_events(db, few.people, machines, only=ids), link_counts(db))


def raw_events(
    db: sqlite3.Connection, of: People, machines: Machines, *, only: I64 | None = None, until: int | None = None
) -> RawEvents:
    """All events of the people, or of some (store ids), or those up to a moment."""
    where, arguments = ["1"], []
    if until is not None:
        where.append("at <= ?")
        arguments.append(until)
    if only is not None:
        where.append(f"subscriber IN ({','.join('?' * len(only))})")
        arguments += only.tolist()
    sql = _EVENT_SQL.format(where=" AND ".join(where))
    row_id, at, kind, subscriber, message, link, agent, value = _table(db, sql, arguments, "qqbqiiid")
    listed, blind = _agents(db, machines)
    place = np.searchsorted(of.id, subscriber)
    trap = _marked([r["id"] for r in db.execute("SELECT id FROM links WHERE trap")], link)
    return RawEvents(
        row_id, at, kind, place.astype(np.int32), message, link, value, listed[agent], blind[agent], trap[link]
    )


def _marked(ids: list[int], up_to: I32) -> Mask:
    """A mask over ids, as long as the highest of them or of those asked about; others may be added meanwhile."""
    out = np.zeros(max([0, int(up_to.max(initial=0)), *ids]) + 1, bool)
    out[ids] = True
    return out


def _agents(db: sqlite3.Connection, machines: Machines) -> tuple[Mask, Mask]:
    rows = db.execute("SELECT id, agent, ip FROM agents").fetchall()
    top = max((int(r["id"]) for r in rows), default=0)  # of one reading: others are being added
    listed, blind = np.zeros(top + 1, bool), np.zeros(top + 1, bool)
    blind[0] = True
    for row in rows:
        listed[row["id"]] = machines.has(row["agent"], row["ip"])
    return listed, blind


def link_counts(db: sqlite3.Connection) -> I32:
    """The number of links of each message, the hidden one left out."""
    rows = db.execute("SELECT message, count(*) AS n FROM links WHERE NOT trap GROUP BY message").fetchall()
    top = int(db.execute("SELECT coalesce(max(id), 0) AS n FROM messages").fetchone()["n"])
    out = np.zeros(max(top, *(int(r["message"]) for r in rows), 0) + 1, np.int32)
    for row in rows:
        out[row["message"]] = row["n"]
    return out


def load(db: sqlite3.Connection, everybody: People, machines: Machines, until: int | None = None) -> tuple[Columns, int]:
    """All columns and the highest event in them."""
    events = raw_events(db, everybody, machines, until=until)
    return build(everybody, events, link_counts(db)), int(events.id.max()) if len(events.id) else 0


def refresh(
    db: sqlite3.Connection, everybody: People, machines: Machines, old: Columns, seen: int
) -> tuple[Columns, int, I64]:
    """Columns with what came since event ``seen``; also the row numbers of the people it touched."""
    new_ids, subscriber = _table(db, "SELECT id, subscriber FROM events WHERE id > ?", (seen,), "qq")
    known = len(old.people)
    same = len(everybody) >= known and bool((everybody.id[:known] == old.people.id).all())
    touched = np.unique(np.searchsorted(everybody.id, subscriber))
    if not same or len(touched) > 20_000 or len(touched) * 4 > known:
        fresh, top = load(db, everybody, machines)
        return fresh, top, np.arange(len(everybody))
    if len(touched) == 0:
        if len(everybody) == known:
            return Columns(everybody, old.rows, old.acts, old.start), seen, touched
        top = seen
        events = raw_events(db, everybody, machines, only=np.zeros(0, np.int64))
    else:
        top = int(new_ids.max())
        events = raw_events(db, everybody, machines, only=everybody.id[touched])
    return splice(old, everybody, touched, build(everybody, events, link_counts(db))), top, touched


_TROUBLE_OF_CLASS = {"hard": Trouble.HARD, "soft": Trouble.SOFT, "blocked": Trouble.BLOCKED, "unknown": Trouble.UNKNOWN}


def troubles(
    db: sqlite3.Connection,
    everybody: People,
    old: Troubles | None = None,
    seen: int = 0,
    upto: int = 1 << 62,
    *,
    few: bool = False,
) -> Troubles:
    """Bounces by class, complaints and unsubscribes up to event ``upto``; with ``old``, those after ``seen`` are added.
    ``few`` looks at the events of the people given, who they are."""
    at, person, message, what = [], [], [], []
    among = f" AND subscriber IN ({','.join(map(str, everybody.id.tolist()))})" if few else ""
    for row in db.execute(
        "SELECT at, subscriber, message, kind, code, diagnostic FROM events WHERE (kind = 4 OR kind >= 9) AND id > ? "
        f"AND id <= ?{among}",
        (seen, upto),
    ):
        at.append(row["at"])
        person.append(row["subscriber"])
        message.append(row["message"])
        what.append(
            Trouble.COMPLAINED
            if row["kind"] == 9
            else Trouble.UNSUBSCRIBED
            if row["kind"] == 10
            else _TROUBLE_OF_CLASS[bounce_class(row["code"], row["diagnostic"])]
        )
    place = np.searchsorted(everybody.id, np.array(person, np.int64)).astype(np.int32)
    new = Troubles(np.array(at, np.int64), place, np.array(message, np.int32), np.array(what, np.int8))
    if old is None:
        return new
    return Troubles(**{f.name: np.concatenate((getattr(old, f.name), getattr(new, f.name))) for f in fields(Troubles)})


def people_as_of(db: sqlite3.Connection, people: People, now: int) -> People:
    """The same people as they stood at a past moment: a rejoining that came later had not happened."""
    if not (people.since > now).any():
        return people
    since = np.where(people.since > now, NEVER, people.since)
    subscriber, at = _table(
        db,
        "SELECT g.subscriber, max(g.at) FROM consent_entries g WHERE NOT g.void AND g.state = 1 AND g.at <= ? "
        "AND EXISTS (SELECT 1 FROM consent_entries w WHERE NOT w.void AND w.subscriber = g.subscriber "
        "AND w.purpose = g.purpose AND w.channel = g.channel AND w.state = 2 AND w.at < g.at) GROUP BY g.subscriber",
        (now,),
        "qq",
    )
    since[np.searchsorted(people.id, subscriber)] = at
    return replace(people, since=since)


__all__ = [
    "FAR",
    "AllPeople",
    "all_people_of",
    "link_counts",
    "load",
    "people_as_of",
    "raw_events",
    "refresh",
    "some_of",
    "troubles",
]
