"""What an export of columns reads from tables: rows in the order of ``core/warehouse/tables``, some at a time."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from openmeadow.core.consent.eligibility import CONSENT_STATES, SUPPRESSION_REASONS
from openmeadow.core.states import DeliveryState, SendKind
from openmeadow.store.rows import Record
from openmeadow.store.segments.segment_facts import IS_DATE, IS_NUMBER
from openmeadow.store.subscribers.consent import ORDER

BLOCK = 10_000


def _case(of: str, words: tuple[str, ...], first: int = 0) -> str:
    """SQL of a word by its number; the words are the code's own."""
    return f"CASE {of} " + " ".join(f"WHEN {i} THEN '{w}'" for i, w in enumerate(words, first)) + " END"


_ALIVE = "(SELECT id FROM subscribers WHERE erased_at IS NULL)"
QUERIES = {
    "consent": f"""
        SELECT e.subscriber, p.name, e.channel, {_case("e.state", CONSENT_STATES)}, e.at,
            CASE WHEN e.state = 1 THEN (SELECT max(g.at) FROM consent_entries g WHERE NOT g.void AND g.state = 1
                AND g.subscriber = e.subscriber AND g.purpose = e.purpose AND g.channel = e.channel AND g.at <= :now)
            END, e.source
        FROM (SELECT *, row_number() OVER (PARTITION BY subscriber, purpose, channel ORDER BY {ORDER} DESC) AS place
              FROM consent_entries WHERE NOT void AND at <= :now) e
        JOIN purposes p ON p.id = e.purpose WHERE e.place = 1 AND e.subscriber IN {_ALIVE}""",
    "suppressions": f"""
        SELECT subscriber, {_case("reason", SUPPRESSION_REASONS, 1)}, at FROM suppressions
        WHERE at <= :now AND subscriber IN {_ALIVE}""",
    "lists": f"SELECT m.subscriber, l.name, m.at FROM list_members m JOIN lists l ON l.id = m.list "
    f"WHERE m.subscriber IN {_ALIVE}",
    "labels": f"SELECT s.subscriber, l.name FROM subscriber_labels s JOIN labels l ON l.id = s.label "
    f"WHERE s.subscriber IN {_ALIVE}",
    "fields": f"""
        SELECT id, key, v, CASE WHEN {IS_NUMBER} THEN CAST(v AS REAL) END, CASE WHEN {IS_DATE} THEN substr(v, 1, 10) END
        FROM (SELECT s.id, j.key, trim(coalesce(CAST(j.value AS TEXT), '')) AS v
              FROM subscribers s, json_each(s.fields) j WHERE s.fields <> '{{}}' AND s.erased_at IS NULL)
        WHERE v <> ''""",
    "messages": "SELECT id, name FROM messages",
    "resends": f"""
        SELECT d.subscriber, c.message, d.changed_at FROM sends q JOIN campaigns c ON c.id = q.campaign
        CROSS JOIN deliveries d ON d.send = q.id WHERE q.kind <> '{SendKind.FIRST}' AND d.state = '{DeliveryState.SENT}'
        AND d.subscriber IN {_ALIVE}""",
    "snapshots": f"""
        SELECT p.subscriber, n.id, s.name, strftime('%Y-%m-%d', n.at, 'unixepoch') FROM snapshot_people p
        JOIN snapshots n ON n.id = p.snapshot JOIN segments s ON s.id = n.segment WHERE p.subscriber IN {_ALIVE}""",
    "sequences": f"""
        SELECT e.subscriber, s.name, nullif(e.step, 0), e.entered_at, e.left_at, e.finished FROM enrolments e
        JOIN sequences s ON s.id = e.sequence WHERE e.subscriber IN {_ALIVE}""",
}
PEOPLE = """
    SELECT s.id, s.email, s.name, s.joined_at, s.rejoined_at, s.source, s.provider, s.language, s.country, s.time_zone,
        v.verdict
    FROM subscribers s LEFT JOIN address_verdicts v ON v.subscriber = s.id
    WHERE s.erased_at IS NULL ORDER BY s.id"""


def blocks(db: sqlite3.Connection, sql: str, now: int) -> Iterator[list[tuple[object, ...]]]:
    """The rows of a query, some at a time; ``:now`` in it is the moment."""
    cursor = db.cursor()
    cursor.row_factory = None
    cursor.execute(sql, {"now": now} if ":now" in sql else {})
    while rows := cursor.fetchmany(BLOCK):
        yield rows


def exact_name(db: sqlite3.Connection, table: str, name: str) -> str | None:
    """A name as it is kept, whatever the letter case."""
    row = db.execute(f"SELECT name FROM {table} WHERE name = ? COLLATE NOCASE", (name,)).fetchone()
    return None if row is None else str(row["name"])


@dataclass(frozen=True, slots=True)
class AboutMessages(Record):
    """What a message was about and whose it is, where that is known."""

    purpose: str | None
    campaign: int | None


def about_messages(db: sqlite3.Connection, ids: Sequence[int]) -> AboutMessages:
    """Of the latest of some messages."""
    row = db.execute(
        "SELECT p.name AS purpose, c.id AS campaign FROM messages m LEFT JOIN purposes p ON p.id = m.purpose "
        "LEFT JOIN campaigns c ON c.message = m.id WHERE m.id = ?",
        (max(ids),),
    ).fetchone()
    return AboutMessages(row["purpose"], row["campaign"])


def source_names(db: sqlite3.Connection) -> dict[int, str]:
    """Sources of joining by their number."""
    return {int(r["id"]): str(r["name"]) for r in db.execute("SELECT id, name FROM sources")}


__all__ = ["PEOPLE", "QUERIES", "AboutMessages", "about_messages", "blocks", "exact_name", "source_names"]
