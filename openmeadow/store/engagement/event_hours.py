"""What happened, summed by hour, message and provider: kept in the transaction that adds or removes events, so that pages
need not read events. Windows count whole hours: the one in which a window begins is left out."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Sequence

from openmeadow.core.ids import MessageId
from openmeadow.core.moments import HOUR, WEEK
from openmeadow.store.engagement.records import MessageHours, ProviderWeek
from openmeadow.store.health.records import DayCount, ProviderPeak

_SUM = (
    "INSERT INTO event_hours (kind, hour, message, provider, n) "
    "SELECT e.kind, e.at / 3600, coalesce(e.message, 0), s.provider, count(*) "
    "FROM events e NOT INDEXED CROSS JOIN subscribers s ON s.id = e.subscriber WHERE {} GROUP BY 1, 2, 3, 4 "
    "ON CONFLICT DO UPDATE SET n = n + excluded.n"
)


def added(db: sqlite3.Connection, after: int) -> None:
    """Count the events whose ids are above ``after``, which have just been added. What was kept of moments after the
    first of them is forgotten. Both read the new events by their ids alone (``+`` and NOT INDEXED say so)."""
    db.execute(_SUM.format("e.id > ?"), (after,))
    db.execute("DELETE FROM base_points WHERE at >= (SELECT min(+at) FROM events WHERE id > ?)", (after,))


def rebuild(db: sqlite3.Connection) -> int:
    """Sum all events anew; the number of sums."""
    db.execute("DELETE FROM event_hours")
    db.execute(_SUM.format("true"))
    return int(db.execute("SELECT count(*) AS n FROM event_hours").fetchone()["n"])


def wrong(db: sqlite3.Connection) -> int:
    """How many sums are not what the events say: 0 where all is well."""
    row = db.execute(
        "SELECT count(*) AS n FROM (SELECT kind, hour, message, provider, sum(n) AS n FROM (SELECT * FROM event_hours "
        "UNION ALL SELECT e.kind, e.at / 3600, coalesce(e.message, 0), s.provider, -1 FROM events e "
        "JOIN subscribers s ON s.id = e.subscriber) GROUP BY 1, 2, 3, 4 HAVING sum(n) <> 0)"
    )
    return int(row.fetchone()["n"])


def forget_points(db: sqlite3.Connection, since: int = 0) -> None:
    """What was kept of the engaged base at moments from ``since`` on is worked out anew."""
    db.execute("DELETE FROM base_points WHERE at >= ?", (since,))


def by_provider_and_week(db: sqlite3.Connection, now: int, weeks: int, month: int) -> list[ProviderWeek]:
    """Sends, deferrals, bounces and complaints of the last ``weeks`` weeks; ``month`` seconds of them beside."""
    rows = db.execute(
        "SELECT provider, kind, (?1 - hour) / ?2 AS week, coalesce(sum(n) FILTER (WHERE hour > ?3), 0) AS month, sum(n) AS n "
        "FROM event_hours WHERE kind IN (1, 3, 4, 9) AND n > 0 AND hour > ?4 AND hour <= ?1 GROUP BY 1, 2, 3",
        (now // HOUR, WEEK // HOUR, (now - month) // HOUR, (now - weeks * WEEK) // HOUR),
    )
    return [ProviderWeek.from_row(r) for r in rows]


def total(db: sqlite3.Connection, kind: int, since: int, until: int) -> int:
    """Events of a kind in a window."""
    row = db.execute(
        "SELECT coalesce(sum(n), 0) AS n FROM event_hours WHERE kind = ? AND hour > ? AND hour <= ?",
        (kind, since // HOUR, until // HOUR),
    ).fetchone()
    return int(row["n"])


def totals(db: sqlite3.Connection) -> dict[int, int]:
    """How many events of each kind there are."""
    return {int(r["kind"]): int(r["n"]) for r in db.execute("SELECT kind, sum(n) AS n FROM event_hours GROUP BY kind")}


def sent_by_day(db: sqlite3.Connection, since: int, until: int, messages: Sequence[MessageId] | None) -> list[DayCount]:
    """Sends by provider and day counted back from ``until``, of some messages only where given."""
    return DayCount.read_all(
        db.execute(
            "SELECT provider, kind, (?2 - hour) / 24 AS back, NULL AS code, NULL AS diagnostic, sum(n) AS n "
            "FROM event_hours WHERE kind = 1 AND n > 0 AND hour > ?1 AND hour <= ?2 "
            "AND (?3 IS NULL OR message IN (SELECT value FROM json_each(?3))) GROUP BY 1, 3",
            (since // HOUR, until // HOUR, None if messages is None else json.dumps(list(messages))),
        )
    )


def most_in_a_day(db: sqlite3.Connection, since: int) -> list[ProviderPeak]:
    """(provider, the most sent on one day of UTC since a moment)."""
    return ProviderPeak.read_all(
        db.execute(
            "SELECT provider, max(n) AS most FROM (SELECT provider, hour / 24 AS day, sum(n) AS n FROM event_hours "
            "WHERE kind = 1 AND n > 0 AND hour > ? GROUP BY 1, 2) GROUP BY 1",
            (since // HOUR,),
        )
    )


def most_from_domain(db: sqlite3.Connection, domain: int, since: int) -> tuple[int, int]:
    """On how many days of UTC since a moment a sending domain sent, and the most on one of them. What was not sent from
    here, as imported history, counts as the first domain's."""
    rows = db.execute(
        "SELECT sum(n) AS n FROM event_hours WHERE kind = 1 AND n > 0 AND hour > ?1 AND (message IN ("
        "SELECT c.message FROM campaigns c JOIN from_addresses a ON a.id = c.from_address WHERE a.domain = ?2 "
        "AND c.message IS NOT NULL) OR (?2 = (SELECT min(id) FROM domains) AND message NOT IN ("
        "SELECT message FROM campaigns WHERE message IS NOT NULL))) GROUP BY hour / 24",
        (since // HOUR, domain),
    ).fetchall()
    return len(rows), max((int(r["n"]) for r in rows), default=0)


def by_message(db: sqlite3.Connection) -> list[MessageHours]:
    """Of each message: how much of it was sent, and the hour in which that began."""
    return MessageHours.read_all(
        db.execute(
            "SELECT message, sum(n) AS sent, min(hour) * 3600 AS began FROM event_hours WHERE kind = 1 AND message > 0 "
            "GROUP BY 1 HAVING sum(n) > 0"
        )
    )


def kept_points(db: sqlite3.Connection, inactive_after_days: int) -> dict[int, list[int]]:
    """People by band at the month ends that are kept."""
    rows = db.execute("SELECT at, bands FROM base_points WHERE inactive_after_days = ?", (inactive_after_days,))
    return {r["at"]: json.loads(r["bands"]) for r in rows}


def keep_point(db: sqlite3.Connection, at: int, inactive_after_days: int, bands: Sequence[int]) -> None:
    """Keep how many people were in each band at a moment."""
    db.execute("INSERT OR REPLACE INTO base_points VALUES (?, ?, ?)", (at, inactive_after_days, json.dumps(list(bands))))
