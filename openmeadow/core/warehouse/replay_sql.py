"""The cut-off replay and the people of a resend, as SQL over the exported tables.

The statements are fixed, as in ``standing_sql``; they say what ``engagement/replay.py`` and the resend say, and a test holds
them against these."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import sqlglot
from sqlglot import exp

from openmeadow.core.arrays import NEVER
from openmeadow.core.moments import DAY
from openmeadow.core.warehouse.standing_sql import filled

CHOSEN = "chosen"  # the people that are asked about
WORDS = ("as it was", "with the cut-off")
_MEASURES = {
    "delivered": "CASE WHEN failed_at IS NULL OR failed_at > :until THEN 1 ELSE 0 END",
    "engagements": "CASE WHEN opened_at <= :until OR reacted_at <= :until THEN 1 ELSE 0 END",
    "opens": "CASE WHEN opened_at <= :until OR clicked_at <= :until THEN 1 ELSE 0 END",
    "clicks": "CASE WHEN clicked_at <= :until THEN 1 ELSE 0 END",
    **{name: name for name in ("bookings", "worth", "complaints", "hard_bounces", "unsubscribes")},
}
_SUMS = ("COUNT(*) AS messages", *(f"COALESCE(SUM({of}), 0) AS {name}" for name, of in _MEASURES.items()))
_REPLAY = {
    # each message of the span, and the last engagement before it was first sent
    "placed": """
        SELECT d.person, d.message, d.first_at, d.failed_at, d.opened_at, d.clicked_at, d.reacted_at,
            CASE WHEN p.rejoined_at < d.first_at THEN p.rejoined_at END AS rejoined_at, MAX(e.at) AS last_before
        FROM deliveries AS d
        JOIN chosen AS c ON c.person = d.person
        JOIN people AS p ON p.person = d.person
        LEFT JOIN engagement AS e ON e.person = d.person AND e.at < d.first_at AND e.made_by <> 'machine'
        WHERE d.first_at > :since AND d.first_at <= :until
        GROUP BY d.person, d.message, d.first_at, d.failed_at, d.opened_at, d.clicked_at, d.reacted_at, p.rejoined_at""",
    "left_ignored": """
        SELECT m.person, m.message, COUNT(o.message) AS ignored
        FROM placed AS m
        LEFT JOIN deliveries AS o ON o.person = m.person AND o.first_at < m.first_at
            AND o.first_at > GREATEST(COALESCE(m.last_before, :never), COALESCE(m.rejoined_at, :never))
            AND (o.failed_at IS NULL OR o.failed_at > m.first_at)
        GROUP BY m.person, m.message""",
    # who was beyond the cut-off once gets nothing after it
    "judged": """
        SELECT m.*, MAX(CASE WHEN l.ignored >= :ignored AND (m.last_before IS NULL OR m.first_at - m.last_before >= :age)
            THEN 1 ELSE 0 END) OVER (PARTITION BY m.person ORDER BY m.first_at, m.message
            ROWS BETWEEN UNBOUNDED PRECEDING AND CURRENT ROW) AS gone
        FROM placed AS m JOIN left_ignored AS l ON l.person = m.person AND l.message = m.message""",
    "booked": """
        SELECT person, message, COUNT(*) AS bookings, SUM(value) AS worth FROM engagement
        WHERE kind = 'booked' AND message IS NOT NULL AND at <= :until GROUP BY person, message""",
    "troubled": """
        SELECT person, message, MAX(CASE WHEN what = 'complained' THEN 1 ELSE 0 END) AS complaints,
            MAX(CASE WHEN what = 'hard' THEN 1 ELSE 0 END) AS hard_bounces,
            MAX(CASE WHEN what = 'unsubscribed' THEN 1 ELSE 0 END) AS unsubscribes
        FROM bounces WHERE message IS NOT NULL AND at <= :until GROUP BY person, message""",
    "told": """
        SELECT j.*, b.bookings, b.worth, t.complaints, t.hard_bounces, t.unsubscribes FROM judged AS j
        LEFT JOIN booked AS b ON b.person = j.person AND b.message = j.message
        LEFT JOIN troubled AS t ON t.person = j.person AND t.message = j.message""",
}
_RESEND = {
    "ignored_it": """
        SELECT DISTINCT person FROM deliveries
        WHERE first_at <= :now AND (failed_at IS NULL OR failed_at > :now) AND (reacted_at IS NULL OR reacted_at > :now)""",
    "resent_often": """
        SELECT person FROM resends WHERE at > :month GROUP BY person HAVING COUNT(*) >= :most""",
}


@dataclass(frozen=True)
class CutOff:
    """``days`` since the last engagement and ``ignored`` messages since from which nothing more is sent; over the first
    sends in (``since``, ``until``], UTC seconds."""

    days: int
    ignored: int
    since: int
    until: int


@dataclass(frozen=True)
class Resend:
    """Which ``messages`` (of one name) are sent again, to whom: by ``rule``, and with ``machine_only`` also those whose
    opens are a machine's alone. Nobody is resent to ``most`` times in 30 days; ``purpose`` is what they must permit."""

    messages: Sequence[int]
    purpose: str
    rule: str
    machine_only: bool
    most: int


def _read(sql: str) -> exp.Query:
    made = sqlglot.parse_one(sql, dialect="duckdb")
    assert isinstance(made, exp.Query)
    return made


def replay(people: exp.Select, of: CutOff) -> exp.Query:
    """Two rows, as it was and with the cut-off: what was sent to some people (``person``) and what came of it."""
    values: dict[str, float] = {
        "since": of.since,
        "until": of.until,
        "never": int(NEVER),
        "age": of.days * DAY,
        "ignored": of.ignored,
    }
    every, kept = (exp.select(f"'{words}' AS sends", *_SUMS, dialect="duckdb").from_("told") for words in WORDS)
    totals = filled(exp.union(every, kept.where("gone = 0"), distinct=False), values)
    out = totals.with_(CHOSEN, as_=people)
    for name, sql in _REPLAY.items():
        out = out.with_(name, as_=filled(_read(sql), values))
    return out


def resend(people: exp.Select, of: Resend, now: int) -> exp.Select:
    """Of some people (``person`` of the table ``p``) those who are due for a resend now."""
    values: dict[str, float] = {"now": now, "month": now - 30 * DAY, "most": of.most}
    tables = {name: filled(_read(sql), values) for name, sql in _RESEND.items()}
    opened = "opened_at <= :now" if of.rule == "opened, not clicked" else "(opened_at IS NULL OR opened_at > :now)"
    if of.rule != "opened, not clicked" and not of.machine_only:
        opened += " AND (machine_at IS NULL OR machine_at > :now)"
    messages = exp.In(this=exp.column("message"), expressions=[exp.Literal.number(m) for m in of.messages])
    first = tables["ignored_it"]
    assert isinstance(first, exp.Select)
    tables["ignored_it"] = filled(first.where(sqlglot.condition(opened, dialect="duckdb"), messages), values)
    permitted = exp.select("person").from_("permitted")
    tables["may_be_mailed"] = permitted.where(
        exp.EQ(this=exp.column("purpose"), expression=exp.Literal.string(of.purpose))
    )
    for name, query in tables.items():
        people = people.with_(name, as_=query)
    person = exp.column("person", table="p")
    inside = {name: exp.In(this=person.copy(), query=exp.select("person").from_(name).subquery()) for name in tables}
    return people.where(inside["ignored_it"], exp.not_(inside["resent_often"]), inside["may_be_mailed"])
