"""What was done and how it is undone: the activity log, and the rows an action made or changed."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from openmeadow.store.bulk import Many
from openmeadow.store.engagement import event_hours
from openmeadow.store.records import Activity
from openmeadow.store.subscribers.subscribers import facts_changed, people_changed

PERSON = ("name", "joined_at", "time_zone", "language", "country", "fields", "rejoined_at")
Kept = Any  # what restores a row: JSON, in the form that its kind of action has put away
_MADE_BY = ("list_members", "subscriber_labels", "suppressions")


def begin(db: sqlite3.Connection, at: int, who: str, act: str, what: str, people: int, undo: str | None) -> int:
    """A line of the activity log whose id the rows of the action carry. ``undo`` names how it is undone, if there is one."""
    return int(
        db.execute(
            "INSERT INTO activity (at, who, act, what, people, undo) VALUES (?, ?, ?, ?, ?, ?)",
            (at, who, act, what, people, undo),
        ).lastrowid
        or 0
    )


def counted(db: sqlite3.Connection, action: int, people: int) -> None:
    """How many it was in the end."""
    db.execute("UPDATE activity SET people = ? WHERE id = ?", (people, action))


def one(db: sqlite3.Connection, action: int) -> Activity | None:
    """An action of the log, or None."""
    return Activity.read(db.execute("SELECT * FROM activity WHERE id = ?", (action,)))


def undone(db: sqlite3.Connection, action: int, at: int) -> None:
    """Keep that an action was undone."""
    db.execute("UPDATE activity SET undone_at = ? WHERE id = ?", (at, action))


@contextmanager
def remembering(db: sqlite3.Connection, action: int) -> Iterator[None]:
    """While this lasts, what a person's row said before its first change by the action is kept."""
    said = ", ".join(f"'{c}', OLD.{c}" for c in PERSON)
    db.execute("DROP TRIGGER IF EXISTS temp.remember")
    db.execute(
        f"CREATE TEMP TRIGGER remember AFTER UPDATE ON main.subscribers WHEN NOT EXISTS "
        f"(SELECT 1 FROM undo_rows WHERE action = {int(action)} AND kind = 'person' AND subscriber = OLD.id) "
        f"BEGIN INSERT INTO undo_rows VALUES ({int(action)}, 'person', OLD.id, json_object({said})); END"
    )
    try:
        yield
    finally:
        db.execute("DROP TRIGGER IF EXISTS temp.remember")


def took_events(db: sqlite3.Connection, action: int, first: int, last: int) -> None:
    """The action made the events of these ids, and no others are among them (they were made in one transaction)."""
    if last >= first:
        db.execute("INSERT INTO undo_events VALUES (?, ?, ?)", (action, first, last))


def put_away(db: sqlite3.Connection, action: int, kind: str, rows: Many[tuple[int, object]]) -> None:
    """Keep rows that the action is about to take away: (subscriber, whatever restores it)."""
    db.executemany(
        "INSERT OR IGNORE INTO undo_rows VALUES (?, ?, ?, ?)",
        ((action, kind, subscriber, json.dumps(row)) for subscriber, row in rows),
    )


def before(db: sqlite3.Connection, action: int, kind: str) -> list[tuple[int, Kept]]:
    """What a kind of action has put away, by subscriber."""
    return [
        (int(r["subscriber"]), json.loads(r["row"]))
        for r in db.execute("SELECT subscriber, row FROM undo_rows WHERE action = ? AND kind = ?", (action, kind))
    ]


def take_back_rows(db: sqlite3.Connection, action: int) -> int:
    """Remove the list places, labels, suppressions and consents the action made."""
    gone = 0
    for table in _MADE_BY:
        gone += db.execute(f"DELETE FROM {table} WHERE action = ?", (action,)).rowcount
    # evidence stays; it is only marked as of an import that was undone
    gone += db.execute("UPDATE consent_entries SET void = 1 WHERE action = ? AND NOT void", (action,)).rowcount
    facts_changed(db)
    return gone


def restore_people(db: sqlite3.Connection, action: int) -> int:
    """People's own fields as they stood before the action."""
    rows = before(db, action, "person")
    db.executemany(
        f"UPDATE subscribers SET {', '.join(f'{c} = :{c}' for c in PERSON)} WHERE id = :id AND erased_at IS NULL",
        [{**row, "id": row_id} for row_id, row in rows],
    )
    people_changed(db)
    return len(rows)


def remove_people(db: sqlite3.Connection, action: int) -> tuple[int, int]:
    """Remove the people the action brought, unless something has happened to them since; how many went and stayed."""
    made = int(db.execute("SELECT count(*) AS n FROM subscribers WHERE action = ?", (action,)).fetchone()["n"])
    touched = " UNION ".join(
        f"SELECT subscriber FROM {table}" for table in ("events", "deliveries", "notes", "enrolments", *_MADE_BY)
    )
    db.execute(
        "DELETE FROM address_verdicts WHERE subscriber IN (SELECT id FROM subscribers WHERE action = ?) "
        f"AND subscriber NOT IN ({touched})",
        (action,),
    )
    gone = db.execute(f"DELETE FROM subscribers WHERE action = ? AND id NOT IN ({touched})", (action,)).rowcount
    people_changed(db)
    event_hours.forget_points(db)
    return gone, made - gone


def remove_events(db: sqlite3.Connection, action: int) -> int:
    """Remove the events the action brought, also those kept aside; what was read from them is out of date."""
    gone = 0
    for r in db.execute("SELECT first, last FROM undo_events WHERE action = ?", (action,)).fetchall():
        gone += db.execute("DELETE FROM events WHERE id BETWEEN ? AND ?", (r["first"], r["last"])).rowcount
    db.execute("DELETE FROM undo_events WHERE action = ?", (action,))
    gone += db.execute("DELETE FROM events_aside WHERE action = ?", (action,)).rowcount
    events_changed(db)
    return gone


def events_changed(db: sqlite3.Connection) -> None:
    """Events were taken away: columns made from them are built anew, and what was kept of past moments."""
    event_hours.forget_points(db)
    db.execute("INSERT INTO settings VALUES ('events_version', '1') ON CONFLICT (name) DO UPDATE SET value = value + 1")
    # ids of the highest events are used again, so nobody may have looked further than what is there
    db.execute("UPDATE sequences SET seen_event = min(seen_event, (SELECT coalesce(max(id), 0) FROM events))")


def events_version(db: sqlite3.Connection) -> int:
    """Counts up whenever events were taken away."""
    row = db.execute("SELECT value FROM settings WHERE name = 'events_version'").fetchone()
    return int(row["value"]) if row else 0
