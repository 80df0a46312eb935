"""Settings, accounts, the activity log and jobs."""

from __future__ import annotations

import json
import sqlite3
from typing import Any

from openmeadow.core.settings import SETTINGS

# what the product keeps for itself beside the settings
INTERNAL: dict[str, Any] = {
    "demo": False,
    "scored_at": 0,
    "world_url": "",
    "ready_made_segments": False,
    "erasure_key": "",
    "approval_off_asked": {},
}
DEFAULTS: dict[str, Any] = {**{name: s.default for name, s in SETTINGS.items()}, **INTERNAL}


def setting(db: sqlite3.Connection, name: str) -> Any:
    row = db.execute("SELECT value FROM settings WHERE name = ?", (name,)).fetchone()
    return json.loads(row["value"]) if row else DEFAULTS.get(name)


def settings(db: sqlite3.Connection) -> dict[str, Any]:
    return {**DEFAULTS, **{r["name"]: json.loads(r["value"]) for r in db.execute("SELECT * FROM settings")}}


def set_setting(db: sqlite3.Connection, name: str, value: Any) -> None:
    db.execute(
        "INSERT INTO settings VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value",
        (name, json.dumps(value)),
    )


def log(db: sqlite3.Connection, at: int, who: str, act: str, what: str, people: int = 0) -> None:
    """One line of the activity log: who did what, when, to how many."""
    db.execute("INSERT INTO activity (at, who, act, what, people) VALUES (?, ?, ?, ?, ?)", (at, who, act, what, people))


def activity(db: sqlite3.Connection, limit: int = 500) -> list[sqlite3.Row]:
    return db.execute("SELECT * FROM activity ORDER BY id DESC LIMIT ?", (limit,)).fetchall()


def last_activity(db: sqlite3.Connection) -> int:
    """The number of the newest line of the activity log."""
    return int(db.execute("SELECT coalesce(max(id), 0) FROM activity").fetchone()[0])


def answers(db: sqlite3.Connection) -> None:
    """Nothing, where the database answers; sqlite3.Error where it does not."""
    db.execute("SELECT 1 FROM settings LIMIT 1").fetchone()


def latest_jobs(db: sqlite3.Connection, limit: int = 20) -> list[sqlite3.Row]:
    """Jobs, the newest first."""
    return db.execute("SELECT * FROM jobs ORDER BY id DESC LIMIT ?", (limit,)).fetchall()


def add_job(db: sqlite3.Connection, kind: str, arguments: dict[str, Any], who: str, now: int) -> int:
    return int(
        db.execute(
            "INSERT INTO jobs (kind, arguments, who, made_at, changed_at) VALUES (?, ?, ?, ?, ?)",
            (kind, json.dumps(arguments), who, now, now),
        ).lastrowid
        or 0
    )


def job(db: sqlite3.Connection, row_id: int) -> sqlite3.Row | None:
    row: sqlite3.Row | None = db.execute("SELECT * FROM jobs WHERE id = ?", (row_id,)).fetchone()
    return row


def next_job(db: sqlite3.Connection) -> sqlite3.Row | None:
    """The oldest job to do; one left working by a worker that died is taken again."""
    row: sqlite3.Row | None = db.execute(
        "SELECT * FROM jobs WHERE state IN ('waiting', 'working') ORDER BY id LIMIT 1"
    ).fetchone()
    return row


def update_job(
    db: sqlite3.Connection, row_id: int, now: int, *, state: str, done: int, total: int, outcome: Any = None
) -> None:
    db.execute(
        "UPDATE jobs SET state = ?1, done = ?2, total = ?3, outcome = ?4, changed_at = ?5 WHERE id = ?6 "
        "AND NOT (state = 'paused' AND ?1 = 'working')",
        (state, done, total, json.dumps(outcome), now, row_id),
    )


def add_clock_move(db: sqlite3.Connection, target: int | None, now: int) -> int:
    return int(
        db.execute("INSERT INTO clock_moves (target, begun_from, reached) VALUES (?, ?, ?)", (target, now, now)).lastrowid
        or 0
    )


def clock_move(db: sqlite3.Connection) -> sqlite3.Row | None:
    """The move under way or waiting."""
    row: sqlite3.Row | None = db.execute(
        "SELECT * FROM clock_moves WHERE state <> 'finished' ORDER BY id LIMIT 1"
    ).fetchone()
    return row


def update_clock_move(db: sqlite3.Connection, row_id: int, state: str, reached: int) -> None:
    db.execute("UPDATE clock_moves SET state = ?, reached = ? WHERE id = ?", (state, reached, row_id))


def pause_job(db: sqlite3.Connection, row_id: int, paused: bool) -> bool:
    """Pause a job that waits or works, or let a paused one go on; False when it is neither."""
    states = ("waiting", "working") if paused else ("paused",)
    marks = ",".join("?" * len(states))
    to = "paused" if paused else "waiting"
    return (
        db.execute(f"UPDATE jobs SET state = ? WHERE id = ? AND state IN ({marks})", (to, row_id, *states)).rowcount > 0
    )


def job_paused(db: sqlite3.Connection, row_id: int) -> bool:
    row = db.execute("SELECT state FROM jobs WHERE id = ?", (row_id,)).fetchone()
    return row is not None and row["state"] == "paused"


def save_position(db: sqlite3.Connection, row_id: int, arguments: dict[str, Any]) -> None:
    """Where a paused job goes on."""
    db.execute("UPDATE jobs SET arguments = ? WHERE id = ?", (json.dumps(arguments), row_id))
