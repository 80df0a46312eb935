"""Who stands where in a sequence: the queue, open stays, what they passed, what steps change about them."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence

from openmeadow.core.arrays import I64
from openmeadow.core.fields import kept
from openmeadow.core.ids import MessageId
from openmeadow.core.states import DeliveryState, SendKind
from openmeadow.store.bulk import Many, read_columns
from openmeadow.store.sequences.records import Enrolment, InsideLine, MailedEnrolment, QueuedPerson, ZonedEnrolment
from openmeadow.store.subscribers import fields
from openmeadow.store.subscribers.subscribers import add_labels, add_members, count_up, facts_changed, version_of

Arrival = tuple[int, int, int, int | None, int, int]  # enrolment, step, path, due_at, version, now

# who waits to begin

MOVES = "moves_version"


def held_before(db: sqlite3.Connection, row_id: int) -> I64:
    """For whom the condition of entering held at the last look, ascending."""
    (found,) = read_columns(
        db, "SELECT subscriber FROM sequence_matches WHERE sequence = ? ORDER BY subscriber", (row_id,), "q"
    )
    return found


def hold_now(db: sqlite3.Connection, row_id: int, came: Sequence[int]) -> int:
    """People have come to match the rule by which a sequence is entered; how many."""
    db.executemany("INSERT OR IGNORE INTO sequence_matches VALUES (?, ?)", ((row_id, s) for s in came))
    return len(came)


def hold_no_more(db: sqlite3.Connection, row_id: int, went: Sequence[int]) -> int:
    """People do not match it any more; how many."""
    db.executemany("DELETE FROM sequence_matches WHERE sequence = ? AND subscriber = ?", ((row_id, s) for s in went))
    return len(went)


def last_runs(db: sqlite3.Connection, row_id: int, among: Sequence[int]) -> dict[int, tuple[int, int | None]]:
    """(number, when left) of each person's last run."""
    out: dict[int, tuple[int, int | None]] = {}
    for i in range(0, len(among), 500):
        few = ",".join(map(str, among[i : i + 500]))
        for r in db.execute(
            f"SELECT subscriber, run, left_at FROM enrolments WHERE sequence = ? AND subscriber IN ({few}) ORDER BY run",
            (row_id,),
        ):
            out[int(r["subscriber"])] = (int(r["run"]), r["left_at"])
    return out


def queue(db: sqlite3.Connection, row_id: int, people: Many[int], now: int) -> int:
    """Put people in the queue; how many were not in it yet."""
    before = db.total_changes
    sql = "INSERT OR IGNORE INTO sequence_queue (sequence, subscriber, came_at) VALUES (?, ?, ?)"
    db.executemany(sql, ((row_id, s, now) for s in people))
    return db.total_changes - before


def queued(db: sqlite3.Connection, row_id: int, most: int | None = None) -> list[QueuedPerson]:
    """(subscriber, provider) in the order they came, at most so many."""
    return QueuedPerson.read_all(
        db.execute(
            "SELECT w.subscriber, s.provider FROM sequence_queue w JOIN subscribers s ON s.id = w.subscriber "
            "WHERE w.sequence = ? ORDER BY w.id LIMIT ?",
            (row_id, -1 if most is None else most),
        )
    )


def anybody_queued(db: sqlite3.Connection, row_id: int) -> bool:
    """Whether anybody waits to enter a sequence."""
    return db.execute("SELECT 1 FROM sequence_queue WHERE sequence = ? LIMIT 1", (row_id,)).fetchone() is not None


def in_queue(db: sqlite3.Connection, row_id: int) -> int:
    """How many wait to enter a sequence."""
    return int(db.execute("SELECT count(*) AS n FROM sequence_queue WHERE sequence = ?", (row_id,)).fetchone()["n"])


def unqueue(db: sqlite3.Connection, row_id: int, people: Sequence[int]) -> int:
    """Take people out of the queue of a sequence; how many."""
    db.executemany("DELETE FROM sequence_queue WHERE sequence = ? AND subscriber = ?", ((row_id, s) for s in people))
    return len(people)


def begun_since(db: sqlite3.Connection, row_id: int, since: int) -> dict[int, int]:
    """How many of each provider began since a moment."""
    rows = db.execute(
        "SELECT s.provider, count(*) AS n FROM enrolments t JOIN subscribers s ON s.id = t.subscriber "
        "WHERE t.sequence = ? AND t.entered_at >= ? GROUP BY 1",
        (row_id, since),
    )
    return {int(r["provider"]): int(r["n"]) for r in rows}


def begun_before(db: sqlite3.Connection, row_id: int, moment: int) -> bool:
    """Whether anybody entered a sequence before a moment."""
    found = db.execute("SELECT 1 FROM enrolments WHERE sequence = ? AND entered_at < ? LIMIT 1", (row_id, moment))
    return found.fetchone() is not None


# who is inside


def begin(db: sqlite3.Connection, rows: Many[tuple[int, int, int, int, int, int]]) -> None:
    """(sequence, subscriber, run, in the holdout group, version, now)."""
    db.executemany(
        "INSERT OR IGNORE INTO enrolments (sequence, subscriber, run, holdout, version, entered_at, since, due_at) "
        "VALUES (?, ?, ?, ?, ?, ?6, ?6, ?6)",
        rows,
    )
    facts_changed(db)


def due(db: sqlite3.Connection, row_id: int, now: int, limit: int) -> list[ZonedEnrolment]:
    """Stays whose moment has come, the earliest first."""
    return ZonedEnrolment.read_all(
        db.execute(
            "SELECT t.*, s.time_zone FROM enrolments t JOIN subscribers s ON s.id = t.subscriber WHERE t.sequence = ? "
            "AND t.left_at IS NULL AND t.due_at IS NOT NULL AND t.due_at <= ? ORDER BY t.due_at LIMIT ?",
            (row_id, now, limit),
        )
    )


SETTLED = "('sent', 'failed', 'skipped')"  # who is unconfirmed waits until that is settled


def mailed(db: sqlite3.Connection, row_id: int, limit: int) -> list[MailedEnrolment]:
    """Stays whose message has come to its end, with what became of it: the newest of their deliveries stands."""
    return MailedEnrolment.read_all(
        db.execute(
            "SELECT t.*, s.time_zone, d.state AS delivery, d.reason FROM enrolments t "
            "JOIN subscribers s ON s.id = t.subscriber "
            "JOIN deliveries d ON d.id = (SELECT max(x.id) FROM deliveries x WHERE x.enrolment = t.id) "
            f"WHERE t.sequence = ? AND t.left_at IS NULL AND t.due_at IS NULL AND d.state IN {SETTLED} LIMIT ?",
            (row_id, limit),
        )
    )


def passed(db: sqlite3.Connection, stays: Sequence[int]) -> dict[int, set[int]]:
    """The steps that each enrolment has left behind."""
    out: dict[int, set[int]] = {s: set() for s in stays}
    for i in range(0, len(stays), 500):
        few = ",".join(map(str, stays[i : i + 500]))
        for r in db.execute(f"SELECT enrolment, step FROM enrolment_steps WHERE enrolment IN ({few})"):
            out[int(r["enrolment"])].add(int(r["step"]))
    return out


def received(db: sqlite3.Connection, stays: Sequence[int], message: MessageId) -> list[int]:
    """Whose first of a message was sent, or is unconfirmed, within one of these stays."""
    out: list[int] = []
    for i in range(0, len(stays), 500):
        few = ",".join(map(str, stays[i : i + 500]))
        rows = db.execute(
            f"SELECT d.subscriber FROM deliveries d JOIN sends q ON q.id = d.send AND q.kind = ? "
            f"JOIN campaigns c ON c.id = q.campaign AND c.message = ? WHERE d.enrolment IN ({few}) "
            f"AND d.state IN ('{DeliveryState.SENT}', '{DeliveryState.UNCONFIRMED}')",
            (SendKind.FIRST, message),
        )
        out += [int(r["subscriber"]) for r in rows]
    return out


def pass_steps(db: sqlite3.Connection, rows: Many[tuple[int, int, int]]) -> None:
    """(enrolment, step, now), once each."""
    db.executemany("INSERT OR IGNORE INTO enrolment_steps VALUES (?, ?, ?)", rows)
    count_up(db, MOVES)


def moves_version(db: sqlite3.Connection) -> int:
    """Counts up whenever somebody takes a step of a sequence."""
    return version_of(db, MOVES)


def arrive(db: sqlite3.Connection, rows: Many[Arrival]) -> None:
    """Where stays stand now. Who has left stays away."""
    db.executemany(
        "UPDATE enrolments SET since = CASE WHEN step = ?2 THEN since ELSE ?6 END, step = ?2, path = ?3, due_at = ?4, "
        "version = ?5 WHERE id = ?1 AND left_at IS NULL",
        rows,
    )


def leave(db: sqlite3.Connection, rows: Sequence[tuple[int, int, str | None]]) -> int:
    """(enrolment, now, why); no reason: they came to the end. What was to go to them is skipped."""
    if not rows:
        return 0
    gone = 0
    for enrolment, now, why in rows:
        gone += db.execute(
            "UPDATE enrolments SET left_at = ?2, due_at = NULL, exit_reason = ?3, finished = ?3 IS NULL "
            "WHERE id = ?1 AND left_at IS NULL",
            (enrolment, now, why),
        ).rowcount
        db.execute(
            f"UPDATE deliveries SET state = '{DeliveryState.SKIPPED}', reason = 'left the sequence: ' || coalesce(?2, "
            f"'at its end'), "
            f"changed_at = ?3 WHERE enrolment = ?1 AND state IN ('{DeliveryState.QUEUED}', '{DeliveryState.DEFERRED}')",
            (enrolment, why, now),
        )
    facts_changed(db)
    return gone


def drop_waiting(db: sqlite3.Connection, stays: Sequence[int], why: str, now: int) -> None:
    """What was to go to some people is skipped; they enrolment."""
    db.executemany(
        f"UPDATE deliveries SET state = '{DeliveryState.SKIPPED}', reason = ?, changed_at = ? WHERE enrolment = ? "
        f"AND state IN ('{DeliveryState.QUEUED}', '{DeliveryState.DEFERRED}')",
        ((why, now, s) for s in stays),
    )


def inside(db: sqlite3.Connection, row_id: int, among: Sequence[int]) -> list[Enrolment]:
    """The open stays of some people."""
    out: list[Enrolment] = []
    for i in range(0, len(among), 500):
        few = ",".join(map(str, among[i : i + 500]))
        rows = db.execute(
            f"SELECT * FROM enrolments WHERE sequence = ? AND left_at IS NULL AND subscriber IN ({few})", (row_id,)
        )
        out += Enrolment.read_all(rows)
    return out


def who_is_inside(db: sqlite3.Connection, row_id: int) -> I64:
    """Subscribers inside, ascending."""
    sql = "SELECT subscriber FROM enrolments WHERE sequence = ? AND left_at IS NULL ORDER BY subscriber"
    (found,) = read_columns(db, sql, (row_id,), "q")
    return found


def suppressed_inside(db: sqlite3.Connection, row_id: int, now: int) -> I64:
    """Subscribers inside who are suppressed, ascending."""
    sql = (
        "SELECT DISTINCT t.subscriber FROM suppressions x CROSS JOIN enrolments t ON t.subscriber = x.subscriber "
        "WHERE x.at <= ? AND t.sequence = ? AND t.left_at IS NULL ORDER BY 1"
    )
    (found,) = read_columns(db, sql, (now, row_id), "q")
    return found


def all_inside(db: sqlite3.Connection, row_id: int) -> list[InsideLine]:
    """Every open enrolment's id, step and due moment."""
    return InsideLine.read_all(
        db.execute(
            "SELECT id, subscriber, step, path, due_at FROM enrolments WHERE sequence = ? AND left_at IS NULL", (row_id,)
        )
    )


def with_news(db: sqlite3.Connection, row_id: int, event: int, consent: int) -> tuple[list[int], int, int]:
    """Who inside had an event or a word of consent since, and the newest of both."""
    top = db.execute(
        "SELECT (SELECT coalesce(max(id), 0) FROM events) AS e, (SELECT coalesce(max(id), 0) FROM consent_entries) AS c"
    ).fetchone()
    if (top["e"], top["c"]) == (event, consent):
        return [], event, consent
    # what is new is gone through, never everybody inside
    rows = db.execute(
        "SELECT DISTINCT e.subscriber AS s FROM events e CROSS JOIN enrolments t ON t.subscriber = e.subscriber "
        "WHERE e.id > ? AND e.kind > 3 AND t.sequence = ? AND t.left_at IS NULL UNION "
        "SELECT c.subscriber FROM consent_entries c CROSS JOIN enrolments t ON t.subscriber = c.subscriber "
        "WHERE c.id > ? AND t.sequence = ? AND t.left_at IS NULL",
        (event, row_id, consent, row_id),
    ).fetchall()
    return [int(r["s"]) for r in rows], int(top["e"]), int(top["c"])


def happened(db: sqlite3.Connection, ids: Sequence[int], since: dict[int, int], kind: int) -> set[int]:
    """To whom something of a kind happened after a moment of their own."""
    out: set[int] = set()
    for i in range(0, len(ids), 500):
        few = ",".join(map(str, ids[i : i + 500]))
        for r in db.execute(f"SELECT subscriber, at FROM events WHERE kind = ? AND subscriber IN ({few})", (kind,)):
            if r["at"] >= since[int(r["subscriber"])]:
                out.add(int(r["subscriber"]))
    return out


def move_due(db: sqlite3.Connection, rows: Sequence[tuple[int, int]]) -> int:
    """(due_at, enrolment); how many."""
    db.executemany("UPDATE enrolments SET due_at = ? WHERE id = ? AND left_at IS NULL", rows)
    return len(rows)


# what steps change


def put_label(db: sqlite3.Connection, name: str, people: Sequence[int], take: bool) -> None:
    """Put a label on people, or take it off them."""
    db.execute("INSERT OR IGNORE INTO labels (name) VALUES (?)", (name,))
    label = db.execute("SELECT id FROM labels WHERE name = ?", (name,)).fetchone()["id"]
    if take:
        db.executemany("DELETE FROM subscriber_labels WHERE label = ? AND subscriber = ?", ((label, s) for s in people))
        facts_changed(db)
    else:
        add_labels(db, [(label, s, None) for s in people])


def put_on_list(db: sqlite3.Connection, name: str, people: Sequence[int], take: bool, now: int) -> None:
    """Put people on a list, or take them off it."""
    db.execute("INSERT OR IGNORE INTO lists (name) VALUES (?)", (name,))
    on = db.execute("SELECT id FROM lists WHERE name = ?", (name,)).fetchone()["id"]
    if take:
        db.executemany("DELETE FROM list_members WHERE list = ? AND subscriber = ?", ((on, s) for s in people))
        facts_changed(db)
    else:
        add_members(db, [(on, s, now, None) for s in people])


def put_field(db: sqlite3.Connection, name: str, value: str, people: Sequence[int]) -> None:
    """Give people a value in a field of their own."""
    fields.add(db, [name])
    fields.put(db, name, [(s, kept(value, fields.types(db)[name]) or value) for s in people])
