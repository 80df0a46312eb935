"""Questions about events that are answered by SQL alone. Moments are UTC seconds; kinds are ``core.events.Kind``."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator

from openmeadow.core.events import Kind
from openmeadow.core.ids import MessageId, SubscriberId
from openmeadow.store.engagement.records import ExportedEvent, FirstSent


def first_of_message(db: sqlite3.Connection, message: MessageId, until: int) -> dict[int, dict[int, int]]:
    """By kind (bounces, complaints, unsubscribes …) and subscriber, when it first happened to a message."""
    out: dict[int, dict[int, int]] = {}
    for r in db.execute(
        "SELECT kind, subscriber, min(at) AS at FROM events WHERE message = ? AND (kind = 4 OR kind >= 9) "
        "AND at <= ? GROUP BY kind, subscriber",
        (message, until),
    ):
        out.setdefault(r["kind"], {})[r["subscriber"]] = r["at"]
    return out


def first_sent(db: sqlite3.Connection, message: MessageId) -> list[FirstSent]:
    """(subscriber, at) of everyone whom a message was sent to, by subscriber."""
    return FirstSent.read_all(
        db.execute(
            "SELECT subscriber, min(at) AS at FROM events WHERE message = ? AND kind = ? GROUP BY 1 ORDER BY 1",
            (message, int(Kind.SENT)),
        )
    )


def has(db: sqlite3.Connection, kind: Kind, subscriber: SubscriberId, message: MessageId) -> bool:
    """Whether something happened to a subscriber's message already."""
    question = "SELECT 1 FROM events WHERE kind = ? AND subscriber = ? AND message = ?"
    return db.execute(question, (int(kind), subscriber, message)).fetchone() is not None


def delays_of_trouble(db: sqlite3.Connection, since: int, until: int) -> list[int]:
    """Seconds from a message to its bounce or complaint; at most 5,000 of them."""
    told = db.execute(
        "SELECT e.at - s.at AS took FROM events e INDEXED BY events_of_outcome "
        "CROSS JOIN events s ON s.subscriber = e.subscriber AND s.message = e.message "
        "AND s.kind = 1 WHERE e.kind IN (3, 4, 9, 10) AND e.kind IN (4, 9) AND e.at > ? AND e.at <= ? "
        "AND e.at > s.at AND e.message > 0 LIMIT 5000",
        (since, until),
    )
    return [int(r["took"]) for r in told]


def set_aside(db: sqlite3.Connection) -> int:
    """How many events wait for subscribers who are unknown yet."""
    return int(db.execute("SELECT count(*) AS n FROM events_aside").fetchone()["n"])


def everything(db: sqlite3.Connection) -> Iterator[ExportedEvent]:
    """Every event with its address, message, link and agent in words; none of erased subscribers."""
    rows = db.execute(
        "SELECT e.*, s.email, m.name AS message_name, l.url, a.agent AS agent_name, a.ip FROM events e "
        "JOIN subscribers s ON s.id = e.subscriber LEFT JOIN messages m ON m.id = e.message "
        "LEFT JOIN links l ON l.id = e.link LEFT JOIN agents a ON a.id = e.agent WHERE s.erased_at IS NULL ORDER BY e.id"
    )
    return map(ExportedEvent.from_row, rows)
