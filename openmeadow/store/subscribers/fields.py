"""Fields of a workspace's own: their names and types, and the values people have in them."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Sequence

from openmeadow.core.fields import FieldType
from openmeadow.store.bulk import Many, read_columns
from openmeadow.store.subscribers.subscribers import facts_changed

SAMPLE = 2_000  # values that a guess is made from


def path(name: str) -> str:
    """The JSON path of a field."""
    return '$."' + name.replace('"', '\\"') + '"'


def names(db: sqlite3.Connection) -> list[str]:
    """The names of all fields."""
    return [r["name"] for r in db.execute("SELECT name FROM field_names ORDER BY name")]


def types(db: sqlite3.Connection) -> dict[str, FieldType]:
    """The type of every field."""
    return {r["name"]: FieldType(r["type"]) for r in db.execute("SELECT name, type FROM field_names ORDER BY name")}


def add(db: sqlite3.Connection, fields: Many[str], kind: FieldType = FieldType.TEXT) -> None:
    """Keep the names of fields; those that are there stay as they are."""
    db.executemany("INSERT OR IGNORE INTO field_names (name, type) VALUES (?, ?)", [(f, kind) for f in fields])


def set_type(db: sqlite3.Connection, name: str, kind: FieldType) -> None:
    """Change a field's type; its values stay."""
    db.execute("UPDATE field_names SET type = ? WHERE name = ?", (kind, name))
    facts_changed(db)


def rename(db: sqlite3.Connection, before: str, after: str) -> None:
    """Change a field's name, also in what was remembered of imports; the values stay under the old one."""
    db.execute("UPDATE field_names SET name = ? WHERE name = ?", (after, before))
    for r in db.execute("SELECT header, targets FROM column_mappings").fetchall():
        targets = json.loads(r["targets"])
        if before in targets:
            new = json.dumps([after if t == before else t for t in targets])
            db.execute("UPDATE column_mappings SET targets = ? WHERE header = ?", (new, r["header"]))
    facts_changed(db)


def remove(db: sqlite3.Connection, name: str) -> None:
    """Forget a field's name; the values stay."""
    db.execute("DELETE FROM field_names WHERE name = ?", (name,))
    facts_changed(db)


def counts(db: sqlite3.Connection) -> dict[str, int]:
    """How many people have a value in each field."""
    rows = db.execute(
        "SELECT f.key, count(*) AS n FROM subscribers s, json_each(s.fields) f WHERE s.fields <> '{}' "
        "AND s.erased_at IS NULL AND trim(f.value) <> '' GROUP BY f.key"
    )
    return {r["key"]: r["n"] for r in rows}


def sample(db: sqlite3.Connection, name: str, most: int = SAMPLE) -> list[str]:
    """Some different values of a field, at most so many."""
    rows = db.execute(
        "SELECT DISTINCT CAST(json_extract(fields, ?1) AS TEXT) AS v FROM subscribers WHERE fields <> '{}' "
        "AND trim(coalesce(CAST(json_extract(fields, ?1) AS TEXT), '')) <> '' LIMIT ?2",
        (path(name), most),
    )
    return [str(r["v"]) for r in rows]


def holders(db: sqlite3.Connection, name: str) -> list[int]:
    """Those who have the field, also with nothing in it, by id."""
    sql = "SELECT id FROM subscribers WHERE fields <> '{}' AND json_extract(fields, ?) IS NOT NULL ORDER BY id"
    (ids,) = read_columns(db, sql, (path(name),), "q")
    found: list[int] = ids.tolist()
    return found


def values(db: sqlite3.Connection, name: str, ids: Sequence[int]) -> list[tuple[int, str]]:
    """What some people have in a field."""
    rows = db.execute(
        "SELECT id, CAST(json_extract(fields, ?) AS TEXT) AS v FROM subscribers "
        "WHERE id IN (SELECT value FROM json_each(?)) AND v IS NOT NULL",
        (path(name), json.dumps(list(ids))),
    )
    return [(int(r["id"]), str(r["v"])) for r in rows]


def put(db: sqlite3.Connection, name: str, rows: Many[tuple[int, str]]) -> int:
    """Give people values in a field; those erased meanwhile get none. How many got one."""
    sql = "UPDATE subscribers SET fields = json_set(fields, ?, ?) WHERE id = ? AND erased_at IS NULL"
    done = db.executemany(sql, ((path(name), value, row_id) for row_id, value in rows)).rowcount
    facts_changed(db)
    return max(done, 0)


def take(db: sqlite3.Connection, name: str, ids: Sequence[int]) -> int:
    """Take a field off some people; how many."""
    sql = "UPDATE subscribers SET fields = json_remove(fields, ?) WHERE id = ?"
    db.executemany(sql, ((path(name), row_id) for row_id in ids))
    facts_changed(db)
    return len(ids)
