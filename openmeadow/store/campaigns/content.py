"""What campaigns say: versions, templates, images; overridden stops; what links answered."""

from __future__ import annotations

import sqlite3
from typing import Any

TEXTS = ("subject", "preview", "html", "plain", "blocks")


def add_version(db: sqlite3.Connection, campaign: int, n: int, texts: dict[str, Any], who: str, now: int) -> None:
    """Keep what a version says; the number taken again replaces it (a draft's other version is edited)."""
    db.execute(
        "INSERT OR REPLACE INTO campaign_versions (campaign, n, at, who, subject, preview, html, plain, blocks) "
        "VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
        (campaign, n, now, who, *(texts.get(t) for t in TEXTS)),
    )


def versions(db: sqlite3.Connection, campaign: int) -> list[sqlite3.Row]:
    """Every version with how many were sent with it."""
    return db.execute(
        "SELECT v.*, (SELECT count(*) FROM deliveries d JOIN sends q ON q.id = d.send WHERE q.campaign = v.campaign "
        "AND d.state = 'sent' AND coalesce(d.version, 1) = v.n) AS sent "
        "FROM campaign_versions v WHERE v.campaign = ? ORDER BY v.n",
        (campaign,),
    ).fetchall()


def version(db: sqlite3.Connection, campaign: int, n: int) -> sqlite3.Row | None:
    row: sqlite3.Row | None = db.execute(
        "SELECT * FROM campaign_versions WHERE campaign = ? AND n = ?", (campaign, n)
    ).fetchone()
    return row


def drop_version(db: sqlite3.Connection, campaign: int, n: int) -> None:
    db.execute("DELETE FROM campaign_versions WHERE campaign = ? AND n = ?", (campaign, n))


def override(db: sqlite3.Connection, campaign: int, name: str, finding: str, reason: str, who: str, now: int) -> None:
    db.execute("INSERT OR REPLACE INTO overrides VALUES (?, ?, ?, ?, ?, ?)", (campaign, name, finding, reason, who, now))


def take_overrule_back(db: sqlite3.Connection, campaign: int, name: str, finding: str) -> None:
    db.execute("DELETE FROM overrides WHERE campaign = ? AND name = ? AND finding = ?", (campaign, name, finding))


def overrides(db: sqlite3.Connection, campaign: int) -> dict[tuple[str, str], sqlite3.Row]:
    rows = db.execute("SELECT * FROM overrides WHERE campaign = ?", (campaign,))
    return {(r["name"], r["finding"]): r for r in rows}


def save_link_check(db: sqlite3.Connection, url: str, at: int, status: int, said: str) -> None:
    db.execute("INSERT OR REPLACE INTO link_checks VALUES (?, ?, ?, ?)", (url, at, status, said))


def link_checks(db: sqlite3.Connection, urls: list[str]) -> dict[str, sqlite3.Row]:
    marks = ",".join("?" * len(urls))
    return {r["url"]: r for r in db.execute(f"SELECT * FROM link_checks WHERE url IN ({marks})", urls)}


def templates(db: sqlite3.Connection) -> list[sqlite3.Row]:
    return db.execute("SELECT * FROM templates ORDER BY name COLLATE NOCASE").fetchall()


def template(db: sqlite3.Connection, row_id: int) -> sqlite3.Row | None:
    row: sqlite3.Row | None = db.execute("SELECT * FROM templates WHERE id = ?", (row_id,)).fetchone()
    return row


def template_named(db: sqlite3.Connection, name: str) -> sqlite3.Row | None:
    row: sqlite3.Row | None = db.execute("SELECT * FROM templates WHERE name = ?", (name,)).fetchone()
    return row


def add_template(db: sqlite3.Connection, name: str, texts: dict[str, Any], who: str, now: int) -> int:
    return int(
        db.execute(
            "INSERT INTO templates (name, made_at, who, plain_edited, subject, preview, html, plain, blocks) "
            "VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
            (name, now, who, int(bool(texts["plain_edited"])), *(texts.get(t) for t in TEXTS)),
        ).lastrowid
        or 0
    )


def remove_template(db: sqlite3.Connection, row_id: int) -> None:
    db.execute("DELETE FROM templates WHERE id = ?", (row_id,))


def save_image(
    db: sqlite3.Connection, digest: str, name: str, kind: str, size: tuple[int, int, int], who: str, now: int
) -> int:
    """A image's row (``size`` is bytes, width, height); the same file again is the same image."""
    db.execute(
        "INSERT OR IGNORE INTO images (hash, name, kind, bytes, width, height, at, who) VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
        (digest, name, kind, *size, now, who),
    )
    return int(db.execute("SELECT id FROM images WHERE hash = ?", (digest,)).fetchone()["id"])


def images(db: sqlite3.Connection) -> list[sqlite3.Row]:
    return db.execute("SELECT * FROM images ORDER BY id DESC").fetchall()


def image(db: sqlite3.Connection, digest: str) -> sqlite3.Row | None:
    row: sqlite3.Row | None = db.execute("SELECT * FROM images WHERE hash = ?", (digest,)).fetchone()
    return row


TEST_COPIES_KEPT = 50  # of a campaign


def save_test_copy(db: sqlite3.Connection, campaign: int, at: int, who: str, recipient: str, raw: bytes) -> int:
    """Keep a test copy as it went over the wire; the oldest go. Its id."""
    row_id = db.execute(
        "INSERT INTO test_copies (campaign, at, who, recipient, raw) VALUES (?, ?, ?, ?, ?)",
        (campaign, at, who, recipient, raw),
    ).lastrowid
    db.execute(
        "DELETE FROM test_copies WHERE campaign = ?1 AND id NOT IN "
        "(SELECT id FROM test_copies WHERE campaign = ?1 ORDER BY id DESC LIMIT ?2)",
        (campaign, TEST_COPIES_KEPT),
    )
    return int(row_id or 0)


def test_copies(db: sqlite3.Connection, campaign: int) -> list[sqlite3.Row]:
    """(id, at, who, recipient) of the copies kept, the latest first."""
    return db.execute(
        "SELECT id, at, who, recipient FROM test_copies WHERE campaign = ? ORDER BY id DESC", (campaign,)
    ).fetchall()


def test_copy(db: sqlite3.Connection, row_id: int) -> sqlite3.Row | None:
    row: sqlite3.Row | None = db.execute("SELECT * FROM test_copies WHERE id = ?", (row_id,)).fetchone()
    return row


def tests_since(db: sqlite3.Connection, since: int, *, recipient: str | None = None, who: str | None = None) -> int:
    """How many test messages went out since a moment, to an address or by somebody."""
    row = db.execute(
        "SELECT count(*) AS n FROM test_copies WHERE at > ? AND coalesce(recipient = ? COLLATE NOCASE, 1) "
        "AND coalesce(who = ?, 1)",
        (since, recipient, who),
    ).fetchone()
    return int(row["n"])
