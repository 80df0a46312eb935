"""Saved segments: a name and its rule."""

from __future__ import annotations

import sqlite3
from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo

from openmeadow.store import workspace


def save(db: sqlite3.Connection, name: str, rule: str, now: int) -> int:
    row = db.execute(
        "INSERT INTO segments (name, rule, made_at, changed_at) VALUES (?, ?, ?, ?) ON CONFLICT (name) "
        "DO UPDATE SET rule = excluded.rule, changed_at = excluded.changed_at RETURNING id",
        (name, rule, now, now),
    ).fetchone()
    return int(row["id"])


def rename(db: sqlite3.Connection, id: int, name: str) -> None:
    db.execute("UPDATE segments SET name = ? WHERE id = ?", (name, id))


def remove(db: sqlite3.Connection, id: int) -> None:
    db.execute("DELETE FROM segments WHERE id = ?", (id,))


def every(db: sqlite3.Connection) -> list[sqlite3.Row]:
    return db.execute("SELECT * FROM segments ORDER BY name").fetchall()


def one(db: sqlite3.Connection, id: int) -> sqlite3.Row | None:
    row: sqlite3.Row | None = db.execute("SELECT * FROM segments WHERE id = ?", (id,)).fetchone()
    return row


def named(db: sqlite3.Connection, name: str) -> sqlite3.Row | None:
    row: sqlite3.Row | None = db.execute("SELECT * FROM segments WHERE name = ?", (name,)).fetchone()
    return row


def used_by(db: sqlite3.Connection, id: int) -> list[str]:
    """Names of the campaigns that choose or leave out this segment."""
    return [
        r["name"]
        for r in db.execute(
            "SELECT name FROM campaigns WHERE EXISTS (SELECT 1 FROM json_each(segments_in) WHERE value = ?1) "
            "OR EXISTS (SELECT 1 FROM json_each(segments_out) WHERE value = ?1) ORDER BY name",
            (id,),
        )
    ]


def has_history(db: sqlite3.Connection) -> bool:
    return db.execute("SELECT 1 FROM events LIMIT 1").fetchone() is not None


def counted(db: sqlite3.Connection, id: int, at: int, count: int) -> None:
    """How many it was at a moment, by the rule as it stands."""
    db.execute("INSERT OR REPLACE INTO segment_counts VALUES (?, ?, ?)", (id, at, count))


def counts(db: sqlite3.Connection, id: int) -> list[sqlite3.Row]:
    return db.execute("SELECT at, count FROM segment_counts WHERE segment = ? ORDER BY at", (id,)).fetchall()


def forget_counts(db: sqlite3.Connection, id: int) -> None:
    db.execute("DELETE FROM segment_counts WHERE segment = ?", (id,))


def freeze(db: sqlite3.Connection, id: int, rule: str, at: int, people: list[int]) -> int:
    """Keep the people as they are now; one copy a day of the workspace, the later one stands."""
    for f in frozen(db, id):
        if f["day"] == _day(db, at):
            thaw(db, id, f["id"])
    copy = int(
        db.execute(
            "INSERT INTO frozen (segment, rule, at, people) VALUES (?, ?, ?, ?)", (id, rule, at, len(people))
        ).lastrowid
        or 0
    )
    db.executemany("INSERT INTO frozen_people VALUES (?, ?)", ((copy, p) for p in people))
    return copy


def frozen(db: sqlite3.Connection, id: int) -> list[dict[str, Any]]:
    """A segment's copies with the workspace's ``day`` (ISO) each is of, the latest first."""
    rows = db.execute("SELECT id, rule, at, people FROM frozen WHERE segment = ? ORDER BY at DESC", (id,)).fetchall()
    return [{**dict(r), "day": _day(db, r["at"])} for r in rows]


def _day(db: sqlite3.Connection, at: int) -> str:
    return datetime.fromtimestamp(at, ZoneInfo(str(workspace.setting(db, "time_zone")))).date().isoformat()


def thaw(db: sqlite3.Connection, id: int, copy: int) -> int:
    return db.execute("DELETE FROM frozen WHERE id = ? AND segment = ?", (copy, id)).rowcount
