"""What the providers did, by day; placement tests; words already sent."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Sequence

from openmeadow.core.ids import CampaignId, MessageId
from openmeadow.core.states import Folder
from openmeadow.store.bulk import Many
from openmeadow.store.health.records import DayCount, PlacedCopy, PlacedDay, ProviderFigure, WaitingCopy


def messages_from(db: sqlite3.Connection, domain: int) -> list[MessageId]:
    """The messages that were sent from a sending domain."""
    rows = db.execute(
        "SELECT c.message FROM campaigns c JOIN from_addresses a ON a.id = c.from_address "
        "WHERE a.domain = ? AND c.message IS NOT NULL",
        (domain,),
    )
    return [MessageId(r["message"]) for r in rows]


def outcomes_by_day(
    db: sqlite3.Connection, since: int, until: int, messages: Sequence[MessageId] | None = None
) -> list[DayCount]:
    """Deferrals, bounces, complaints and unsubscribes by provider, code and day counted back from ``until``, of some
    messages only where given."""
    return DayCount.read_all(
        db.execute(
            "SELECT s.provider, e.kind, (?2 - e.at) / 86400 AS back, e.code, e.diagnostic, count(*) AS n FROM events e "
            "INDEXED BY events_of_outcome CROSS JOIN subscribers s ON s.id = e.subscriber "
            "WHERE e.at > ?1 AND e.at <= ?2 AND e.kind IN (3, 4, 9, 10) "
            "AND (?3 IS NULL OR e.message IN (SELECT value FROM json_each(?3))) GROUP BY 1, 2, 3, 4, 5",
            (since, until, None if messages is None else json.dumps(list(messages))),
        )
    )


def holds_since(db: sqlite3.Connection, domain: int, record: str) -> int | None:
    """When a record last came to hold; None where it has never been seen otherwise."""
    row = db.execute(
        "SELECT max(at) AS at FROM record_changes WHERE domain = ? AND record = ? AND after = 'pass'", (domain, record)
    ).fetchone()
    return None if row["at"] is None else int(row["at"])


def add_test(db: sqlite3.Connection, campaign: CampaignId, at: int, who: str) -> int:
    """Begin a placement test; its id."""
    row = db.execute("INSERT INTO placement_tests (campaign, at, who) VALUES (?, ?, ?)", (campaign, at, who))
    return int(row.lastrowid or 0)


def add_copy(db: sqlite3.Connection, test: int, provider: str, address: str, mark: str, folder: str) -> None:
    """Keep a copy of a placement test; ``mark`` is the word by which it is found."""
    db.execute(
        "INSERT INTO placement_copies (test, provider, address, mark, folder) VALUES (?, ?, ?, ?, ?)",
        (test, provider, address, mark, folder),
    )


def waiting_copies(db: sqlite3.Connection) -> list[WaitingCopy]:
    """Copies of placement tests that have not been found yet."""
    return WaitingCopy.read_all(
        db.execute(
            "SELECT c.*, t.at FROM placement_copies c JOIN placement_tests t ON t.id = c.test WHERE c.folder = ?",
            (Folder.WAITING,),
        )
    )


def found_copy(db: sqlite3.Connection, row_id: int, folder: str, at: int) -> None:
    """Keep in which folder a copy was found."""
    db.execute("UPDATE placement_copies SET folder = ?, seen_at = ? WHERE id = ?", (folder, at, row_id))


def tests(db: sqlite3.Connection, campaign: CampaignId | None = None, limit: int = 20) -> list[PlacedCopy]:
    """Copies of placement tests, of one campaign where given, the latest test first."""
    return PlacedCopy.read_all(
        db.execute(
            "SELECT t.id, t.at, t.campaign, c.name AS campaign_name, p.provider, p.address, p.folder, p.seen_at "
            "FROM placement_tests t JOIN placement_copies p ON p.test = t.id LEFT JOIN campaigns c ON c.id = t.campaign "
            "WHERE coalesce(t.campaign = ?, 1) ORDER BY t.at DESC, t.id DESC, p.id LIMIT ?",
            (campaign, limit * 10),
        )
    )


def placed_by_day(db: sqlite3.Connection, since: int, until: int) -> list[PlacedDay]:
    """Copies of placement tests that were settled: (provider, folder, days back from ``until``, n)."""
    return PlacedDay.read_all(
        db.execute(
            "SELECT p.provider, p.folder, (? - t.at) / 86400 AS back, count(*) AS n FROM placement_copies p "
            "JOIN placement_tests t ON t.id = p.test WHERE p.folder <> ? AND t.at > ? AND t.at <= ? GROUP BY 1, 2, 3",
            (until, Folder.WAITING, since, until),
        )
    )


def word_sent(db: sqlite3.Connection, key: str) -> bool:
    """Whether an alert was sent already, by its key."""
    return db.execute("SELECT 1 FROM alerts_sent WHERE key = ?", (key,)).fetchone() is not None


def send_word(db: sqlite3.Connection, key: str, at: int, sentence: str) -> None:
    """Keep that an alert was sent."""
    db.execute("INSERT OR IGNORE INTO alerts_sent VALUES (?, ?, ?)", (key, at, sentence))


def save_figures(db: sqlite3.Connection, figures: Many[tuple[str, str, str, float | None, str | None]], now: int) -> int:
    """(provider, domain, day, spam rate, standing); a day imported again replaces what it said. How many."""
    rows = [(*f, now) for f in figures]
    db.executemany("INSERT OR REPLACE INTO provider_statistics VALUES (?, ?, ?, ?, ?, ?)", rows)
    return len(rows)


def figures(db: sqlite3.Connection, since: str) -> list[ProviderFigure]:
    """What providers said of themselves since a day, by provider, the latest day last."""
    return ProviderFigure.read_all(
        db.execute("SELECT * FROM provider_statistics WHERE day >= ? ORDER BY provider, day, domain", (since,))
    )
