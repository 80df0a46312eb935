"""Sources people came by, and the imports that brought them."""

from __future__ import annotations

import sqlite3


def names(db: sqlite3.Connection) -> dict[int, str]:
    return {int(r["id"]): r["name"] for r in db.execute("SELECT id, name FROM sources")}


def imports(db: sqlite3.Connection) -> dict[int, str]:
    """Imports of subscribers that stand, by action: the file and its day."""
    return {
        int(r["id"]): f"{r['what']}, {r['day']}"
        for r in db.execute(
            "SELECT id, what, date(at, 'unixepoch') AS day FROM activity WHERE undo = 'subscribers' AND undone_at IS NULL"
        )
    }


def brought_by(db: sqlite3.Connection) -> list[tuple[int, int]]:
    """(subscriber, action) of everybody an import brought."""
    cursor = db.cursor()
    cursor.row_factory = None
    return cursor.execute("SELECT id, action FROM subscribers WHERE action IS NOT NULL").fetchall()
