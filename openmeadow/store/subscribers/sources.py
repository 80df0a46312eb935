"""Sources people came by, and the imports that brought them."""

from __future__ import annotations

import sqlite3

from openmeadow.core.arrays import I64
from openmeadow.store.bulk import read_columns


def names(db: sqlite3.Connection) -> dict[int, str]:
    """The names of all sources, by id."""
    return {int(r["id"]): r["name"] for r in db.execute("SELECT id, name FROM sources")}


def imports(db: sqlite3.Connection) -> dict[int, str]:
    """Imports of subscribers that stand, by action: the file and its day."""
    return {
        int(r["id"]): f"{r['what']}, {r['day']}"
        for r in db.execute(
            "SELECT id, what, date(at, 'unixepoch') AS day FROM activity WHERE undo = 'subscribers' AND undone_at IS NULL"
        )
    }


def brought_by(db: sqlite3.Connection) -> tuple[I64, I64]:
    """Everybody an import brought, and by which action."""
    row_id, action = read_columns(db, "SELECT id, action FROM subscribers WHERE action IS NOT NULL", (), "qq")
    return row_id, action
