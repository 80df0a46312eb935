"""Events: raw, never altered, taken once."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Sequence
from itertools import filterfalse

from openmeadow.core.events import Kind
from openmeadow.core.ids import DeliveryId, MessageId, SubscriberId
from openmeadow.store.bulk import Many, insert_many
from openmeadow.store.engagement import event_hours
from openmeadow.store.engagement.records import AsideEvent, BounceCount, Event, ForgottenEvent, Reply, SubscriberEvent
from openmeadow.store.subscribers.subscribers import ids_of

MOST_REMEMBERED = 200_000  # links and agents; a file with more of them costs look-ups, not memory
MOST_PEOPLE = 1_500_000  # bounded by the workspace, not by the file


class Names:
    """Messages, links and agents by their text; makes what is new. Remembers at most so many, so memory stays flat."""

    def __init__(self, db: sqlite3.Connection) -> None:
        self.db = db
        self.made_messages: list[str] = []
        self._people: dict[str, int] = {}
        self._messages: dict[str, MessageId] = {"": MessageId(0)}
        self._links: dict[tuple[str | int, str], int] = {}
        self._agents: dict[tuple[str | int, str], int] = {}

    def messages(self, names: Sequence[str]) -> list[MessageId]:
        """Ids of messages by name, "" being 0; unknown ones are made."""
        for name in [n for n in set(names) if n not in self._messages]:
            row = self.db.execute("SELECT id FROM messages WHERE name = ?", (name,)).fetchone()
            if row is None:
                self.made_messages.append(name)
                row_id = MessageId(self.db.execute("INSERT INTO messages (name) VALUES (?)", (name,)).lastrowid or 0)
            else:
                row_id = MessageId(row["id"])
            self._messages[name] = row_id
        return [self._messages[name] for name in names]

    def _pairs(
        self, table: str, cache: dict[tuple[str | int, str], int], pairs: Sequence[tuple[str | int, str]]
    ) -> list[int]:
        if len(cache) > MOST_REMEMBERED:
            cache.clear()
        cache.update({("", ""): 0})
        a, b = {"links": ("message", "url"), "agents": ("agent", "ip")}[table]
        todo = [p for p in set(pairs) if p not in cache]
        if todo:
            known = self.db.execute(
                f"SELECT t.id, t.{a}, t.{b} FROM json_each(?) j JOIN {table} t "
                f"ON t.{a} = j.value ->> 0 AND t.{b} = j.value ->> 1",
                (json.dumps(todo),),
            )
            cache.update({(r[a], r[b]): int(r["id"]) for r in known})
        for pair in [p for p in todo if p not in cache]:
            self.db.execute(f"INSERT OR IGNORE INTO {table} ({a}, {b}) VALUES (?, ?)", pair)
            row = self.db.execute(f"SELECT id FROM {table} WHERE {a} = ? AND {b} = ?", pair).fetchone()
            cache[pair] = int(row["id"])
        return [cache[pair] for pair in pairs]

    def links(self, messages: Sequence[MessageId], urls: Sequence[str]) -> list[int]:
        """Ids of links; 0 where there is no address."""
        if not any(urls):
            return [0] * len(urls)
        return self._pairs("links", self._links, [(m, u) if u else ("", "") for m, u in zip(messages, urls, strict=True)])

    def agents(self, agents: Sequence[str], ips: Sequence[str]) -> list[int]:
        """Ids of agents with their network address; 0 where neither is known."""
        return self._pairs("agents", self._agents, list(zip(agents, ips, strict=True)))

    def expect(self, rows: int) -> None:
        """Before many rows: everybody at once is quicker than look-ups by the thousand, if memory allows."""
        count = int(self.db.execute("SELECT count(*) AS n FROM subscribers").fetchone()["n"])
        if rows * 2 > count and count <= MOST_PEOPLE:
            cursor = self.db.cursor()
            cursor.row_factory = None
            self._people = dict(cursor.execute("SELECT email_key, id FROM subscribers"))

    def people(self, keys: Sequence[str]) -> dict[str, int]:
        """Ids of the known addresses among ``keys``; unknown ones are absent."""
        if len(self._people) > MOST_PEOPLE:
            self._people.clear()
        todo = list(filterfalse(self._people.__contains__, keys))
        if todo:
            self._people.update(ids_of(self.db, list(set(todo))))
        return self._people


INSERT = "INSERT OR IGNORE INTO events (at, kind, subscriber, message, link, agent, value, code, diagnostic, outside_id)"


# at, kind, subscriber, message, link, agent (0 for none of these three), value, code, diagnostic, outside id
Row = tuple[int, int, int, int, int, int, float, str | None, str | None, str | None]


def add(db: sqlite3.Connection, rows: Many[Row]) -> int:
    """Insert events; repeats (same outside id, or same at, event, person, message, url) are skipped."""
    before, last = db.total_changes, highest(db)
    insert_many(db, INSERT, rows, 10)
    new = db.total_changes - before
    if new:
        event_hours.added(db, last)
    return new


def expect(db: sqlite3.Connection, rows: int) -> None:
    """Before many rows into a small table: leave the index by subscriber out until ``indexed``."""
    there = int(db.execute("SELECT coalesce(max(id), 0) AS n FROM events").fetchone()["n"])
    if rows > 50_000 and rows > there:
        db.execute("DROP INDEX IF EXISTS events_of_subscriber")


def indexed(db: sqlite3.Connection) -> None:
    """The index by subscriber, made if it is missing (after a large import, or one that was cut off)."""
    db.execute("CREATE INDEX IF NOT EXISTS events_of_subscriber ON events (subscriber)")


def is_little(db: sqlite3.Connection, since: int, until: int) -> bool:
    """Whether a span of time, ends included, is little of all the time that events are of, and they are found by
    subscriber: those of the span then lie closer by subscriber than by time."""
    there = db.execute("SELECT 1 FROM sqlite_master WHERE name = 'events_of_subscriber'").fetchone()
    first, last = (db.execute(f"SELECT {f}(at) AS at FROM events").fetchone()["at"] for f in ("min", "max"))
    return there is not None and first is not None and (until - since) * 8 < last - first


def put_aside(db: sqlite3.Connection, rows: Many[tuple[str, str, int | None]]) -> None:
    """(address key, the event as JSON, action): events of unknown addresses wait until somebody joins by them."""
    db.executemany("INSERT OR IGNORE INTO events_aside (email_key, row, action) VALUES (?, ?, ?)", rows)


def aside_now_known(db: sqlite3.Connection, limit: int) -> list[AsideEvent]:
    """Events kept aside whose subscriber is known by now, oldest first."""
    return AsideEvent.read_all(
        db.execute(
            "SELECT a.id, a.row FROM events_aside a JOIN subscribers s ON s.email_key = a.email_key ORDER BY a.id LIMIT ?",
            (limit,),
        )
    )


def forget_aside(db: sqlite3.Connection, ids: Many[int]) -> None:
    """Remove events kept aside."""
    db.executemany("DELETE FROM events_aside WHERE id = ?", [(i,) for i in ids])


def of_subscriber(db: sqlite3.Connection, row_id: int, limit: int = 2000) -> list[SubscriberEvent]:
    """A person's events, newest first, with message, link and agent in words."""
    return SubscriberEvent.read_all(
        db.execute(
            "SELECT e.*, m.name AS message_name, l.url, l.trap, a.agent AS agent_text, a.ip FROM events e "
            "LEFT JOIN messages m ON m.id = e.message LEFT JOIN links l ON l.id = e.link "
            "LEFT JOIN agents a ON a.id = e.agent WHERE e.subscriber = ? ORDER BY e.at DESC, e.kind DESC LIMIT ?",
            (row_id, limit),
        )
    )


def delivery_of(event: Event) -> DeliveryId | None:
    """The delivery that an event of ours says was sent, None for other events."""
    word, _, rest = (event.outside_id or "").partition(" ")
    number = rest.partition(" ")[0]
    return DeliveryId(int(number)) if event.kind == Kind.SENT and word == "delivery" and number.isdigit() else None


def purposes_of_messages(db: sqlite3.Connection) -> dict[int, int]:
    """The purpose of each message that has one, by id."""
    return {
        int(r["id"]): int(r["purpose"]) for r in db.execute("SELECT id, purpose FROM messages WHERE purpose IS NOT NULL")
    }


def message_names(db: sqlite3.Connection) -> dict[int, str]:
    """The names of all messages, by id."""
    return {int(r["id"]): r["name"] for r in db.execute("SELECT id, name FROM messages")}


def so_far(db: sqlite3.Connection, of: Sequence[tuple[SubscriberId, MessageId]], most: int) -> dict[tuple[int, int], int]:
    """How many events there are of messages to people, by both, where it may be ``most``; those of the others are left
    out, and only their index is read."""
    people = db.execute(
        "SELECT j.value AS id FROM json_each(?) j WHERE (SELECT count(*) FROM "
        "(SELECT 1 FROM events e WHERE e.subscriber = j.value LIMIT ?)) >= ?",
        (json.dumps(sorted({subscriber for subscriber, _ in of})), most, most),
    )
    many = {int(r["id"]) for r in people}
    if not many:
        return {}
    rows = db.execute(
        "SELECT e.subscriber, e.message, count(*) AS n FROM json_each(?) j CROSS JOIN events e "
        "INDEXED BY events_of_subscriber ON e.subscriber = j.value ->> 0 AND e.message = j.value ->> 1 GROUP BY 1, 2",
        (json.dumps([key for key in of if key[0] in many]),),
    )
    return {(int(r["subscriber"]), int(r["message"])): int(r["n"]) for r in rows}


def bookings_of(db: sqlite3.Connection, subscriber: SubscriberId, message: MessageId) -> int:
    """How many bookings of a person belong to a message."""
    row = db.execute(
        "SELECT count(*) AS n FROM events WHERE subscriber = ? AND message = ? AND kind = 8", (subscriber, message)
    ).fetchone()
    return int(row["n"])


def replied(db: sqlite3.Connection, message: MessageId, limit: int) -> list[Reply]:
    """(subscriber, email, at) of who replied to a message, the latest first, each once."""
    return Reply.read_all(
        db.execute(
            "SELECT e.subscriber, s.email, max(e.at) AS at FROM events e JOIN subscribers s ON s.id = e.subscriber "
            "WHERE e.message = ? AND e.kind = 7 GROUP BY 1 ORDER BY 3 DESC LIMIT ?",
            (message, limit),
        )
    )


def bounces_of(db: sqlite3.Connection, message: MessageId, until: int) -> list[BounceCount]:
    """Bounces of a message up to a moment, by code and text."""
    return BounceCount.read_all(
        db.execute(
            "SELECT code, diagnostic, count(DISTINCT subscriber) AS people FROM events INDEXED BY events_of_trouble "
            "WHERE message = ? AND (kind = 4 OR kind >= 9) AND kind = 4 AND at <= ? GROUP BY 1, 2 ORDER BY 3 DESC LIMIT 2000",
            (message, until),
        )
    )


def came_since(db: sqlite3.Connection, subscriber: SubscriberId, seen: int) -> bool:
    """Whether anything of a person came after event ``seen``."""
    found = db.execute("SELECT 1 FROM events WHERE subscriber = ? AND id > ? LIMIT 1", (subscriber, seen))
    return found.fetchone() is not None


def sent_to(db: sqlite3.Connection, subscriber: SubscriberId, since: int) -> list[int]:
    """When anything was sent to a person since a moment."""
    found = db.execute("SELECT at FROM events WHERE subscriber = ? AND kind = 1 AND at > ?", (subscriber, since))
    return [int(r["at"]) for r in found]


def highest(db: sqlite3.Connection) -> int:
    """The id of the newest event; 0 where there is none."""
    return int(db.execute("SELECT coalesce(max(id), 0) AS n FROM events").fetchone()["n"])


def forget(db: sqlite3.Connection, outside_ids: Sequence[str]) -> list[ForgottenEvent]:
    """Take events of our own away by their ids; the rows that went. Columns made from them must be built anew."""
    gone: list[ForgottenEvent] = []
    for i in range(0, len(outside_ids), 500):
        some = outside_ids[i : i + 500]
        marks = ",".join("?" * len(some))
        rows = db.execute(
            f"DELETE FROM events WHERE outside_id IN ({marks}) RETURNING at, kind, subscriber, message, code, diagnostic",
            some,
        )
        gone += ForgottenEvent.read_all(rows)
    return gone
