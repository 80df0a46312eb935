"""From SQLite to the core's columns: the arrays are loaded once and brought up to date from the highest event seen."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, fields, replace

import numpy as np

from openmeadow.core.arrays import FAR, I32, I64, NEVER, Array, Mask
from openmeadow.core.columns import Columns, People, Trouble, Troubles, build, splice
from openmeadow.core.engagement.bot_signatures import Machines
from openmeadow.core.events import Kind, RawEvents
from openmeadow.core.reports.bounces import bounce_class
from openmeadow.core.rules.late_view import Late, later
from openmeadow.core.states import BounceClass
from openmeadow.store.bulk import one_moment, read_columns
from openmeadow.store.subscribers.subscribers import people_version

MOST_SPLICED = 20_000  # people
_AT_ONCE = 1 << 20  # ids of events looked at together
_EVENT_SQL = "SELECT id, at, kind, subscriber, message, link, agent FROM events WHERE {where}"
_WORTH_SQL = "SELECT id, value FROM events WHERE {where} AND value <> 0"
_TYPES = "qqbqiii"
Read = Callable[[], sqlite3.Connection]  # a thread's own connection


@dataclass(frozen=True)
class AllPeople:
    """Everyone ever imported, by id, at one ``version`` of the table."""

    people: People
    erased: Mask
    provider: Array
    version: int


def all_people_of(db: sqlite3.Connection, known: AllPeople | None = None) -> AllPeople:
    """All people; ``known`` again when nothing about them has changed."""
    version = people_version(db)
    if known is not None and known.version == version:
        return known
    return _people(db, "", version)


def _people(db: sqlite3.Connection, where: str, version: int) -> AllPeople:
    row_id, joined, since, erased, provider, source = read_columns(
        db,
        "SELECT id, joined_at, coalesce(rejoined_at, ?), erased_at IS NOT NULL, provider, coalesce(source, 0) "
        f"FROM subscribers {where} ORDER BY id",
        (int(NEVER),),
        "qqq?ii",
    )
    return AllPeople(People(row_id, joined, since, source), erased, provider, version)


def few_of(db: sqlite3.Connection, ids: I64) -> AllPeople:
    """A few people, by ascending id."""
    return _people(db, f"WHERE id IN ({','.join(map(str, ids.tolist()))})", 0)


def some_of(db: sqlite3.Connection, ids: I64, machines: Machines) -> tuple[AllPeople, Columns]:
    """A few people with what is known of them alone: as quick beside a million as beside a hundred."""
    few = few_of(db, ids)
    return few, build(few.people, raw_events(db, few.people, machines, only=ids)[0], link_counts(db))


def raw_events(
    db: sqlite3.Connection,
    of: People,
    machines: Machines,
    *,
    only: I64 | None = None,
    until: int | None = None,
    beside: Read | None = None,
) -> tuple[RawEvents, int]:
    """All events of the people, or of some (store ids), or those up to a moment; and the highest id among them."""
    where, arguments = ["1"], []
    if until is not None:
        where.append("at <= ?")
        arguments.append(until)
    if only is not None:
        where.append(f"subscriber IN ({','.join('?' * len(only))})")
        arguments += only.tolist()
    highest, (at, kind, subscriber, message, link, agent, value) = _events(
        db, " AND ".join(where), arguments, whole=only is None, beside=beside
    )
    listed, blind = _agents(db, machines)
    place = np.searchsorted(of.id, subscriber)
    trap = _marked([r["id"] for r in db.execute("SELECT id FROM links WHERE trap")], link)
    events = RawEvents(at, kind, place.astype(np.int32), message, link, value, listed[agent], blind[agent], trap[link])
    return events, highest


def _events(
    db: sqlite3.Connection, where: str, arguments: list[int], *, whole: bool, beside: Read | None = None
) -> tuple[int, list[Array]]:
    """The highest id, and the columns of events without their ids; all of them in pieces, so that no more than one piece
    stands as text, and where ``beside`` gives another thread its connection, by two."""
    if not whole:
        row_id, *columns = _events_where(db, where, arguments)
        return int(row_id.max(initial=0)), columns
    top = int(db.execute("SELECT coalesce(max(id), 0) AS n FROM events").fetchone()["n"])
    firsts = range(0, max(top, 1), _AT_ONCE)
    out = [np.zeros(top, t) for t in f"{_TYPES[1:]}d"]  # memory is taken as it is filled
    lengths, ends = dict[int, int](), dict[int, int]()

    def fill(read: Read, some: range) -> None:
        with one_moment(here := read()):
            for first in some:
                last = min(first + _AT_ONCE, top)
                row_id, *piece = _events_where(here, f"{where} AND id > {first} AND id <= {last}", arguments)
                lengths[first], ends[first] = len(row_id), int(row_id.max(initial=0))
                for column, part in zip(out, piece, strict=True):
                    if part.any():
                        column[first : first + len(part)] = part

    # what stands up to the highest id changes no more, but where an import is undone; then all is read anew
    if beside is None or len(firsts) == 1:
        fill(lambda: db, firsts)
    else:
        with ThreadPoolExecutor(1) as pool:
            others = pool.submit(fill, beside, firsts[1::2])
            fill(lambda: db, firsts[::2])
            others.result()
    n = 0
    for first in firsts:
        for column in out if n != first else ():
            column[n : n + lengths[first]] = column[first : first + lengths[first]]
        n += lengths[first]
    return max(ends.values()), [column[:n] for column in out]


def _events_where(db: sqlite3.Connection, where: str, arguments: list[int]) -> list[Array]:
    columns = read_columns(db, _EVENT_SQL.format(where=where), arguments, _TYPES)
    worth = np.zeros(len(columns[0]))
    valued, value = read_columns(db, _WORTH_SQL.format(where=where), arguments, "qd")
    order = np.argsort(columns[0], kind="stable")
    worth[order[np.searchsorted(columns[0], valued, sorter=order)]] = value
    return [*columns, worth]


def _marked(ids: list[int], up_to: I32) -> Mask:
    """A mask over ids, as long as the highest of them or of those asked about; others may be added meanwhile."""
    out = np.zeros(max([0, int(up_to.max(initial=0)), *ids]) + 1, bool)
    out[ids] = True
    return out


def _agents(db: sqlite3.Connection, machines: Machines) -> tuple[Mask, Mask]:
    """Of each agent by its id, whether it is a listed machine, and whether nothing is known of it. Judged once each."""
    known = machines.judged
    for row in db.execute("SELECT id, agent, ip FROM agents WHERE id > ? ORDER BY id", (len(known) - 1,)):
        known.extend([False] * (row["id"] - len(known)))
        known.append(machines.has(row["agent"], row["ip"]))
    listed = np.array(known, bool)
    blind = np.zeros(len(listed), bool)
    blind[0] = True
    return listed, blind


def link_counts(db: sqlite3.Connection) -> I32:
    """The number of links of each message, the hidden one left out."""
    rows = db.execute("SELECT message, count(*) AS n FROM links WHERE NOT trap GROUP BY message").fetchall()
    top = int(db.execute("SELECT coalesce(max(id), 0) AS n FROM messages").fetchone()["n"])
    out = np.zeros(max(top, *(int(r["message"]) for r in rows), 0) + 1, np.int32)
    for row in rows:
        out[row["message"]] = row["n"]
    return out


def load(
    db: sqlite3.Connection, everybody: People, machines: Machines, until: int | None = None, beside: Read | None = None
) -> tuple[Columns, int]:
    """All columns and the highest event in them; ``beside`` gives another thread its connection."""
    events, highest = raw_events(db, everybody, machines, until=until, beside=beside)
    return build(everybody, events, link_counts(db)), highest


def touched_since(db: sqlite3.Connection, everybody: People, seen: int) -> tuple[I64, int]:
    """The row numbers of people with events after event ``seen``, and the highest event now."""
    new_ids, subscriber = read_columns(db, "SELECT id, subscriber FROM events WHERE id > ?", (seen,), "qq")
    return np.unique(np.searchsorted(everybody.id, subscriber)), int(new_ids.max()) if len(new_ids) else seen


def few_columns(db: sqlite3.Connection, everybody: People, at: I64, machines: Machines) -> Columns:
    """All that is known of the people at some places among everybody."""
    people = People(**{f.name: getattr(everybody, f.name)[at] for f in fields(People)})
    return build(people, raw_events(db, people, machines, only=people.id)[0], link_counts(db))


def spliceable(touched: int, known: int) -> bool:
    """Whether putting so many people's rows in place is quicker than making all anew."""
    return touched <= MOST_SPLICED and touched * 4 <= known


def refresh(
    db: sqlite3.Connection, everybody: People, machines: Machines, old: Columns, seen: int, late: Late | None = None
) -> tuple[Columns, int, I64]:
    """Columns with what came since event ``seen``; also the row numbers of the people it touched. What ``late`` knows of
    those whom it touched first is not read again."""
    known = len(old.people)
    same = len(everybody) >= known and bool((everybody.id[:known] == old.people.id).all())
    touched, top = touched_since(db, everybody, seen if late is None else late.seen)
    if late is not None:
        if same and spliceable(len(late.at) + len(touched), known):
            if len(touched):
                late = later(late, few_columns(db, everybody, touched, machines), touched, top)
            return splice(old, everybody, late.at, late.among(everybody)), top, late.at
        touched, top = touched_since(db, everybody, seen)
    if not same or not spliceable(len(touched), known):
        fresh, top = load(db, everybody, machines)
        return fresh, top, np.arange(len(everybody))
    if len(touched) == 0:
        if len(everybody) == known:
            return Columns(everybody, old.rows, old.acts, old.start), seen, touched
        events, _ = raw_events(db, everybody, machines, only=np.zeros(0, np.int64))
    else:
        events, _ = raw_events(db, everybody, machines, only=everybody.id[touched])
    return splice(old, everybody, touched, build(everybody, events, link_counts(db))), top, touched


_TROUBLE_OF_CLASS = {
    BounceClass.HARD: Trouble.HARD,
    BounceClass.SOFT: Trouble.SOFT,
    BounceClass.BLOCKED: Trouble.BLOCKED,
    BounceClass.UNKNOWN: Trouble.UNKNOWN,
}


def _trouble(kind: int, code: str | None, diagnostic: str | None) -> Trouble:
    if kind == Kind.COMPLAINED:
        return Trouble.COMPLAINED
    if kind == Kind.UNSUBSCRIBED:
        return Trouble.UNSUBSCRIBED
    return _TROUBLE_OF_CLASS[bounce_class(code, diagnostic)]


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
    among = f" AND subscriber IN ({','.join(map(str, everybody.id.tolist()))})" if few else ""
    by = "" if seen or few else "INDEXED BY events_of_trouble"  # what is new lies together, what is there does not
    kind, code, diagnostic, at, person, message = read_columns(
        db,
        f"SELECT kind, code, diagnostic, at, subscriber, message FROM events {by} WHERE (kind = 4 OR kind >= 9) "
        f"AND id > ? AND id <= ?{among} ORDER BY id",
        (seen, upto),
        "bOOqqi",
    )
    said = list(zip(kind.tolist(), code, diagnostic, strict=True))
    judged = {one: _trouble(*one) for one in set(said)}
    what = np.fromiter((judged[one] for one in said), np.int8, len(said))
    new = Troubles(at, np.searchsorted(everybody.id, person).astype(np.int32), message, what)
    if old is None:
        return new
    return Troubles(**{f.name: np.concatenate((getattr(old, f.name), getattr(new, f.name))) for f in fields(Troubles)})


def people_as_of(db: sqlite3.Connection, people: People, now: int) -> People:
    """The same people as they stood at a past moment: a rejoining that came later had not happened."""
    if not (people.since > now).any():
        return people
    since = np.where(people.since > now, NEVER, people.since)
    subscriber, at = read_columns(
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
