"""What the providers did, by day; placement tests; words already sent."""

from __future__ import annotations

import sqlite3


def by_day(db: sqlite3.Connection, since: int, until: int) -> list[sqlite3.Row]:
    """(provider, kind, day counted back from ``until``, class of code, events)."""
    return db.execute(
        "SELECT s.provider, e.kind, (?2 - e.at) / 86400 AS back, e.code, e.diagnostic, count(*) AS n FROM events e "
        "JOIN subscribers s ON s.id = e.subscriber WHERE e.at > ?1 AND e.at <= ?2 AND e.kind IN (1, 3, 4, 9, 10) "
        "GROUP BY 1, 2, 3, 4, 5",
        (since, until),
    ).fetchall()


def most_in_a_day(db: sqlite3.Connection, since: int) -> list[sqlite3.Row]:
    """(provider, the most handed over on one day since a moment)."""
    return db.execute(
        "SELECT provider, max(n) AS most FROM (SELECT s.provider, e.at / 86400 AS day, count(*) AS n FROM events e "
        "JOIN subscribers s ON s.id = e.subscriber WHERE e.kind = 1 AND e.at > ? GROUP BY 1, 2) GROUP BY 1",
        (since,),
    ).fetchall()


def one_clicks(db: sqlite3.Connection, since: int) -> int:
    row = db.execute("SELECT count(*) AS n FROM events WHERE kind = 10 AND at > ?", (since,)).fetchone()
    return int(row["n"])


def holds_since(db: sqlite3.Connection, domain: int, record: str) -> int | None:
    """When a record last came to hold; None where it has never been seen otherwise."""
    row = db.execute(
        "SELECT max(at) AS at FROM record_changes WHERE domain = ? AND record = ? AND after = 'holds'", (domain, record)
    ).fetchone()
    return None if row["at"] is None else int(row["at"])


def add_test(db: sqlite3.Connection, campaign: int, at: int, who: str) -> int:
    row = db.execute("INSERT INTO placement_tests (campaign, at, who) VALUES (?, ?, ?)", (campaign, at, who))
    return int(row.lastrowid or 0)


def add_copy(db: sqlite3.Connection, test: int, provider: str, address: str, mark: str, folder: str) -> None:
    db.execute(
        "INSERT INTO placement_copies (test, provider, address, mark, folder) VALUES (?, ?, ?, ?, ?)",
        (test, provider, address, mark, folder),
    )


def waiting_copies(db: sqlite3.Connection) -> list[sqlite3.Row]:
    return db.execute(
        "SELECT c.*, t.at FROM placement_copies c JOIN placement_tests t ON t.id = c.test WHERE c.folder = 'waiting'"
    ).fetchall()


def found_copy(db: sqlite3.Connection, id: int, folder: str, at: int) -> None:
    db.execute("UPDATE placement_copies SET folder = ?, seen_at = ? WHERE id = ?", (folder, at, id))


def tests(db: sqlite3.Connection, campaign: int | None = None, limit: int = 20) -> list[sqlite3.Row]:
    return db.execute(
        "SELECT t.id, t.at, t.campaign, c.name AS campaign_name, p.provider, p.address, p.folder, p.seen_at "
        "FROM placement_tests t JOIN placement_copies p ON p.test = t.id LEFT JOIN campaigns c ON c.id = t.campaign "
        "WHERE coalesce(t.campaign = ?, 1) ORDER BY t.at DESC, t.id DESC, p.id LIMIT ?",
        (campaign, limit * 10),
    ).fetchall()


def word_sent(db: sqlite3.Connection, key: str) -> bool:
    return db.execute("SELECT 1 FROM words_sent WHERE key = ?", (key,)).fetchone() is not None


def send_word(db: sqlite3.Connection, key: str, at: int, sentence: str) -> None:
    db.execute("INSERT OR IGNORE INTO words_sent VALUES (?, ?, ?)", (key, at, sentence))
