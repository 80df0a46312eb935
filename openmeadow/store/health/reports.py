"""Mail that came back and receivers' reports, each kept once."""

from __future__ import annotations

import hashlib
import sqlite3
from dataclasses import astuple

from openmeadow.core.ids import DeliveryId, MessageId, SubscriberId
from openmeadow.core.reports.aggregate import Report
from openmeadow.store.health.records import (
    AggregateReport,
    BouncedSuppression,
    MessageOfId,
    RefusalCount,
    ReportDay,
    ReportSource,
    ReturnedMail,
    ReturnedMailLine,
)


def save_mail(
    db: sqlite3.Connection,
    raw: bytes,
    at: int,
    kind: str,
    subscriber: SubscriberId | None,
    message: MessageId | None,
    found: tuple[str, str, str],
) -> int | None:
    """The raw message with what it said (class, code, diagnostic); None when it was kept before."""
    row = db.execute(
        "INSERT OR IGNORE INTO returned_mail (at, hash, kind, subscriber, message, class, code, diagnostic, raw) "
        "VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?) RETURNING id",
        (at, hashlib.sha256(raw).hexdigest(), kind, subscriber, message, *found, raw),
    ).fetchone()
    return int(row["id"]) if row else None


def mail(db: sqlite3.Connection, row_id: int) -> ReturnedMail | None:
    """Returned mail with its octets, or None."""
    return ReturnedMail.read(db.execute("SELECT *, class AS bounce_class FROM returned_mail WHERE id = ?", (row_id,)))


def mail_of(db: sqlite3.Connection, subscriber: SubscriberId) -> list[ReturnedMailLine]:
    """The returned mail about a person, the latest first."""
    return ReturnedMailLine.read_all(
        db.execute(
            "SELECT id, at, kind, class AS bounce_class, code, diagnostic FROM returned_mail "
            "WHERE subscriber = ? ORDER BY at DESC",
            (subscriber,),
        )
    )


def is_stored(db: sqlite3.Connection, raw: bytes) -> bool:
    """Whether exactly this mail was taken before."""
    digest = hashlib.sha256(raw).hexdigest()
    return db.execute("SELECT 1 FROM returned_mail WHERE hash = ?", (digest,)).fetchone() is not None


def save_report(db: sqlite3.Connection, r: Report, now: int) -> bool:
    """False when this report (receiver, its number, domain) was kept before."""
    row = db.execute(
        "INSERT OR IGNORE INTO aggregate_reports (org, report_id, domain, begin_at, end_at, policy, taken_at) "
        "VALUES (?, ?, ?, ?, ?, ?, ?) RETURNING id",
        (r.org, r.id, r.domain, r.begin, r.end, r.policy, now),
    ).fetchone()
    if row is None:
        return False
    db.executemany(
        "INSERT INTO aggregate_rows (report, ip, messages, disposition, dkim, spf, header_from, dkim_domain, spf_domain, "
        "override) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        ((row["id"], *astuple(x)) for x in r.rows),
    )
    return True


_ALIGNED = "('pass' IN (w.dkim, w.spf))"


def sources(db: sqlite3.Connection, since: int) -> list[ReportSource]:
    """Sources of mail in a domain's name since a moment: messages, aligned ones (by SPF and by DKIM too), what receivers
    did with them and why not what the policy says, days, what is known of them."""
    return ReportSource.read_all(
        db.execute(
            f"SELECT r.domain, w.ip, sum(w.messages) AS messages, sum(w.messages * {_ALIGNED}) AS aligned, "
            "sum(w.messages * (w.spf = 'pass')) AS spf, sum(w.messages * (w.dkim = 'pass')) AS dkim, "
            "sum(w.messages * (w.disposition = 'quarantine')) AS quarantined, "
            "sum(w.messages * (w.disposition = 'reject')) AS rejected, "
            "group_concat(DISTINCT r.org) AS reporters, group_concat(DISTINCT nullif(w.override, '')) AS overrides, "
            "sum(w.messages * (w.disposition <> 'none')) AS acted, max(r.end_at) AS last, min(r.begin_at) AS first, "
            "max(w.dkim_domain) AS dkim_domain, max(w.spf_domain) AS spf_domain, k.name, k.ours "
            "FROM aggregate_rows w JOIN aggregate_reports r ON r.id = w.report LEFT JOIN known_sources k ON k.ip = w.ip "
            "WHERE r.end_at > ? GROUP BY r.domain, w.ip ORDER BY messages DESC",
            (since,),
        )
    )


def by_day(db: sqlite3.Connection, since: int) -> list[ReportDay]:
    """(domain, day, messages, aligned) since a moment."""
    return ReportDay.read_all(
        db.execute(
            f"SELECT r.domain, date(r.begin_at, 'unixepoch') AS day, sum(w.messages) AS messages, "
            f"sum(w.messages * {_ALIGNED}) AS aligned FROM aggregate_rows w JOIN aggregate_reports r ON r.id = w.report "
            "WHERE r.end_at > ? GROUP BY r.domain, day ORDER BY day",
            (since,),
        )
    )


def reports(db: sqlite3.Connection, limit: int = 50) -> list[AggregateReport]:
    """Aggregate reports, the latest first."""
    return AggregateReport.read_all(
        db.execute(
            "SELECT r.*, (SELECT sum(messages) FROM aggregate_rows w WHERE w.report = r.id) AS messages "
            "FROM aggregate_reports r ORDER BY r.end_at DESC LIMIT ?",
            (limit,),
        )
    )


def name_source(db: sqlite3.Connection, ip: str, name: str, ours: bool, now: int, who: str) -> None:
    """Name an address that sends in our name, and say whether it is ours."""
    db.execute("INSERT OR REPLACE INTO known_sources VALUES (?, ?, ?, ?, ?)", (ip, name, int(ours), now, who))


def by_message_id(db: sqlite3.Connection, delivery: DeliveryId) -> MessageOfId | None:
    """The subscriber and message of a delivery, or None."""
    return MessageOfId.read(
        db.execute(
            "SELECT d.id, d.subscriber, c.message FROM deliveries d JOIN sends q ON q.id = d.send "
            "JOIN campaigns c ON c.id = q.campaign WHERE d.id = ?",
            (delivery,),
        )
    )


def last_message_of(db: sqlite3.Connection, subscriber: SubscriberId, before: int) -> MessageId:
    """The message somebody was last sent before a moment; 0 for none."""
    row = db.execute(
        "SELECT message FROM events WHERE subscriber = ? AND kind = 1 AND at <= ? ORDER BY at DESC LIMIT 1",
        (subscriber, before),
    ).fetchone()
    return MessageId(row["message"] if row else 0)


def bounced_between(db: sqlite3.Connection, provider: int, since: int, until: int) -> list[BouncedSuppression]:
    """Suppressions for hard bounces at a provider between two moments."""
    return BouncedSuppression.read_all(
        db.execute(
            "SELECT x.* FROM suppressions x JOIN subscribers s ON s.id = x.subscriber WHERE x.reason = 1 AND s.provider = ? "
            "AND x.at BETWEEN ? AND ?",
            (provider, since, until),
        )
    )


def refusals(db: sqlite3.Connection, since: int, until: int) -> list[RefusalCount]:
    """Bounces and deferrals by provider, kind, code and text."""
    return RefusalCount.read_all(
        db.execute(
            "SELECT s.provider, e.kind, coalesce(e.code, '') AS code, coalesce(e.diagnostic, '') AS diagnostic, "
            "count(*) AS n, count(DISTINCT e.subscriber) AS people, min(e.at) AS first, max(e.at) AS last FROM events e "
            "INDEXED BY events_of_outcome CROSS JOIN subscribers s ON s.id = e.subscriber "
            "WHERE e.kind IN (3, 4, 9, 10) AND e.kind <= 4 AND e.at > ? AND e.at <= ? "
            "GROUP BY 1, 2, 3, 4 ORDER BY n DESC LIMIT 400",
            (since, until),
        )
    )
