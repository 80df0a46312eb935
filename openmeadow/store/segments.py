"""Saved segments: a name and its rule."""

from __future__ import annotations

import sqlite3


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


def restore(db: sqlite3.Connection, id: int, name: str, rule: str, made_at: int, now: int) -> None:
    db.execute("INSERT INTO segments VALUES (?, ?, ?, ?, ?)", (id, name, rule, made_at, now))


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
