"""What was done and how it is undone: the activity log, and the rows an action made or changed."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import Any

from openmeadow.store.bulk import Many
from openmeadow.store.engagement import chance_models, event_hours
from openmeadow.store.records import Activity
from openmeadow.store.subscribers.subscribers import facts_changed, fields_json, people_changed

PERSON = ("name", "joined_at", "time_zone", "language", "country", "fields", "rejoined_at")
Kept = Any  # what restores a row: JSON, in the form that its kind of action has put away
# tables whose rows say by which action they were made, with their keys
MADE_BY = {
    "list_members": ("list", "subscriber"),
    "subscriber_labels": ("label", "subscriber"),
    "suppressions": ("subscriber", "reason"),
}


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
    if (
        last >= first
        and not db.execute(
            "UPDATE undo_events SET last = ? WHERE action = ? AND last = ?", (last, action, first - 1)
        ).rowcount
    ):
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


def made_rows(db: sqlite3.Connection, table: str, action: int) -> list[tuple[int, int]]:
    """The keys of the list places, labels or suppressions (one of ``MADE_BY``) that an action made."""
    a, b = MADE_BY[table]
    cursor = db.cursor()
    cursor.row_factory = None
    return cursor.execute(f"SELECT {a}, {b} FROM {table} WHERE action = ?", (action,)).fetchall()


def take_back(db: sqlite3.Connection, table: str, keys: Sequence[tuple[int, int]], action: int) -> int:
    """Remove some of them; how many were still there."""
    a, b = MADE_BY[table]
    gone = db.executemany(
        f"DELETE FROM {table} WHERE {a} = ? AND {b} = ? AND action = ?", [(*key, action) for key in keys]
    ).rowcount
    facts_changed(db)
    return gone


def claims(db: sqlite3.Connection, action: int) -> list[int]:
    """The consent entries that an action brought and that count."""
    return [int(r["id"]) for r in db.execute("SELECT id FROM consent_entries WHERE action = ? AND NOT void", (action,))]


def void_claims(db: sqlite3.Connection, ids: Sequence[int]) -> int:
    """Mark consent entries as of an import that was undone; the evidence stays."""
    gone = db.executemany("UPDATE consent_entries SET void = 1 WHERE id = ? AND NOT void", [(i,) for i in ids]).rowcount
    facts_changed(db)
    return gone


def changed_people(db: sqlite3.Connection, action: int) -> list[int]:
    """Whose own fields an action changed."""
    rows = db.execute("SELECT DISTINCT subscriber FROM undo_rows WHERE action = ? AND kind = 'person'", (action,))
    return [int(r["subscriber"]) for r in rows]


def that_changed_people(db: sqlite3.Connection) -> list[int]:
    """The actions that have kept people's own fields."""
    return [int(r["action"]) for r in db.execute("SELECT DISTINCT action FROM undo_rows WHERE kind = 'person'")]


def rename_field(db: sqlite3.Connection, action: int, ids: Sequence[int], before: str, after: str) -> int:
    """Call a field by its new name in what an action has kept of some people; how many had it."""
    rows = db.execute(
        "SELECT subscriber, row FROM undo_rows WHERE action = ? AND kind = 'person' "
        "AND subscriber IN (SELECT value FROM json_each(?))",
        (action, json.dumps(list(ids))),
    ).fetchall()
    new = []
    for r in rows:
        kept = json.loads(r["row"])
        own = json.loads(kept["fields"])
        if before in own:
            own[after] = own.pop(before)
            new.append((json.dumps({**kept, "fields": fields_json(own)}), action, r["subscriber"]))
    db.executemany("UPDATE undo_rows SET row = ? WHERE action = ? AND kind = 'person' AND subscriber = ?", new)
    return len(new)


def restore_people(db: sqlite3.Connection, action: int, ids: Sequence[int]) -> int:
    """The own fields of some people as they stood before the action; how many."""
    rows = db.execute(
        "SELECT subscriber, row FROM undo_rows WHERE action = ? AND kind = 'person' "
        "AND subscriber IN (SELECT value FROM json_each(?))",
        (action, json.dumps(list(ids))),
    ).fetchall()
    db.executemany(
        f"UPDATE subscribers SET {', '.join(f'{c} = :{c}' for c in PERSON)} WHERE id = :id AND erased_at IS NULL",
        [{**json.loads(r["row"]), "id": r["subscriber"]} for r in rows],
    )
    people_changed(db)
    return len(rows)


def made_people(db: sqlite3.Connection, action: int) -> list[int]:
    """The subscribers that an action brought."""
    return [int(r["id"]) for r in db.execute("SELECT id FROM subscribers WHERE action = ?", (action,))]


def remove_people(db: sqlite3.Connection, ids: Sequence[int]) -> int:
    """Remove people that an action brought, unless something has happened to them since; how many went."""
    some = json.dumps(list(ids))
    untouched = " AND ".join(
        f"NOT EXISTS (SELECT 1 FROM {table} t WHERE t.subscriber = p.value)"
        for table in ("events", "deliveries", "notes", "enrolments", *MADE_BY)
    )
    free = [int(r[0]) for r in db.execute(f"SELECT p.value FROM json_each(?) p WHERE {untouched}", (some,))]
    db.executemany("DELETE FROM address_verdicts WHERE subscriber = ?", [(i,) for i in free])
    db.executemany("DELETE FROM subscribers WHERE id = ?", [(i,) for i in free])
    people_changed(db)
    event_hours.forget_points(db)
    return len(free)


def remove_events(db: sqlite3.Connection, action: int, most: int) -> int:
    """Remove events that the action brought, at most so many, also those kept aside; 0 when none is left. What was read
    from them is out of date."""
    r = db.execute(
        "SELECT rowid, first, last FROM undo_events WHERE action = ? ORDER BY first LIMIT 1", (action,)
    ).fetchone()
    if r is None:
        return db.execute(
            "DELETE FROM events_aside WHERE id IN (SELECT id FROM events_aside WHERE action = ? LIMIT ?)", (action, most)
        ).rowcount
    last = min(r["last"], r["first"] + most - 1)
    gone = db.execute("DELETE FROM events WHERE id BETWEEN ? AND ?", (r["first"], last)).rowcount
    if last == r["last"]:
        db.execute("DELETE FROM undo_events WHERE rowid = ?", (r["rowid"],))
        chance_models.forget_taken_back(db)
    else:
        db.execute("UPDATE undo_events SET first = ? WHERE rowid = ?", (last + 1, r["rowid"]))
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
