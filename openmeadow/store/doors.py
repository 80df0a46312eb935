"""Doors people came by, and the imports that brought them."""

from __future__ import annotations

import sqlite3


def names(db: sqlite3.Connection) -> dict[int, str]:
    return {int(r["id"]): r["name"] for r in db.execute("SELECT id, name FROM doors")}


def imports(db: sqlite3.Connection) -> dict[int, str]:
    """Imports of subscribers that stand, by deed: the file and its day."""
    return {
        int(r["id"]): f"{r['what']}, {r['day']}"
        for r in db.execute(
            "SELECT id, what, date(at, 'unixepoch') AS day FROM activity WHERE undo = 'subscribers' AND undone_at IS NULL"
        )
    }


def brought_by(db: sqlite3.Connection) -> list[tuple[int, int]]:
    """(subscriber, deed) of everybody an import brought."""
    cursor = db.cursor()
    cursor.row_factory = None
    return cursor.execute("SELECT id, deed FROM subscribers WHERE deed IS NOT NULL").fetchall()
