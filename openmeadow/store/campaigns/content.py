"""What campaigns say: versions, templates, images; overridden stops; what links answered."""

from __future__ import annotations

import sqlite3
from dataclasses import astuple

from openmeadow.core.ids import CampaignId
from openmeadow.core.states import DeliveryState
from openmeadow.store.campaigns.records import (
    Image,
    LinkCheck,
    Override,
    SentVersion,
    Template,
    TestCopy,
    TestCopyLine,
    Texts,
    Version,
)

TEXTS = ("subject", "preview", "html", "plain", "blocks")


def add_version(db: sqlite3.Connection, campaign: CampaignId, n: int, texts: Texts, who: str, now: int) -> None:
    """Keep what a version says; the number taken again replaces it (a draft's other version is edited)."""
    db.execute(
        "INSERT OR REPLACE INTO campaign_versions (campaign, n, at, who, subject, preview, html, plain, blocks) "
        "VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
        (campaign, n, now, who, *astuple(texts)),
    )


def forget_first_version(db: sqlite3.Connection, campaign: CampaignId) -> None:
    """What was kept of the text at a start that is undone."""
    db.execute("DELETE FROM campaign_versions WHERE campaign = ? AND n = 1", (campaign,))


def versions(db: sqlite3.Connection, campaign: CampaignId) -> list[SentVersion]:
    """Every version with how many were sent with it."""
    if db.execute("SELECT count(*) FROM campaign_versions WHERE campaign = ?", (campaign,)).fetchone()[0] == 1:
        return SentVersion.read_all(  # all of them: counted in an index
            db.execute(
                "SELECT v.*, (SELECT count(*) FROM deliveries d WHERE d.state = ? AND d.batch IN (SELECT b.id FROM batches b "
                "JOIN sends q ON q.id = b.send WHERE q.campaign = v.campaign)) AS sent FROM campaign_versions v "
                "WHERE v.campaign = ?",
                (DeliveryState.SENT, campaign),
            )
        )
    return SentVersion.read_all(
        db.execute(
            "SELECT v.*, (SELECT count(*) FROM deliveries d JOIN sends q ON q.id = d.send WHERE q.campaign = v.campaign "
            "AND d.state = ? AND coalesce(d.version, 1) = v.n) AS sent "
            "FROM campaign_versions v WHERE v.campaign = ? ORDER BY v.n",
            (DeliveryState.SENT, campaign),
        )
    )


def version(db: sqlite3.Connection, campaign: CampaignId, n: int) -> Version | None:
    """One version of a campaign's message, or None."""
    return Version.read(db.execute("SELECT * FROM campaign_versions WHERE campaign = ? AND n = ?", (campaign, n)))


def drop_version(db: sqlite3.Connection, campaign: CampaignId, n: int) -> None:
    """Remove a version of a campaign's message."""
    db.execute("DELETE FROM campaign_versions WHERE campaign = ? AND n = ?", (campaign, n))


def override(
    db: sqlite3.Connection, campaign: CampaignId, name: str, finding: str, reason: str, who: str, now: int
) -> None:
    """Set a finding of the checks aside, with its reason."""
    db.execute("INSERT OR REPLACE INTO overrides VALUES (?, ?, ?, ?, ?, ?)", (campaign, name, finding, reason, who, now))


def take_overrule_back(db: sqlite3.Connection, campaign: CampaignId, name: str, finding: str) -> None:
    """Let a finding count again."""
    db.execute("DELETE FROM overrides WHERE campaign = ? AND name = ? AND finding = ?", (campaign, name, finding))


def overrides(db: sqlite3.Connection, campaign: CampaignId) -> dict[tuple[str, str], Override]:
    """The findings of a campaign that were set aside."""
    rows = db.execute("SELECT * FROM overrides WHERE campaign = ?", (campaign,))
    return {(r.name, r.finding): r for r in Override.read_all(rows)}


def save_link_check(db: sqlite3.Connection, url: str, at: int, status: int, said: str) -> None:
    """Keep how an address answered: its HTTP status, or None, and what was said."""
    db.execute("INSERT OR REPLACE INTO link_checks VALUES (?, ?, ?, ?)", (url, at, status, said))


def link_checks(db: sqlite3.Connection, urls: list[str]) -> dict[str, LinkCheck]:
    """The latest answers of some addresses."""
    marks = ",".join("?" * len(urls))
    rows = db.execute(f"SELECT * FROM link_checks WHERE url IN ({marks})", urls)
    return {r.url: r for r in LinkCheck.read_all(rows)}


def templates(db: sqlite3.Connection) -> list[Template]:
    """All templates by name."""
    return Template.read_all(db.execute("SELECT * FROM templates ORDER BY name COLLATE NOCASE"))


def template(db: sqlite3.Connection, row_id: int) -> Template | None:
    """A template, or None."""
    return Template.read(db.execute("SELECT * FROM templates WHERE id = ?", (row_id,)))


def template_named(db: sqlite3.Connection, name: str) -> Template | None:
    """The template with a name, whatever its case, or None."""
    return Template.read(db.execute("SELECT * FROM templates WHERE name = ?", (name,)))


def add_template(db: sqlite3.Connection, name: str, texts: Texts, plain_edited: bool, who: str, now: int) -> int:
    """Keep a message as a template; its id."""
    return int(
        db.execute(
            "INSERT INTO templates (name, made_at, who, plain_edited, subject, preview, html, plain, blocks) "
            "VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
            (name, now, who, plain_edited, *astuple(texts)),
        ).lastrowid
        or 0
    )


def remove_template(db: sqlite3.Connection, row_id: int) -> None:
    """Remove a template."""
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


def images(db: sqlite3.Connection) -> list[Image]:
    """All images with their sizes, without their octets."""
    return Image.read_all(db.execute("SELECT * FROM images ORDER BY id DESC"))


def image(db: sqlite3.Connection, digest: str) -> Image | None:
    """An image by its SHA-256, or None."""
    return Image.read(db.execute("SELECT * FROM images WHERE hash = ?", (digest,)))


TEST_COPIES_KEPT = 50  # of a campaign


def save_test_copy(db: sqlite3.Connection, campaign: CampaignId, at: int, who: str, recipient: str, raw: bytes) -> int:
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


def test_copies(db: sqlite3.Connection, campaign: CampaignId) -> list[TestCopyLine]:
    """(id, at, who, recipient) of the copies kept, the latest first."""
    return TestCopyLine.read_all(
        db.execute("SELECT id, at, who, recipient FROM test_copies WHERE campaign = ? ORDER BY id DESC", (campaign,))
    )


def test_copy(db: sqlite3.Connection, row_id: int) -> TestCopy | None:
    """The source of a test message, or None."""
    return TestCopy.read(db.execute("SELECT * FROM test_copies WHERE id = ?", (row_id,)))


def tests_since(db: sqlite3.Connection, since: int, *, recipient: str | None = None, who: str | None = None) -> int:
    """How many test messages went out since a moment, to an address or by somebody."""
    row = db.execute(
        "SELECT count(*) AS n FROM test_copies WHERE at > ? AND coalesce(recipient = ? COLLATE NOCASE, 1) "
        "AND coalesce(who = ?, 1)",
        (since, recipient, who),
    ).fetchone()
    return int(row["n"])
