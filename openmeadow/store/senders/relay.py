"""The relay as it was met: its connections by kind, and whether it takes mail now."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass

from openmeadow.core.states import BatchState, CampaignState, DeliveryState


@dataclass(frozen=True)
class RelayStatus:
    """``state`` is up or away, since a moment (UTC seconds), with the sentence that says why."""

    state: str
    since: int
    meaning: str


@dataclass(frozen=True)
class ConnectionKind:
    """Connections of one kind: how many, the first and the last (UTC seconds). ``version`` "" is a clear connection."""

    mode: str
    version: str
    verified: bool
    signed_in: bool
    first_at: int
    last_at: int
    connections: int


def record_connection(
    db: sqlite3.Connection, at: int, host: str, port: int, mode: str, version: str, verified: bool, signed_in: bool
) -> None:
    """Count a connection to the relay by how it was secured."""
    db.execute(
        "INSERT INTO relay_connections (host, port, mode, version, verified, signed_in, first_at, last_at, connections) "
        "VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?7, 1) ON CONFLICT (host, port, mode, version, verified, signed_in) "
        "DO UPDATE SET last_at = max(last_at, ?7), connections = connections + 1",
        (host, port, mode, version, int(verified), int(signed_in), at),
    )


def connections_to(db: sqlite3.Connection, host: str, port: int) -> list[ConnectionKind]:
    """Kinds of connection to one relay, the latest first."""
    rows = db.execute(
        "SELECT mode, version, verified, signed_in, first_at, last_at, connections FROM relay_connections "
        "WHERE host = ? AND port = ? ORDER BY last_at DESC, id DESC",
        (host, port),
    )
    return [
        ConnectionKind(
            r["mode"],
            r["version"],
            bool(r["verified"]),
            bool(r["signed_in"]),
            r["first_at"],
            r["last_at"],
            r["connections"],
        )
        for r in rows
    ]


def status(db: sqlite3.Connection) -> RelayStatus | None:
    """How the relay was last found, or None."""
    row = db.execute("SELECT state, since, meaning FROM relay_status").fetchone()
    return RelayStatus(row["state"], row["since"], row["meaning"]) if row else None


def set_status(db: sqlite3.Connection, state: str, since: int, meaning: str) -> None:
    """Keep how the relay is found, since when, and what that means."""
    db.execute(
        "INSERT INTO relay_status VALUES (1, ?, ?, ?) ON CONFLICT (id) DO UPDATE "
        "SET state = excluded.state, since = excluded.since, meaning = excluded.meaning",
        (state, since, meaning),
    )


def waiting_for_relay(db: sqlite3.Connection, now: int) -> int:
    """How many deliveries are due and wait, in plans under way."""
    row = db.execute(
        "SELECT count(*) AS n FROM deliveries d JOIN batches b ON b.id = d.batch JOIN sends q ON q.id = b.send "
        "JOIN campaigns c ON c.id = q.campaign WHERE d.state = ? AND b.due_at <= ? "
        "AND b.state IN (?, ?, ?) AND c.state IN (?, ?) AND NOT c.external",
        (
            DeliveryState.QUEUED,
            now,
            BatchState.SCHEDULED,
            BatchState.SENDING,
            BatchState.SENT,
            CampaignState.SCHEDULED,
            CampaignState.SENDING,
        ),
    ).fetchone()
    return int(row["n"])
