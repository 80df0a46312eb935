"""The sunset policy's enrolments: one a person and time, from the first try to its outcome."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence

from openmeadow.core.ids import SubscriberId
from openmeadow.store.subscribers.records import SunsetEnrolment


def inside(db: sqlite3.Connection) -> list[SunsetEnrolment]:
    """Everyone inside now."""
    return SunsetEnrolment.read_all(
        db.execute("SELECT * FROM sunset_enrolments WHERE ended_at IS NULL ORDER BY subscriber")
    )


def begin(db: sqlite3.Connection, rows: Sequence[tuple[int, int, int, int]]) -> None:
    """(subscriber, began_at, asked_for_click, next_at), with the first try made; who is inside stays as they are."""
    db.executemany(
        "INSERT OR IGNORE INTO sunset_enrolments (subscriber, began_at, tries, asked_for_click, next_at) "
        "VALUES (?, ?, 1, ?, ?)",
        rows,
    )


def tried(db: sqlite3.Connection, subscribers: Sequence[SubscriberId], next_at: int) -> None:
    """Keep that people were sent a win-back email, and when the next step is due."""
    db.executemany(
        "UPDATE sunset_enrolments SET tries = tries + 1, next_at = ? WHERE subscriber = ? AND ended_at IS NULL",
        ((next_at, s) for s in subscribers),
    )


def end(db: sqlite3.Connection, subscribers: Sequence[SubscriberId], outcome: str, now: int) -> None:
    """End people's time in the sunset policy, with its outcome."""
    db.executemany(
        "UPDATE sunset_enrolments SET ended_at = ?, outcome = ? WHERE subscriber = ? AND ended_at IS NULL",
        ((now, outcome, s) for s in subscribers),
    )


def outcomes(db: sqlite3.Connection, since: int) -> dict[str, int]:
    """How many stays ended how, since a moment."""
    rows = db.execute(
        "SELECT outcome, count(*) AS n FROM sunset_enrolments WHERE ended_at > ? GROUP BY outcome", (since,)
    )
    return {str(r["outcome"]): int(r["n"]) for r in rows}
