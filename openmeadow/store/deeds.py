"""What was done and how it is taken back: the activity log, and the rows a deed made or changed."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from openmeadow.store.database import Many
from openmeadow.store.subscribers import facts_changed, people_changed

PERSON = ("name", "joined_at", "time_zone", "language", "country", "fields", "rejoined_at")
_MADE_BY = ("list_members", "subscriber_labels", "suppressions")


def begin(db: sqlite3.Connection, at: int, who: str, act: str, what: str, people: int, undo: str | None) -> int:
    """A line of the activity log whose id the rows of the deed carry. ``undo`` names the way back, if there is one."""
    return int(
        db.execute(
            "INSERT INTO activity (at, who, act, what, people, undo) VALUES (?, ?, ?, ?, ?, ?)",
            (at, who, act, what, people, undo),
        ).lastrowid
        or 0
    )


def counted(db: sqlite3.Connection, deed: int, people: int) -> None:
    """How many it was in the end."""
    db.execute("UPDATE activity SET people = ? WHERE id = ?", (people, deed))


def one(db: sqlite3.Connection, deed: int) -> sqlite3.Row | None:
    row: sqlite3.Row | None = db.execute("SELECT * FROM activity WHERE id = ?", (deed,)).fetchone()
    return row


def undone(db: sqlite3.Connection, deed: int, at: int) -> None:
    db.execute("UPDATE activity SET undone_at = ? WHERE id = ?", (at, deed))


@contextmanager
def remembering(db: sqlite3.Connection, deed: int) -> Iterator[None]:
    """While this lasts, what a person's row said before its first change by the deed is kept."""
    said = ", ".join(f"'{c}', OLD.{c}" for c in PERSON)
    db.execute("DROP TRIGGER IF EXISTS temp.remember")
    db.execute(
        f"CREATE TEMP TRIGGER remember AFTER UPDATE ON main.subscribers WHEN NOT EXISTS "
        f"(SELECT 1 FROM deed_before WHERE deed = {int(deed)} AND kind = 'person' AND subscriber = OLD.id) "
        f"BEGIN INSERT INTO deed_before VALUES ({int(deed)}, 'person', OLD.id, json_object({said})); END"
    )
    try:
        yield
    finally:
        db.execute("DROP TRIGGER IF EXISTS temp.remember")


def took_events(db: sqlite3.Connection, deed: int, first: int, last: int) -> None:
    """The deed made the events of these ids, and no others are among them (they were made in one transaction)."""
    if last >= first:
        db.execute("INSERT INTO deed_events VALUES (?, ?, ?)", (deed, first, last))


def put_away(db: sqlite3.Connection, deed: int, kind: str, rows: Many[tuple[int, object]]) -> None:
    """Keep rows that the deed is about to take away: (subscriber, whatever restores it)."""
    db.executemany(
        "INSERT OR IGNORE INTO deed_before VALUES (?, ?, ?, ?)",
        ((deed, kind, subscriber, json.dumps(row)) for subscriber, row in rows),
    )


def before(db: sqlite3.Connection, deed: int, kind: str) -> list[tuple[int, Any]]:
    return [
        (int(r["subscriber"]), json.loads(r["row"]))
        for r in db.execute("SELECT subscriber, row FROM deed_before WHERE deed = ? AND kind = ?", (deed, kind))
    ]


def take_back_rows(db: sqlite3.Connection, deed: int) -> int:
    """Remove the list places, labels, suppressions and consents the deed made."""
    gone = 0
    for table in _MADE_BY:
        gone += db.execute(f"DELETE FROM {table} WHERE deed = ?", (deed,)).rowcount
    # evidence stays; it is only marked as of an import that was taken back
    gone += db.execute("UPDATE consent_entries SET void = 1 WHERE deed = ? AND NOT void", (deed,)).rowcount
    facts_changed(db)
    return gone


def restore_people(db: sqlite3.Connection, deed: int) -> int:
    """People's own fields as they stood before the deed."""
    rows = before(db, deed, "person")
    db.executemany(
        f"UPDATE subscribers SET {', '.join(f'{c} = :{c}' for c in PERSON)} WHERE id = :id AND erased_at IS NULL",
        [{**row, "id": id} for id, row in rows],
    )
    people_changed(db)
    return len(rows)


def remove_people(db: sqlite3.Connection, deed: int) -> tuple[int, int]:
    """Remove the people the deed brought, unless something has happened to them since; how many went and stayed."""
    made = int(db.execute("SELECT count(*) AS n FROM subscribers WHERE deed = ?", (deed,)).fetchone()["n"])
    touched = " UNION ".join(
        f"SELECT subscriber FROM {table}" for table in ("events", "deliveries", "notes", "sequence_stays", *_MADE_BY)
    )
    db.execute(
        "DELETE FROM address_verdicts WHERE subscriber IN (SELECT id FROM subscribers WHERE deed = ?) "
        f"AND subscriber NOT IN ({touched})",
        (deed,),
    )
    gone = db.execute(f"DELETE FROM subscribers WHERE deed = ? AND id NOT IN ({touched})", (deed,)).rowcount
    people_changed(db)
    return gone, made - gone


def remove_events(db: sqlite3.Connection, deed: int) -> int:
    """Remove the events the deed brought, also those kept aside; what was read from them is out of date."""
    gone = 0
    for r in db.execute("SELECT first, last FROM deed_events WHERE deed = ?", (deed,)).fetchall():
        gone += db.execute("DELETE FROM events WHERE id BETWEEN ? AND ?", (r["first"], r["last"])).rowcount
    db.execute("DELETE FROM deed_events WHERE deed = ?", (deed,))
    gone += db.execute("DELETE FROM events_aside WHERE deed = ?", (deed,)).rowcount
    events_changed(db)
    return gone


def events_changed(db: sqlite3.Connection) -> None:
    """Events were taken away: columns made from them are built anew."""
    db.execute("INSERT INTO settings VALUES ('events_version', '1') ON CONFLICT (name) DO UPDATE SET value = value + 1")
    # ids of the highest events are used again, so nobody may have looked further than what is there
    db.execute("UPDATE sequences SET seen_event = min(seen_event, (SELECT coalesce(max(id), 0) FROM events))")


def events_version(db: sqlite3.Connection) -> int:
    row = db.execute("SELECT value FROM settings WHERE name = 'events_version'").fetchone()
    return int(row["value"]) if row else 0
