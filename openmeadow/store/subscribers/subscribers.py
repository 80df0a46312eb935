"""Subscribers, lists, labels, purposes and consent: what imports write and screens read."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterator, Sequence

from openmeadow.core.ids import SubscriberId
from openmeadow.store import bulk
from openmeadow.store.bulk import Many
from openmeadow.store.engagement import event_hours
from openmeadow.store.rows import SqlValue, Values
from openmeadow.store.subscribers.records import (
    Enrolled,
    NamedEntry,
    NamedRow,
    NewSubscriber,
    Note,
    Subscriber,
    SubscriberWithSource,
    Suppression,
    Verdict,
)

CHUNK = 20_000
_NAMED = {"lists", "labels", "purposes", "sources"}


def named(db: sqlite3.Connection, table: str, name: str) -> tuple[int, bool]:
    """The id of a list, label, purpose or source, and whether it was just made."""
    if table not in _NAMED:
        raise ValueError(table)
    row = db.execute(f"SELECT id FROM {table} WHERE name = ?", (name,)).fetchone()
    if row:
        return int(row["id"]), False
    return int(db.execute(f"INSERT INTO {table} (name) VALUES (?)", (name,)).lastrowid or 0), True


def names(db: sqlite3.Connection, table: str) -> list[NamedRow]:
    """The rows of lists, labels, purposes or sources, by name; ValueError for another table."""
    if table not in _NAMED:
        raise ValueError(table)
    return NamedRow.read_all(db.execute(f"SELECT id, name FROM {table} ORDER BY name"))


def known_ids(db: sqlite3.Connection, ids: Sequence[int]) -> set[int]:
    """Those of some store ids that there are."""
    out: set[int] = set()
    for i in range(0, len(ids), CHUNK):
        part = ids[i : i + CHUNK]
        marks = ",".join("?" * len(part))
        out.update(r["id"] for r in db.execute(f"SELECT id FROM subscribers WHERE id IN ({marks})", part))
    return out


def ids_of(db: sqlite3.Connection, keys: Sequence[str]) -> dict[str, SubscriberId]:
    """Store ids of those address keys that are known."""
    out: dict[str, SubscriberId] = {}
    for i in range(0, len(keys), CHUNK):
        part = keys[i : i + CHUNK]
        marks = ",".join("?" * len(part))
        out.update(db.execute(f"SELECT email_key, id FROM subscribers WHERE email_key IN ({marks})", part).fetchall())
    return out


UPSERT = """
INSERT INTO subscribers (email, email_key, name, joined_at, time_zone, language, country, provider, source, fields, action)
VALUES (:email, :key, :name, coalesce(:joined_at, :now), :time_zone, :language, :country, :provider, :source, :fields, :action)
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


def upsert(db: sqlite3.Connection, rows: Many[NewSubscriber]) -> int:
    """Insert or merge; the number of rows that were new or changed something."""
    earliest = [2**40]

    def values() -> Iterator[dict[str, object]]:
        for r in rows:
            earliest[0] = min(earliest[0], r.now if r.joined_at is None else r.joined_at)
            yield r._asdict()

    changed = db.executemany(UPSERT, values()).rowcount
    if changed > 0:
        people_changed(db)
        event_hours.forget_points(db, earliest[0])
    return max(changed, 0)


def count_up(db: sqlite3.Connection, name: str) -> None:
    """Count a change of something that is kept elsewhere too."""
    db.execute("INSERT INTO settings VALUES (?, '1') ON CONFLICT (name) DO UPDATE SET value = value + 1", (name,))


def version_of(db: sqlite3.Connection, name: str) -> int:
    """How many changes were counted so far."""
    row = db.execute("SELECT value FROM settings WHERE name = ?", (name,)).fetchone()
    return int(row["value"]) if row else 0


def people_changed(db: sqlite3.Connection) -> None:
    """Count up, so that who keeps the people in memory reads them again."""
    count_up(db, "people_version")
    facts_changed(db)


def facts_changed(db: sqlite3.Connection) -> None:
    """The same for lists, labels, consent and suppression."""
    count_up(db, "facts_version")


def people_version(db: sqlite3.Connection) -> int:
    """Counts up whenever people change."""
    return version_of(db, "people_version")


def facts_version(db: sqlite3.Connection) -> int:
    """Counts up whenever lists, labels, consent, suppression or people change."""
    return version_of(db, "facts_version")


def _added(db: sqlite3.Connection, sql: str, rows: Many[tuple[SqlValue, ...]]) -> int:
    """Insert what is not there yet; how many rows that were."""
    before = db.total_changes
    db.executemany(sql, rows)
    new = db.total_changes - before
    if new:
        facts_changed(db)
    return new


def add_members(db: sqlite3.Connection, rows: Many[tuple[int, int, int, int | None]]) -> int:
    """(list, subscriber, at, action)."""
    return _added(db, "INSERT OR IGNORE INTO list_members VALUES (?, ?, ?, ?)", rows)


def add_labels(db: sqlite3.Connection, rows: Many[tuple[int, int, int | None]]) -> int:
    """(label, subscriber, action)."""
    return _added(db, "INSERT OR IGNORE INTO subscriber_labels VALUES (?, ?, ?)", rows)


def add_suppressions(db: sqlite3.Connection, rows: Many[tuple[int, int, int, str, int | None]]) -> int:
    """(subscriber, reason, at, source, action); the earliest of a reason stays."""
    return _added(db, "INSERT OR IGNORE INTO suppressions VALUES (?, ?, ?, ?, ?)", rows)


def subscriber(db: sqlite3.Connection, row_id: int) -> SubscriberWithSource | None:
    """A person with the name of their source, or None; also somebody erased."""
    return SubscriberWithSource.read(
        db.execute(
            "SELECT s.*, d.name AS source_name FROM subscribers s LEFT JOIN sources d ON d.id = s.source WHERE s.id = ?",
            (row_id,),
        )
    )


def by_ids(db: sqlite3.Connection, ids: Sequence[int]) -> dict[int, Subscriber]:
    """Some people by id."""
    out: dict[int, Subscriber] = {}
    for i in range(0, len(ids), CHUNK):
        part = list(ids[i : i + CHUNK])
        marks = ",".join("?" * len(part))
        for row in db.execute(f"SELECT * FROM subscribers WHERE id IN ({marks})", part):
            out[row["id"]] = Subscriber.from_row(row)
    return out


MOST_WORDS = 6  # of a search


def words_hold(text: str, table: str = "subscribers") -> tuple[str, list[str]]:
    """SQL, and its values, that goes on a WHERE: each word of a text stands in the address or the name."""
    words = [w.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_") for w in text.lower().split()[:MOST_WORDS]]
    holds = f"AND ({table}.email_key LIKE ? ESCAPE '\\' OR {table}.name LIKE ? ESCAPE '\\') " * len(words)
    return holds, [f"%{w}%" for w in words for _ in range(2)]


def matching(db: sqlite3.Connection, text: str, limit: int = 0) -> list[int]:
    """Ids of people each of the text's words stands in the address or name of, in any order."""
    holds, parts = words_hold(text)
    sql = f"SELECT id FROM subscribers WHERE erased_at IS NULL {holds}ORDER BY id{' LIMIT ?' if limit else ''}"
    return [int(r["id"]) for r in db.execute(sql, (*parts, *([limit] if limit else [])))]


def consent_history(db: sqlite3.Connection, row_id: int) -> list[NamedEntry]:
    """A person's consent record, the latest first."""
    return NamedEntry.read_all(
        db.execute(
            "SELECT c.*, c.list AS list_id, p.name AS purpose_name, w.text AS wording_text FROM consent_entries c "
            "JOIN purposes p ON p.id = c.purpose LEFT JOIN wordings w ON w.id = c.wording_id "
            "WHERE subscriber = ? AND NOT c.void ORDER BY at DESC, c.id DESC",
            (row_id,),
        )
    )


def suppressions_of(db: sqlite3.Connection, row_id: int) -> list[Suppression]:
    """Why somebody is suppressed, each with its moment and source."""
    return Suppression.read_all(db.execute("SELECT * FROM suppressions WHERE subscriber = ? ORDER BY at DESC", (row_id,)))


def lists_of(db: sqlite3.Connection, row_id: int) -> list[str]:
    """The lists somebody is on."""
    return [
        r["name"]
        for r in db.execute(
            "SELECT l.name FROM list_members m JOIN lists l ON l.id = m.list WHERE m.subscriber = ? ORDER BY l.name",
            (row_id,),
        )
    ]


def labels_of(db: sqlite3.Connection, row_id: int) -> list[str]:
    """The labels somebody has."""
    return [
        r["name"]
        for r in db.execute(
            "SELECT l.name FROM subscriber_labels m JOIN labels l ON l.id = m.label "
            "WHERE m.subscriber = ? ORDER BY l.name",
            (row_id,),
        )
    ]


def fields_json(fields: dict[str, str]) -> str:
    """Fields as they are kept: JSON in one order, always the same for the same."""
    return json.dumps(fields, ensure_ascii=False, sort_keys=True, separators=(",", ":")) if fields else "{}"


def column_mappings(db: sqlite3.Connection, header: str) -> list[str] | None:
    """What the columns of this heading were taken for the last time."""
    row = db.execute("SELECT targets FROM column_mappings WHERE header = ?", (header,)).fetchone()
    return list(json.loads(row["targets"])) if row else None


def remember_matches(db: sqlite3.Connection, header: str, targets: list[str], now: int) -> None:
    """Keep how the columns of a heading were mapped."""
    db.execute("INSERT OR REPLACE INTO column_mappings VALUES (?, ?, ?)", (header, json.dumps(targets), now))


def in_order_of_address(db: sqlite3.Connection) -> list[int]:
    """Everybody's id, by address."""
    cursor = db.cursor()
    cursor.row_factory = None
    return [r[0] for r in cursor.execute("SELECT id FROM subscribers ORDER BY email_key")]


def notes(db: sqlite3.Connection, row_id: int) -> list[Note]:
    """The notes about a person, the latest first."""
    return Note.read_all(db.execute("SELECT * FROM notes WHERE subscriber = ? ORDER BY at DESC, id DESC", (row_id,)))


def add_note(db: sqlite3.Connection, row_id: int, at: int, who: str, text: str) -> int:
    """Write a note about a person; its id."""
    return int(
        db.execute("INSERT INTO notes (subscriber, at, who, text) VALUES (?, ?, ?, ?)", (row_id, at, who, text)).lastrowid
        or 0
    )


def remove_note(db: sqlite3.Connection, row_id: int, note: int) -> int:
    """Remove a note; 1 where it was there."""
    return db.execute("DELETE FROM notes WHERE id = ? AND subscriber = ?", (note, row_id)).rowcount


def enrolments(db: sqlite3.Connection, row_id: int) -> list[Enrolled]:
    """The sequences somebody is or was in, the latest first."""
    return Enrolled.read_all(
        db.execute(
            "SELECT q.name, s.* FROM enrolments s JOIN sequences q ON q.id = s.sequence WHERE s.subscriber = ? "
            "ORDER BY s.entered_at DESC",
            (row_id,),
        )
    )


def verdict(db: sqlite3.Connection, row_id: int) -> Verdict | None:
    """The verdict on a person's address, or None."""
    return Verdict.read(db.execute("SELECT * FROM address_verdicts WHERE subscriber = ?", (row_id,)))


def set_person(db: sqlite3.Connection, row_id: int, values: Values) -> None:
    """Own columns of one person: name, time_zone, language, country, fields (as JSON)."""
    for name in values:
        if name not in ("name", "time_zone", "language", "country", "fields"):
            raise ValueError(name)
    db.execute(
        f"UPDATE subscribers SET {', '.join(f'{n} = :{n}' for n in values)} WHERE id = :id", {**values, "id": row_id}
    )
    people_changed(db)


def distinct(db: sqlite3.Connection, column: str) -> list[str]:
    """The languages or countries there are."""
    if column not in ("language", "country"):
        raise ValueError(column)
    return bulk.distinct(db, "subscribers", column)


def usual_purpose(db: sqlite3.Connection) -> str:
    """The purpose most messages were about; "" without any purpose."""
    row = db.execute(
        "SELECT p.name FROM purposes p LEFT JOIN messages m ON m.purpose = p.id GROUP BY p.id "
        "ORDER BY count(m.id) DESC, p.id LIMIT 1"
    ).fetchone()
    return str(row["name"]) if row else ""


def count(db: sqlite3.Connection) -> int:
    """How many there are; an erased one is none."""
    return int(db.execute("SELECT count(*) FROM subscribers WHERE erased_at IS NULL").fetchone()[0])
