"""Inbox placement as engagement shows it, by message and provider."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence
from dataclasses import dataclass, fields

from openmeadow.core.ids import MessageId
from openmeadow.store.bulk import Many
from openmeadow.store.rows import Record


@dataclass(frozen=True, slots=True)
class Placed(Record):
    """``observed`` of ``people`` looked at engaged early, ``expected`` were to; ``likelihood`` of the spam folder beside
    the inbox. ``ratio`` is the log of observed over expected beside the other providers, with its ``variance``."""

    message: MessageId
    provider: int
    looked_at: int
    began_at: int
    people: int
    observed: int
    expected: float
    likelihood: float
    could_show: bool
    ratio: float
    variance: float


_COLUMNS = tuple(f.name for f in fields(Placed))


def keep(db: sqlite3.Connection, rows: Sequence[Placed]) -> None:
    """Keep what was seen of a message, in the place of what was seen of it before."""
    sets = ", ".join(f"{c} = excluded.{c}" for c in _COLUMNS[2:])
    db.executemany(
        f"INSERT INTO inbox_placement ({', '.join(_COLUMNS)}) VALUES ({', '.join('?' * len(_COLUMNS))}) "
        f"ON CONFLICT (message, provider) DO UPDATE SET {sets}",
        [[getattr(r, c) for c in _COLUMNS] for r in rows],
    )


def since(db: sqlite3.Connection, began_at: int) -> list[Placed]:
    """What was seen of messages that began since a moment, the earliest first."""
    return Placed.read_all(
        db.execute("SELECT * FROM inbox_placement WHERE began_at >= ? ORDER BY began_at, message, provider", (began_at,))
    )


def of_message(db: sqlite3.Connection, message: MessageId) -> list[Placed]:
    """What was seen of one message, by provider."""
    return Placed.read_all(db.execute("SELECT * FROM inbox_placement WHERE message = ? ORDER BY provider", (message,)))


def in_spam(db: sqlite3.Connection, likelihood: float) -> set[MessageId]:
    """Messages that most likely lay in the spam folder at some provider."""
    rows = db.execute(
        "SELECT DISTINCT message FROM inbox_placement WHERE likelihood >= ? AND observed < expected", (likelihood,)
    )
    return {MessageId(r["message"]) for r in rows}


def note_paused(db: sqlite3.Connection, message: MessageId, provider: int, now: int) -> bool:
    """Note that a campaign is paused for it; False where it was before, so that who resumes is not paused again."""
    done = db.execute(
        "UPDATE inbox_placement SET paused_at = ? WHERE message = ? AND provider = ? AND paused_at IS NULL",
        (now, message, provider),
    )
    return done.rowcount > 0


def waiting_at(db: sqlite3.Connection, campaign: int, provider: int, states: Many[str]) -> int:
    """How many of a campaign's deliveries to a provider still wait."""
    some = list(states)
    row = db.execute(
        "SELECT count(*) AS n FROM sends q JOIN deliveries d ON d.send = q.id JOIN subscribers s ON s.id = d.subscriber "
        f"WHERE q.campaign = ? AND d.state IN ({', '.join('?' * len(some))}) AND s.provider = ?",
        (campaign, *some, provider),
    ).fetchone()
    return int(row["n"])
