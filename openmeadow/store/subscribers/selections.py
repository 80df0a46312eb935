"""Questions and changes about many people by their ids: labels, lists, suppressions, verdicts, domains."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Sequence

import numpy as np

from openmeadow.store.bulk import Many
from openmeadow.store.subscribers import fields
from openmeadow.store.subscribers.consent import ORDER
from openmeadow.store.subscribers.subscribers import facts_changed
from openmeadow.store.undo_log import put_away

CHUNK = 20_000
_ALREADY = {
    "label": "SELECT subscriber FROM subscriber_labels WHERE label = (SELECT id FROM labels WHERE name = ?)",
    "list": "SELECT subscriber FROM list_members WHERE list = (SELECT id FROM lists WHERE name = ?)",
    "suppress": "SELECT DISTINCT subscriber FROM suppressions WHERE ? IS NOT NULL",
}
_ALREADY |= {"unlabel": _ALREADY["label"], "unlist": _ALREADY["list"]}


def already(db: sqlite3.Connection, act: str, argument: str, ids: Sequence[int]) -> set[int]:
    """Those of the people for whom an act would change nothing (for ``unlabel`` and ``unlist``: would change something)."""
    if act not in _ALREADY:
        return set()
    mine = set(ids)
    rows = db.execute(f"{_ALREADY[act]} AND subscriber BETWEEN ? AND ?", (argument, *_from_to(ids)))
    return {int(r[0]) for r in rows if r[0] in mine}


def _from_to(ids: Sequence[int]) -> tuple[int, int]:
    """The least and the largest id, so that a few people among many are found without reading all."""
    return min(ids, default=0), max(ids, default=0)


def take_label_off(db: sqlite3.Connection, label: str, ids: Sequence[int], action: int) -> int:
    """Take a label off people; how many had it."""
    row = db.execute("SELECT id FROM labels WHERE name = ?", (label,)).fetchone()
    if row is None:
        return 0
    mine = set(ids)
    found = db.execute(
        "SELECT subscriber, action FROM subscriber_labels WHERE label = ? AND subscriber BETWEEN ? AND ?",
        (row["id"], *_from_to(ids)),
    )
    wearing = {int(r["subscriber"]): r["action"] for r in found if r["subscriber"] in mine}
    put_away(db, action, "label", [(row_id, [row["id"], before]) for row_id, before in wearing.items()])
    db.executemany(
        "DELETE FROM subscriber_labels WHERE label = ? AND subscriber = ?", [(row["id"], row_id) for row_id in wearing]
    )
    facts_changed(db)
    return len(wearing)


def take_off_list(db: sqlite3.Connection, name: str, ids: Sequence[int], action: int) -> int:
    """Take people off a list; how many were on it."""
    row = db.execute("SELECT id FROM lists WHERE name = ?", (name,)).fetchone()
    if row is None:
        return 0
    mine = set(ids)
    found = db.execute(
        "SELECT subscriber, at, action FROM list_members WHERE list = ? AND subscriber BETWEEN ? AND ?",
        (row["id"], *_from_to(ids)),
    )
    members = {int(r["subscriber"]): (r["at"], r["action"]) for r in found if r["subscriber"] in mine}
    put_away(db, action, "list", [(row_id, [row["id"], at, first]) for row_id, (at, first) in members.items()])
    db.executemany("DELETE FROM list_members WHERE list = ? AND subscriber = ?", [(row["id"], i) for i in members])
    facts_changed(db)
    return len(members)


def consents_among(db: sqlite3.Connection, ids: Sequence[int], now: int) -> dict[int, dict[str, int]]:
    """What stands of each of some people's consent by email at a moment: by purpose the place in CONSENT_STATES."""
    marks = ",".join("?" * len(ids))
    name_of = {r["id"]: r["name"] for r in db.execute("SELECT id, name FROM purposes")}
    out: dict[int, dict[str, int]] = {}
    for r in db.execute(
        f"SELECT subscriber, purpose, state, max({ORDER}) FROM consent_entries WHERE NOT void AND channel = 'email' "
        f"AND at <= ? AND subscriber IN ({marks}) GROUP BY subscriber, purpose",
        (now, *ids),
    ):
        out.setdefault(int(r["subscriber"]), {})[name_of[r["purpose"]]] = r["state"]
    return out


def frequent_domains(db: sqlite3.Connection, most: int = 200, at_least: int = 20) -> list[str]:
    """The domains most people here have their addresses at, the most frequent first."""
    return [
        r["domain"]
        for r in db.execute(
            "SELECT substr(email_key, instr(email_key, '@') + 1) AS domain, count(*) AS n FROM subscribers "
            "WHERE erased_at IS NULL AND id NOT IN (SELECT subscriber FROM suppressions WHERE reason = 1) "
            "GROUP BY domain HAVING n >= ? ORDER BY n DESC LIMIT ?",
            (at_least, most),
        )
    ]


def bounced_keys(db: sqlite3.Connection, ids: Sequence[int]) -> set[str]:
    """The address keys of those who bounced for good."""
    marks = ",".join("?" * len(ids))
    return {
        r["email_key"]
        for r in db.execute(
            "SELECT s.email_key FROM suppressions x JOIN subscribers s ON s.id = x.subscriber "
            f"WHERE x.reason = 1 AND x.subscriber IN ({marks})",
            ids,
        )
    }


def save_verdicts(db: sqlite3.Connection, rows: Many[tuple[int, int, str, str | None, int]]) -> None:
    """(subscriber, verdict, reasons as JSON, suggestion, at); the latest stands."""
    sql = "INSERT OR REPLACE INTO address_verdicts SELECT ?1, ?2, ?3, ?4, ?5 FROM subscribers WHERE id = ?1"
    db.executemany(sql, rows)  # who was taken out meanwhile has none
    facts_changed(db)


def several(db: sqlite3.Connection, ids: Sequence[int], table: str) -> dict[int, list[str]]:
    """The lists or labels of each person, by name."""
    link, column = {"lists": ("list_members", "list"), "labels": ("subscriber_labels", "label")}[table]
    marks = ",".join("?" * len(ids))
    out: dict[int, list[str]] = {}
    for r in db.execute(
        f"SELECT m.subscriber, t.name FROM {link} m JOIN {table} t ON t.id = m.{column} "
        f"WHERE m.subscriber IN ({marks}) ORDER BY t.name",
        ids,
    ):
        out.setdefault(int(r["subscriber"]), []).append(r["name"])
    return out


def suppressed_among(db: sqlite3.Connection, ids: Sequence[int]) -> set[int]:
    """Those of some people who are suppressed."""
    marks = ",".join("?" * len(ids))
    return {int(r[0]) for r in db.execute(f"SELECT subscriber FROM suppressions WHERE subscriber IN ({marks})", ids)}


def verdicts_among(db: sqlite3.Connection, ids: Sequence[int]) -> dict[int, int]:
    """The verdicts on the addresses of some people."""
    marks = ",".join("?" * len(ids))
    return {
        int(r["subscriber"]): int(r["verdict"])
        for r in db.execute(f"SELECT subscriber, verdict FROM address_verdicts WHERE subscriber IN ({marks})", ids)
    }


def keys_of(db: sqlite3.Connection, ids: Sequence[int]) -> list[str]:
    """The address keys of some people who are not erased."""
    out: list[str] = []
    for i in range(0, len(ids), 20_000):
        part = ids[i : i + 20_000]
        rows = db.execute(
            f"SELECT email_key FROM subscribers WHERE erased_at IS NULL AND id IN ({','.join('?' * len(part))})", part
        )
        out += [str(r["email_key"]) for r in rows]
    return out


def lacking(db: sqlite3.Connection, column: str, ids: np.ndarray) -> int:
    """How many of some people have nothing in their name (``name``) or a field of their own (``field:town``)."""
    if column == "name":
        rows = db.execute("SELECT id FROM subscribers WHERE coalesce(trim(name), '') = ''")
    else:
        path = fields.path(column.removeprefix("field:"))
        rows = db.execute("SELECT id FROM subscribers WHERE coalesce(json_extract(fields, ?), '') = ''", (path,))
    without = np.array([r[0] for r in rows], np.int64)
    return int(np.isin(ids, without).sum())


def list_sizes(db: sqlite3.Connection, only: Sequence[str] | None = None) -> list[tuple[str, int]]:
    """Every list with how many are in it, or some of them."""
    rows = db.execute(
        "SELECT l.name, (SELECT count(*) FROM list_members m WHERE m.list = l.id) AS n FROM lists l "
        "WHERE ?1 IS NULL OR l.name IN (SELECT value FROM json_each(?1)) ORDER BY l.name",
        (None if only is None else json.dumps(list(only)),),
    )
    return [(r["name"], r["n"]) for r in rows]
