"""Events: raw, never altered, taken once."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Sequence
from typing import Any

MOST_REMEMBERED = 200_000


class Names:
    """Messages, links and agents by their text; makes what is new. Remembers at most so many, so memory stays flat."""

    def __init__(self, db: sqlite3.Connection) -> None:
        self.db = db
        self.made_messages: list[str] = []
        self._messages: dict[str, int] = {}
        self._links: dict[tuple[int, str], int] = {}
        self._agents: dict[tuple[str, str], int] = {}

    def message(self, name: str) -> int:
        if not name:
            return 0
        known = self._messages.get(name)
        if known is None:
            row = self.db.execute("SELECT id FROM messages WHERE name = ?", (name,)).fetchone()
            if row is None:
                self.made_messages.append(name)
                known = int(self.db.execute("INSERT INTO messages (name) VALUES (?)", (name,)).lastrowid or 0)
            else:
                known = int(row["id"])
            self._remember(self._messages, name, known)
        return known

    def link(self, message: int, url: str) -> int:
        if not url:
            return 0
        pair = (message, url)
        known = self._links.get(pair)
        if known is None:
            self.db.execute("INSERT OR IGNORE INTO links (message, url) VALUES (?, ?)", pair)
            known = int(self.db.execute("SELECT id FROM links WHERE message = ? AND url = ?", pair).fetchone()["id"])
            self._remember(self._links, pair, known)
        return known

    def agent(self, agent: str, ip: str) -> int:
        if not agent and not ip:
            return 0
        pair = (agent, ip)
        known = self._agents.get(pair)
        if known is None:
            self.db.execute("INSERT OR IGNORE INTO agents (agent, ip) VALUES (?, ?)", pair)
            known = int(self.db.execute("SELECT id FROM agents WHERE agent = ? AND ip = ?", pair).fetchone()["id"])
            self._remember(self._agents, pair, known)
        return known

    @staticmethod
    def _remember(cache: dict[Any, int], key: Any, id: int) -> None:
        if len(cache) >= MOST_REMEMBERED:
            cache.clear()
        cache[key] = id


INSERT = ("INSERT OR IGNORE INTO events (at, kind, subscriber, message, link, agent, value, code, diagnostic, "
          "outside_id) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)")


def add(db: sqlite3.Connection, rows: Iterable[Sequence[object]]) -> int:
    """Insert events; repeats (same outside id, or same at, event, person, message, url) are passed over."""
    before = db.total_changes
    db.executemany(INSERT, rows)
    return db.total_changes - before


def put_aside(db: sqlite3.Connection, rows: Iterable[tuple[str, str]]) -> None:
    db.executemany("INSERT OR IGNORE INTO events_aside (email_key, row) VALUES (?, ?)", rows)


def aside_now_known(db: sqlite3.Connection, limit: int) -> list[sqlite3.Row]:
    return db.execute("SELECT a.id, a.row FROM events_aside a JOIN subscribers s ON s.email_key = a.email_key "
                      "ORDER BY a.id LIMIT ?", (limit,)).fetchall()


def forget_aside(db: sqlite3.Connection, ids: Iterable[int]) -> None:
    db.executemany("DELETE FROM events_aside WHERE id = ?", [(i,) for i in ids])


def of_subscriber(db: sqlite3.Connection, id: int, limit: int = 2000) -> list[sqlite3.Row]:
    """A person's events, newest first, with message, link and agent in words."""
    return db.execute(
        "SELECT e.*, m.name AS message_name, l.url, l.trap, a.agent AS agent_text, a.ip FROM events e "
        "LEFT JOIN messages m ON m.id = e.message LEFT JOIN links l ON l.id = e.link "
        "LEFT JOIN agents a ON a.id = e.agent WHERE e.subscriber = ? ORDER BY e.at DESC, e.kind DESC LIMIT ?",
        (id, limit)).fetchall()


def purposes_of_messages(db: sqlite3.Connection) -> dict[int, int]:
    return {int(r["id"]): int(r["purpose"]) for r in
            db.execute("SELECT id, purpose FROM messages WHERE purpose IS NOT NULL")}


def message_names(db: sqlite3.Connection) -> dict[int, str]:
    return {int(r["id"]): r["name"] for r in db.execute("SELECT id, name FROM messages")}


def highest(db: sqlite3.Connection) -> int:
    return int(db.execute("SELECT coalesce(max(id), 0) AS n FROM events").fetchone()["n"])
