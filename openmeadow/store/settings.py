"""Settings, accounts, the activity log and jobs."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from copy import deepcopy

from openmeadow.core.settings import SETTINGS, Value
from openmeadow.core.states import ClockState, JobKind, JobState
from openmeadow.store.records import Activity, ClockMove, Job

# what the product keeps for itself beside the settings
INTERNAL: dict[str, Value] = {
    "demo": False,
    "scored_at": 0,
    "world_url": "",
    "ready_made_segments": False,
    "erasure_key": "",
    "approval_off_asked": {},
    "first_steps_skipped": [],
    "weekly_report_sent": "",
}
DEFAULTS: dict[str, Value] = {**{name: s.default for name, s in SETTINGS.items()}, **INTERNAL}


_ONCE: ContextVar[dict[str, Value] | None] = ContextVar("settings_read_once", default=None)


@contextmanager
def read_once() -> Iterator[None]:
    """Within, the settings are read from the database once, and again only after one was written here."""
    token = _ONCE.set({})
    try:
        yield
    finally:
        _ONCE.reset(token)


def setting(db: sqlite3.Connection, name: str) -> Value:
    """The value of a setting, its default where it was never set."""
    if (once := _ONCE.get()) is not None:
        if not once:
            once.update(_all(db))
        return deepcopy(once.get(name))
    row = db.execute("SELECT value FROM settings WHERE name = ?", (name,)).fetchone()
    return json.loads(row["value"]) if row else DEFAULTS.get(name)


def settings(db: sqlite3.Connection) -> dict[str, Value]:
    """All settings by name, with defaults for those that were never set."""
    if (once := _ONCE.get()) is not None:
        if not once:
            once.update(_all(db))
        return deepcopy(once)
    return _all(db)


def _all(db: sqlite3.Connection) -> dict[str, Value]:
    return {**DEFAULTS, **{r["name"]: json.loads(r["value"]) for r in db.execute("SELECT * FROM settings")}}


def set_setting(db: sqlite3.Connection, name: str, value: Value) -> None:
    """Keep the value of a setting, as JSON."""
    (_ONCE.get() or {}).clear()
    db.execute(
        "INSERT INTO settings VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value",
        (name, json.dumps(value)),
    )


def log(db: sqlite3.Connection, at: int, who: str, act: str, what: str, people: int = 0) -> None:
    """One line of the activity log: who did what, when, to how many."""
    db.execute("INSERT INTO activity (at, who, act, what, people) VALUES (?, ?, ?, ?, ?)", (at, who, act, what, people))


def activity(db: sqlite3.Connection, limit: int = 500) -> list[Activity]:
    """The latest entries of the activity log."""
    return Activity.read_all(db.execute("SELECT * FROM activity ORDER BY id DESC LIMIT ?", (limit,)))


def last_activity(db: sqlite3.Connection) -> int:
    """The number of the newest line of the activity log."""
    return int(db.execute("SELECT coalesce(max(id), 0) FROM activity").fetchone()[0])


def answers(db: sqlite3.Connection) -> None:
    """Nothing, where the database answers; sqlite3.Error where it does not."""
    db.execute("SELECT 1 FROM settings LIMIT 1").fetchone()


def latest_jobs(db: sqlite3.Connection, limit: int = 20) -> list[Job]:
    """Jobs, the newest first."""
    return Job.read_all(db.execute("SELECT * FROM jobs ORDER BY id DESC LIMIT ?", (limit,)))


def add_job(db: sqlite3.Connection, kind: JobKind, arguments: str, who: str, now: int) -> int:
    """A job to do; ``arguments`` as JSON."""
    return int(
        db.execute(
            "INSERT INTO jobs (kind, arguments, who, made_at, changed_at) VALUES (?, ?, ?, ?, ?)",
            (kind, arguments, who, now, now),
        ).lastrowid
        or 0
    )


def job(db: sqlite3.Connection, row_id: int) -> Job | None:
    """A job, or None."""
    return Job.read(db.execute("SELECT * FROM jobs WHERE id = ?", (row_id,)))


def open_jobs(db: sqlite3.Connection) -> dict[str, int]:
    """How many jobs wait, run or are paused."""
    found = dict.fromkeys((str(s) for s in (JobState.WAITING, JobState.WORKING, JobState.PAUSED)), 0)
    for r in db.execute("SELECT state, count(*) AS n FROM jobs GROUP BY state"):
        if r["state"] in found:
            found[r["state"]] = int(r["n"])
    return found


def next_job(db: sqlite3.Connection) -> Job | None:
    """The oldest job to do; one left working by a worker that died is taken again."""
    return Job.read(
        db.execute("SELECT * FROM jobs WHERE state IN (?, ?) ORDER BY id LIMIT 1", (JobState.WAITING, JobState.WORKING))
    )


def update_job(
    db: sqlite3.Connection, row_id: int, now: int, *, state: JobState, done: int, total: int, outcome: str | None = None
) -> None:
    """Write columns of a job."""
    db.execute(
        "UPDATE jobs SET state = ?1, done = ?2, total = ?3, outcome = ?4, changed_at = ?5 WHERE id = ?6 "
        f"AND NOT (state = '{JobState.PAUSED}' AND ?1 = 'working')",
        (state, done, total, outcome, now, row_id),
    )


def add_clock_move(db: sqlite3.Connection, target: int | None, now: int) -> int:
    """Ask for the demo clock to be moved; the id of the move."""
    return int(
        db.execute("INSERT INTO clock_moves (target, begun_from, reached) VALUES (?, ?, ?)", (target, now, now)).lastrowid
        or 0
    )


def clock_move(db: sqlite3.Connection) -> ClockMove | None:
    """The move under way or waiting."""
    return ClockMove.read(
        db.execute("SELECT * FROM clock_moves WHERE state <> ? ORDER BY id LIMIT 1", (ClockState.FINISHED,))
    )


def update_clock_move(db: sqlite3.Connection, row_id: int, state: str, reached: int) -> None:
    """Keep how far the demo clock has been moved."""
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
    """Whether a job was asked to pause."""
    row = db.execute("SELECT state FROM jobs WHERE id = ?", (row_id,)).fetchone()
    return row is not None and row["state"] == "paused"


def save_position(db: sqlite3.Connection, row_id: int, arguments: str) -> None:
    """Where a paused job goes on."""
    db.execute("UPDATE jobs SET arguments = ? WHERE id = ?", (arguments, row_id))
