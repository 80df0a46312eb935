"""Saved segments: a name and its rule."""

from __future__ import annotations

import sqlite3
from datetime import datetime
from zoneinfo import ZoneInfo

from openmeadow.store import settings
from openmeadow.store.segments.records import Segment, SegmentCount, Snapshot


def save(db: sqlite3.Connection, name: str, rule: str, now: int) -> int:
    """Save a rule under a name; the segment's id."""
    row = db.execute(
        "INSERT INTO segments (name, rule, made_at, changed_at) VALUES (?, ?, ?, ?) ON CONFLICT (name) "
        "DO UPDATE SET rule = excluded.rule, changed_at = excluded.changed_at RETURNING id",
        (name, rule, now, now),
    ).fetchone()
    return int(row["id"])


def rename(db: sqlite3.Connection, row_id: int, name: str) -> None:
    """Give a segment another name."""
    db.execute("UPDATE segments SET name = ? WHERE id = ?", (name, row_id))


def change(db: sqlite3.Connection, row_id: int, name: str, rule: str, label: str, now: int) -> None:
    """Write a segment anew."""
    db.execute(
        "UPDATE segments SET name = ?, rule = ?, label = ?, changed_at = ? WHERE id = ?", (name, rule, label, now, row_id)
    )


def watch(db: sqlite3.Connection, row_id: int, share: float | None, count: int, at: int) -> None:
    """Watch the size of a segment from a count on; None no longer."""
    db.execute(
        "UPDATE segments SET alert_share = ?, alert_count = ?, alert_at = ? WHERE id = ?", (share, count, at, row_id)
    )


def watched(db: sqlite3.Connection) -> list[Segment]:
    """The segments whose size is watched."""
    return Segment.read_all(db.execute("SELECT * FROM segments WHERE alert_share IS NOT NULL ORDER BY name"))


def remove(db: sqlite3.Connection, row_id: int) -> None:
    """Remove a segment with its counts and snapshots."""
    db.execute("DELETE FROM segments WHERE id = ?", (row_id,))


def every(db: sqlite3.Connection) -> list[Segment]:
    """All segments by name."""
    return Segment.read_all(db.execute("SELECT * FROM segments ORDER BY name"))


def one(db: sqlite3.Connection, row_id: int) -> Segment | None:
    """A segment, or None."""
    return Segment.read(db.execute("SELECT * FROM segments WHERE id = ?", (row_id,)))


def named(db: sqlite3.Connection, name: str) -> Segment | None:
    """The segment with a name, whatever its case, or None."""
    return Segment.read(db.execute("SELECT * FROM segments WHERE name = ?", (name,)))


def used_by(db: sqlite3.Connection, row_id: int) -> list[str]:
    """Names of the campaigns that choose or leave out this segment."""
    return [
        r["name"]
        for r in db.execute(
            "SELECT name FROM campaigns WHERE EXISTS (SELECT 1 FROM json_each(segments_in) WHERE value = ?1) "
            "OR EXISTS (SELECT 1 FROM json_each(segments_out) WHERE value = ?1) ORDER BY name",
            (row_id,),
        )
    ]


def has_history(db: sqlite3.Connection) -> bool:
    """Whether anything ever happened by which a past count could differ."""
    return db.execute("SELECT 1 FROM events LIMIT 1").fetchone() is not None


def counted(db: sqlite3.Connection, row_id: int, at: int, count: int) -> None:
    """Its size at a time, by the current rule."""
    db.execute("INSERT OR REPLACE INTO segment_counts VALUES (?, ?, ?)", (row_id, at, count))


def counts(db: sqlite3.Connection, row_id: int) -> list[SegmentCount]:
    """The past counts of a segment that are kept, by moment."""
    return SegmentCount.read_all(
        db.execute("SELECT at, count FROM segment_counts WHERE segment = ? ORDER BY at", (row_id,))
    )


def forget_counts(db: sqlite3.Connection, row_id: int) -> None:
    """Forget the past counts of a segment."""
    db.execute("DELETE FROM segment_counts WHERE segment = ?", (row_id,))


def take_snapshot(db: sqlite3.Connection, row_id: int, rule: str, at: int, people: list[int]) -> int:
    """Keep the subscribers as they are now; one snapshot a day, the later one counts."""
    for f in snapshots(db, row_id):
        if f.day == _day(db, at):
            delete_snapshot(db, row_id, f.id)
    copy = int(
        db.execute(
            "INSERT INTO snapshots (segment, rule, at, people) VALUES (?, ?, ?, ?)", (row_id, rule, at, len(people))
        ).lastrowid
        or 0
    )
    db.executemany("INSERT INTO snapshot_people VALUES (?, ?)", ((copy, p) for p in people))
    return copy


def snapshots(db: sqlite3.Connection, row_id: int) -> list[Snapshot]:
    """A segment's snapshots with the workspace's ``day`` (ISO) each is of, the latest first."""
    rows = db.execute(
        "SELECT id, rule, at, people FROM snapshots WHERE segment = ? ORDER BY at DESC", (row_id,)
    ).fetchall()
    return [Snapshot(r["id"], _day(db, r["at"]), r["at"], r["people"], r["rule"]) for r in rows]


def _day(db: sqlite3.Connection, at: int) -> str:
    return datetime.fromtimestamp(at, ZoneInfo(str(settings.setting(db, "time_zone")))).date().isoformat()


def delete_snapshot(db: sqlite3.Connection, row_id: int, copy: int) -> int:
    """Remove a snapshot of a segment; how many rows went."""
    return db.execute("DELETE FROM snapshots WHERE id = ? AND segment = ?", (copy, row_id)).rowcount
