"""Mail that came to the intake: what waits to be read, and what was set aside."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass

from openmeadow.store.health.records import AsideMail, AsideReason


@dataclass(frozen=True)
class QueuedMail:
    """``at`` is when it came (UTC seconds), ``recipient`` the address of ours it came to."""

    id: int
    at: int
    recipient: str
    sender: str
    raw: bytes


def add(db: sqlite3.Connection, at: int, recipient: str, sender: str, raw: bytes) -> None:
    """Keep mail that came in until it is read."""
    db.execute(
        "INSERT INTO inbound_queue (at, recipient, sender, raw) VALUES (?, ?, ?, ?)",
        (at, recipient[:320], sender[:320], raw),
    )


def waiting(db: sqlite3.Connection) -> int:
    """How much mail has not been read yet."""
    return int(db.execute("SELECT count(*) AS n FROM inbound_queue").fetchone()["n"])


def next_mail(db: sqlite3.Connection) -> QueuedMail | None:
    """The oldest message that waits to be read."""
    r = db.execute("SELECT id, at, recipient, sender, raw FROM inbound_queue ORDER BY id LIMIT 1").fetchone()
    return QueuedMail(r["id"], r["at"], r["recipient"], r["sender"], r["raw"]) if r else None


def done(db: sqlite3.Connection, row_id: int) -> None:
    """Remove mail that was read."""
    db.execute("DELETE FROM inbound_queue WHERE id = ?", (row_id,))


def set_aside(db: sqlite3.Connection, mail: QueuedMail, reason: str, kept: int) -> None:
    """Keep a message nothing was done with, with the reason; of all of them only the latest ``kept``."""
    db.execute(
        "INSERT INTO inbound_aside (at, recipient, reason, bytes, raw) VALUES (?, ?, ?, ?, ?)",
        (mail.at, mail.recipient, reason, len(mail.raw), mail.raw[:200_000]),
    )
    db.execute("DELETE FROM inbound_aside WHERE id <= (SELECT max(id) FROM inbound_aside) - ?", (kept,))


def aside_by_reason(db: sqlite3.Connection) -> list[AsideReason]:
    """(reason, n, last) of what was set aside, the most first."""
    return AsideReason.read_all(
        db.execute(
            "SELECT reason, count(*) AS n, max(at) AS last FROM inbound_aside GROUP BY reason ORDER BY n DESC, reason"
        )
    )


def aside(db: sqlite3.Connection, limit: int) -> list[AsideMail]:
    """(id, at, recipient, reason, bytes) of what was set aside, the latest first."""
    return AsideMail.read_all(
        db.execute("SELECT id, at, recipient, reason, bytes FROM inbound_aside ORDER BY id DESC LIMIT ?", (limit,))
    )


def forget_raw(db: sqlite3.Connection, before: int) -> int:
    """Raw mail from before a moment goes; what it said stays. How many messages."""
    n = db.execute("UPDATE returned_mail SET raw = x'' WHERE at < ? AND length(raw) > 0", (before,)).rowcount
    return n + db.execute("DELETE FROM inbound_aside WHERE at < ?", (before,)).rowcount
