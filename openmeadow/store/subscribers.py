"""Subscribers, lists, labels, purposes and consent: what imports write and screens read."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Sequence
from typing import Any

from openmeadow.store.database import Many

CHUNK = 20_000
_NAMED = {"lists", "labels", "purposes", "doors"}


def named(db: sqlite3.Connection, table: str, name: str) -> tuple[int, bool]:
    """The id of a list, label, purpose or door, and whether it was just made."""
    if table not in _NAMED:
        raise ValueError(table)
    row = db.execute(f"SELECT id FROM {table} WHERE name = ?", (name,)).fetchone()
    if row:
        return int(row["id"]), False
    return int(db.execute(f"INSERT INTO {table} (name) VALUES (?)", (name,)).lastrowid or 0), True


def names(db: sqlite3.Connection, table: str) -> list[sqlite3.Row]:
    if table not in _NAMED:
        raise ValueError(table)
    return db.execute(f"SELECT id, name FROM {table} ORDER BY name").fetchall()


def ids_of(db: sqlite3.Connection, keys: Sequence[str]) -> dict[str, int]:
    """Store ids of those address keys that are known."""
    out: dict[str, int] = {}
    for i in range(0, len(keys), CHUNK):
        part = keys[i : i + CHUNK]
        marks = ",".join("?" * len(part))
        out.update(db.execute(f"SELECT email_key, id FROM subscribers WHERE email_key IN ({marks})", part).fetchall())
    return out


UPSERT = """
INSERT INTO subscribers (email, email_key, name, joined_at, time_zone, language, country, provider, door, fields)
VALUES (:email, :key, :name, coalesce(:joined_at, :now), :time_zone, :language, :country, :provider, :door, :fields)
ON CONFLICT (email_key) DO UPDATE SET
  name = coalesce(excluded.name, name),
  joined_at = CASE WHEN :joined_at IS NULL THEN joined_at ELSE min(joined_at, :joined_at) END,
  time_zone = coalesce(excluded.time_zone, time_zone),
  language = coalesce(excluded.language, language),
  country = coalesce(excluded.country, country),
  fields = CASE WHEN excluded.fields = '{}' THEN fields ELSE json_patch(fields, excluded.fields) END
WHERE erased_at IS NULL AND (
  (excluded.name IS NOT NULL AND excluded.name IS NOT name) OR (:joined_at < joined_at)
  OR (excluded.time_zone IS NOT NULL AND excluded.time_zone IS NOT time_zone)
  OR (excluded.language IS NOT NULL AND excluded.language IS NOT language)
  OR (excluded.country IS NOT NULL AND excluded.country IS NOT country)
  OR (excluded.fields <> '{}' AND json_patch(fields, excluded.fields) <> json(fields)))
"""


def upsert(db: sqlite3.Connection, rows: Many[dict[str, Any]]) -> int:
    """Insert or merge; the number of rows that were new or changed something."""
    before = db.total_changes
    db.executemany(UPSERT, rows)
    changed = db.total_changes - before
    if changed:
        people_changed(db)
    return changed


def people_changed(db: sqlite3.Connection) -> None:
    """Count up, so that whoever keeps the people in memory reads them again."""
    db.execute("INSERT INTO settings VALUES ('people_version', '1') ON CONFLICT (name) DO UPDATE SET value = value + 1")


def people_version(db: sqlite3.Connection) -> int:
    row = db.execute("SELECT value FROM settings WHERE name = 'people_version'").fetchone()
    return int(row["value"]) if row else 0


def add_members(db: sqlite3.Connection, rows: Many[tuple[int, int, int]]) -> None:
    db.executemany("INSERT OR IGNORE INTO list_members VALUES (?, ?, ?)", rows)


def add_labels(db: sqlite3.Connection, rows: Many[tuple[int, int]]) -> None:
    db.executemany("INSERT OR IGNORE INTO subscriber_labels VALUES (?, ?)", rows)


def add_field_names(db: sqlite3.Connection, fields: Many[str]) -> None:
    db.executemany("INSERT OR IGNORE INTO field_names VALUES (?)", [(f,) for f in fields])


def add_suppressions(db: sqlite3.Connection, rows: Many[tuple[int, int, int, str]]) -> None:
    """(subscriber, reason, at, source); the earliest of a reason stays."""
    db.executemany("INSERT OR IGNORE INTO suppressions VALUES (?, ?, ?, ?)", rows)


def add_consents(db: sqlite3.Connection, rows: Sequence[tuple[int, int, int, int, str | None, str | None]]) -> None:
    """(subscriber, purpose, state, at, source, wording). An entry is never altered; a repeat changes nothing.

    Given again after a withdrawal marks the moment of rejoining.
    """
    before = db.total_changes
    db.executemany(
        "INSERT OR IGNORE INTO consent_entries (subscriber, purpose, state, at, source, wording) "
        "VALUES (?, ?, ?, ?, ?, ?)",
        rows,
    )
    if db.total_changes == before:
        return
    given = [(r[0], r[1], r[3]) for r in rows if r[2] == 1]
    db.executemany(
        "UPDATE subscribers SET rejoined_at = max(coalesce(rejoined_at, 0), ?3) WHERE id = ?1 AND EXISTS ("
        " SELECT 1 FROM consent_entries c WHERE c.subscriber = ?1 AND c.purpose = ?2 AND c.state = 2 AND c.at < ?3)",
        given,
    )
    if given:
        people_changed(db)


def subscriber(db: sqlite3.Connection, id: int) -> sqlite3.Row | None:
    row: sqlite3.Row | None = db.execute(
        "SELECT s.*, d.name AS door_name FROM subscribers s LEFT JOIN doors d ON d.id = s.door WHERE s.id = ?", (id,)
    ).fetchone()
    return row


def by_ids(db: sqlite3.Connection, ids: Sequence[int]) -> dict[int, sqlite3.Row]:
    out: dict[int, sqlite3.Row] = {}
    for i in range(0, len(ids), CHUNK):
        part = list(ids[i : i + CHUNK])
        marks = ",".join("?" * len(part))
        for row in db.execute(f"SELECT * FROM subscribers WHERE id IN ({marks})", part):
            out[row["id"]] = row
    return out


def matching(db: sqlite3.Connection, text: str, limit: int = 0) -> list[int]:
    """Ids of people whose address or name holds the text; by address prefix first when limited."""
    like = "%" + text.lower().replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_") + "%"
    sql = "SELECT id FROM subscribers WHERE email_key LIKE ? ESCAPE '\\' OR name LIKE ? ESCAPE '\\' ORDER BY id"
    return [
        int(r["id"]) for r in db.execute(sql + (" LIMIT ?" if limit else ""), (like, like, *([limit] if limit else [])))
    ]


def consent_history(db: sqlite3.Connection, id: int) -> list[sqlite3.Row]:
    return db.execute(
        "SELECT c.*, p.name AS purpose_name FROM consent_entries c JOIN purposes p ON p.id = c.purpose "
        "WHERE subscriber = ? ORDER BY at DESC, c.id DESC",
        (id,),
    ).fetchall()


def suppressions_of(db: sqlite3.Connection, id: int) -> list[sqlite3.Row]:
    return db.execute("SELECT * FROM suppressions WHERE subscriber = ? ORDER BY at DESC", (id,)).fetchall()


def lists_of(db: sqlite3.Connection, id: int) -> list[str]:
    return [
        r["name"]
        for r in db.execute(
            "SELECT l.name FROM list_members m JOIN lists l ON l.id = m.list WHERE m.subscriber = ? ORDER BY l.name",
            (id,),
        )
    ]


def labels_of(db: sqlite3.Connection, id: int) -> list[str]:
    return [
        r["name"]
        for r in db.execute(
            "SELECT l.name FROM subscriber_labels m JOIN labels l ON l.id = m.label "
            "WHERE m.subscriber = ? ORDER BY l.name",
            (id,),
        )
    ]


def fields_json(fields: dict[str, str]) -> str:
    return json.dumps(fields, ensure_ascii=False, sort_keys=True, separators=(",", ":")) if fields else "{}"
