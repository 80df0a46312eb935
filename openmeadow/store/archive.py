"""The whole workspace out and in again, table by table, one JSON object a row; octets as base64."""

from __future__ import annotations

import base64
import json
import sqlite3
from collections.abc import Iterator

from openmeadow.store.bulk import Many

# what belongs to this machine and this moment, not to the workspace
_NOT = ("migrations", "jobs", "clock_moves", "sessions", "one_time_links", "sign_in_failures", "sqlite_sequence")
_MADE_ANEW = ("event_hours", "base_points")  # from the others

_EVENT_REFERS = (("subscriber", "subscribers"), ("message", "messages"), ("link", "links"), ("agent", "agents"))


def tables(db: sqlite3.Connection) -> list[str]:
    """The names of the tables that an export holds, in order."""
    rows = db.execute("SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite_%' ORDER BY name")
    return [r["name"] for r in rows if r["name"] not in (*_NOT, *_MADE_ANEW)]


def rows(db: sqlite3.Connection, table: str) -> Iterator[str]:
    """Each row as one line of JSON."""
    for r in db.execute(f"SELECT * FROM {table}"):
        record: dict[str, object] = {}
        for name in r.keys():  # noqa: SIM118
            value = r[name]
            record[name] = {"base64": base64.b64encode(value).decode()} if isinstance(value, bytes) else value
        yield json.dumps(record, ensure_ascii=False)


def is_empty(db: sqlite3.Connection) -> bool:
    """Nobody and nothing in it yet."""
    return not any(
        db.execute(f"SELECT 1 FROM {t} LIMIT 1").fetchone()
        for t in ("subscribers", "events", "campaigns", "segments", "sequences")
    )


def take(db: sqlite3.Connection, table: str, lines: Many[str]) -> int:
    """Put rows back; columns that this version does not have are refused with their name."""
    have = {r["name"] for r in db.execute(f"PRAGMA table_info({table})")}
    n = 0
    for n, line in enumerate(lines, start=1):  # noqa: B007
        record = json.loads(line)
        if not isinstance(record, dict) or not record.keys() <= have:
            raise ValueError(f"{table}: {sorted(set(record) - have) if isinstance(record, dict) else 'no object'}")
        values = [base64.b64decode(v["base64"]) if isinstance(v, dict) else v for v in record.values()]
        names, marks = ", ".join(f'"{c}"' for c in record), ",".join("?" * len(record))
        db.execute(f"INSERT OR REPLACE INTO {table} ({names}) VALUES ({marks})", values)
    return n


def references_hold(db: sqlite3.Connection) -> bool:
    """Whether every row refers to rows that are there, events too."""
    if db.execute("PRAGMA foreign_key_check").fetchone() is not None:
        return False
    # events refer without foreign keys
    missing = " OR ".join(f"({c} > 0 AND NOT EXISTS (SELECT 1 FROM {t} x WHERE x.id = e.{c}))" for c, t in _EVENT_REFERS)
    return db.execute(f"SELECT 1 FROM events e WHERE {missing} LIMIT 1").fetchone() is None
