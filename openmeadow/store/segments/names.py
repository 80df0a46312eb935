"""Names and values that rules can use, with how many subscribers each applies to."""

from __future__ import annotations

import sqlite3

from openmeadow.core.consent.eligibility import SUPPRESSION_REASONS
from openmeadow.core.errors import Missing
from openmeadow.store.subscribers.fields import path

Named = list[tuple[str, int | None]]
MOST_MESSAGES, MOST_VALUES = 200, 100

_COUNTED = {
    "list": "SELECT l.name, count(m.subscriber) FROM lists l LEFT JOIN list_members m ON m.list = l.id GROUP BY l.id",
    "label": "SELECT l.name, count(m.subscriber) FROM labels l LEFT JOIN subscriber_labels m ON m.label = l.id GROUP BY l.id",
    "source": "SELECT o.name, count(s.id) FROM sources o LEFT JOIN subscribers s ON s.source = o.id GROUP BY o.id",
    "provider": "SELECT p.name, count(s.id) FROM providers p LEFT JOIN subscribers s ON s.provider = p.id GROUP BY p.id",
    "language": "SELECT language, count(*) FROM subscribers WHERE language IS NOT NULL GROUP BY 1",
    "country": "SELECT country, count(*) FROM subscribers WHERE country IS NOT NULL GROUP BY 1",
    "consent source": "SELECT source, count(DISTINCT subscriber) FROM consent_entries "
    "WHERE NOT void AND source IS NOT NULL GROUP BY source COLLATE NOCASE",
    "sequence": "SELECT q.name, sum(t.id IS NOT NULL AND t.left_at IS NULL) FROM sequences q "
    "LEFT JOIN enrolments t ON t.sequence = q.id GROUP BY q.id",
}
_PLAIN = {
    "purpose": "SELECT name FROM purposes",
    "field": "SELECT name FROM field_names",
    "segment": "SELECT name FROM segments",
}


def names(db: sqlite3.Connection) -> dict[str, Named]:
    """By kind, in alphabetical order; the newest messages first."""
    out: dict[str, Named] = {}
    for kind, sql in _COUNTED.items():
        out[kind] = sorted(((str(r[0]), int(r[1] or 0)) for r in db.execute(sql) if r[0]), key=lambda r: r[0].lower())
    for kind, sql in _PLAIN.items():
        out[kind] = sorted(((str(r[0]), None) for r in db.execute(sql)), key=lambda r: r[0].lower())
    recent = db.execute("SELECT name FROM messages ORDER BY id DESC LIMIT ?", (MOST_MESSAGES,))
    out["message"] = [(str(r[0]), None) for r in recent]
    suppressed = dict(db.execute("SELECT reason, count(*) FROM suppressions GROUP BY reason").fetchall())
    out["reason"] = [(reason, int(suppressed.get(i, 0))) for i, reason in enumerate(SUPPRESSION_REASONS, 1)]
    return out


def field_values(db: sqlite3.Connection, field: str) -> Named:
    """The most common values of a field first. Missing for a field that does not exist."""
    row = db.execute("SELECT name FROM field_names WHERE name = ? COLLATE NOCASE", (field,)).fetchone()
    if row is None:
        raise Missing(f"There is no field “{field}”.")
    found = db.execute(
        "SELECT v, count(*) FROM (SELECT trim(CAST(json_extract(fields, ?) AS TEXT)) AS v FROM subscribers "
        "WHERE fields <> '{}') WHERE v <> '' GROUP BY v ORDER BY 2 DESC, 1 LIMIT ?",
        (path(str(row["name"])), MOST_VALUES),
    )
    return [(str(r[0]), int(r[1])) for r in found]
