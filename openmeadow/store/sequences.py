"""Sequences, who stands where in them, what they passed, and who waits to begin."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence
from typing import Any

from openmeadow.core.columns import I64
from openmeadow.store.columns import _table
from openmeadow.store.database import Many
from openmeadow.store.subscribers import add_labels, add_members, facts_changed

_FIELDS = {
    "name",
    "state",
    "ladder",
    "version",
    "started_at",
    "purpose",
    "from_address",
    "from_name",
    "seen_event",
    "seen_consent",
    "looked_at",
}
Arrival = tuple[int, int, int, int | None, int, int]  # stay, step, lane, due_at, version, now


def add(db: sqlite3.Connection, name: str, seed: int, now: int) -> int:
    sql = "INSERT INTO sequences (name, seed, made_at) VALUES (?, ?, ?)"
    return int(db.execute(sql, (name, seed, now)).lastrowid or 0)


def update(db: sqlite3.Connection, id: int, values: dict[str, Any]) -> None:
    unknown = values.keys() - _FIELDS
    if unknown:
        raise ValueError(f"no such columns: {unknown}")
    if values:
        db.execute(f"UPDATE sequences SET {', '.join(f'{n} = ?' for n in values)} WHERE id = ?", (*values.values(), id))


def remove(db: sqlite3.Connection, id: int) -> None:
    """A draft nobody has been in, with what its steps say."""
    db.execute("DELETE FROM campaigns WHERE sequence = ?", (id,))
    for table in ("sequence_queue", "sequence_holds"):
        db.execute(f"DELETE FROM {table} WHERE sequence = ?", (id,))
    db.execute("DELETE FROM sequences WHERE id = ?", (id,))


def one(db: sqlite3.Connection, id: int) -> sqlite3.Row | None:
    row: sqlite3.Row | None = db.execute(
        "SELECT q.*, p.name AS purpose_name FROM sequences q LEFT JOIN purposes p ON p.id = q.purpose WHERE q.id = ?",
        (id,),
    ).fetchone()
    return row


def named(db: sqlite3.Connection, name: str) -> sqlite3.Row | None:
    row: sqlite3.Row | None = db.execute("SELECT * FROM sequences WHERE name = ?", (name,)).fetchone()
    return row


def every(db: sqlite3.Connection) -> list[sqlite3.Row]:
    return db.execute(
        "SELECT q.id, q.name, q.state, q.ladder, q.made_at, q.started_at, p.name AS purpose_name, "
        "(SELECT count(*) FROM sequence_stays s WHERE s.sequence = q.id AND s.left_at IS NULL) AS inside, "
        "(SELECT count(*) FROM sequence_stays s WHERE s.sequence = q.id AND s.finished) AS finished, "
        "(SELECT count(*) FROM sequence_queue w WHERE w.sequence = q.id) AS queued "
        "FROM sequences q LEFT JOIN purposes p ON p.id = q.purpose ORDER BY q.made_at, q.id"
    ).fetchall()


def running(db: sqlite3.Connection) -> list[sqlite3.Row]:
    return db.execute("SELECT * FROM sequences WHERE state = 'running' ORDER BY id").fetchall()


def add_version(db: sqlite3.Connection, id: int, n: int, ladder: str, who: str, now: int) -> None:
    db.execute("INSERT INTO sequence_versions VALUES (?, ?, ?, ?, ?)", (id, n, now, who, ladder))


def versions(db: sqlite3.Connection, id: int) -> list[sqlite3.Row]:
    return db.execute("SELECT n, at, who, ladder FROM sequence_versions WHERE sequence = ? ORDER BY n", (id,)).fetchall()


# steps that mail


def mails(db: sqlite3.Connection, id: int) -> dict[int, sqlite3.Row]:
    """The campaign behind each message step, by the step's key."""
    rows = db.execute("SELECT * FROM campaigns WHERE sequence = ? ORDER BY step", (id,))
    return {int(r["step"]): r for r in rows}


def tie(db: sqlite3.Connection, campaign: int, sequence: int, step: int, kind: str, gate: str, asks: str) -> None:
    """Make a campaign the mail of a step."""
    db.execute(
        "UPDATE campaigns SET sequence = ?, step = ?, kind = ?, gate = ?, asks = ?, with_sequences = 1 WHERE id = ?",
        (sequence, step, kind, gate, asks, campaign),
    )


def untie(db: sqlite3.Connection, campaign: int) -> None:
    """Take away the mail of a step that never mailed anybody."""
    db.execute("DELETE FROM campaigns WHERE id = ? AND state = 'draft'", (campaign,))


def way_out(db: sqlite3.Connection, campaign: int, kind: str) -> tuple[int, int] | None:
    """(pass, batch) by which a step's mail goes out."""
    row = db.execute(
        "SELECT q.id AS pass, b.id AS batch FROM passes q JOIN batches b ON b.pass = q.id WHERE q.campaign = ? AND q.kind = ?",
        (campaign, kind),
    ).fetchone()
    return (int(row["pass"]), int(row["batch"])) if row else None


def set_arms(db: sqlite3.Connection, pass_id: int, arms: str) -> None:
    db.execute("UPDATE passes SET arms = ? WHERE id = ?", (arms, pass_id))


def add_mail(db: sqlite3.Connection, rows: Many[tuple[int, int, int, int, int, str, str | None, int]]) -> None:
    """(pass, batch, subscriber, stay, band, state, reason, now); what is there already stays as it is."""
    db.executemany(
        "INSERT OR IGNORE INTO deliveries (pass, batch, subscriber, stay, band, state, reason, changed_at) "
        "VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
        rows,
    )


# who waits to begin


def held_before(db: sqlite3.Connection, id: int) -> I64:
    """For whom the condition of entering held at the last look, ascending."""
    (found,) = _table(db, "SELECT subscriber FROM sequence_holds WHERE sequence = ? ORDER BY subscriber", (id,), "q")
    return found


def hold_now(db: sqlite3.Connection, id: int, came: Sequence[int], went: Sequence[int]) -> None:
    db.executemany("INSERT OR IGNORE INTO sequence_holds VALUES (?, ?)", ((id, s) for s in came))
    db.executemany("DELETE FROM sequence_holds WHERE sequence = ? AND subscriber = ?", ((id, s) for s in went))


def last_runs(db: sqlite3.Connection, id: int, among: Sequence[int]) -> dict[int, tuple[int, int | None]]:
    """(number, when left) of each person's last run."""
    out: dict[int, tuple[int, int | None]] = {}
    for i in range(0, len(among), 500):
        few = ",".join(map(str, among[i : i + 500]))
        for r in db.execute(
            f"SELECT subscriber, run, left_at FROM sequence_stays WHERE sequence = ? AND subscriber IN ({few}) ORDER BY run",
            (id,),
        ):
            out[int(r["subscriber"])] = (int(r["run"]), r["left_at"])
    return out


def queue(db: sqlite3.Connection, id: int, people: Many[int], now: int) -> int:
    """Put people in the queue; how many were not in it yet."""
    before = db.total_changes
    sql = "INSERT OR IGNORE INTO sequence_queue (sequence, subscriber, came_at) VALUES (?, ?, ?)"
    db.executemany(sql, ((id, s, now) for s in people))
    return db.total_changes - before


def queued(db: sqlite3.Connection, id: int) -> list[sqlite3.Row]:
    """(subscriber, provider) in the order they came."""
    return db.execute(
        "SELECT w.subscriber, s.provider FROM sequence_queue w JOIN subscribers s ON s.id = w.subscriber "
        "WHERE w.sequence = ? ORDER BY w.id",
        (id,),
    ).fetchall()


def in_queue(db: sqlite3.Connection, id: int) -> int:
    return int(db.execute("SELECT count(*) AS n FROM sequence_queue WHERE sequence = ?", (id,)).fetchone()["n"])


def unqueue(db: sqlite3.Connection, id: int, people: Sequence[int] | None = None) -> None:
    if people is None:
        db.execute("DELETE FROM sequence_queue WHERE sequence = ?", (id,))
    else:
        db.executemany("DELETE FROM sequence_queue WHERE sequence = ? AND subscriber = ?", ((id, s) for s in people))


def begun_since(db: sqlite3.Connection, id: int, since: int) -> dict[int, int]:
    """How many of each provider began since a moment."""
    rows = db.execute(
        "SELECT s.provider, count(*) AS n FROM sequence_stays t JOIN subscribers s ON s.id = t.subscriber "
        "WHERE t.sequence = ? AND t.entered_at >= ? GROUP BY 1",
        (id, since),
    )
    return {int(r["provider"]): int(r["n"]) for r in rows}


def begun_before(db: sqlite3.Connection, id: int, moment: int) -> bool:
    found = db.execute("SELECT 1 FROM sequence_stays WHERE sequence = ? AND entered_at < ? LIMIT 1", (id, moment))
    return found.fetchone() is not None


# who is inside


def begin(db: sqlite3.Connection, rows: Many[tuple[int, int, int, int, int, int]]) -> None:
    """(sequence, subscriber, run, held back, version, now)."""
    db.executemany(
        "INSERT OR IGNORE INTO sequence_stays (sequence, subscriber, run, held_back, version, entered_at, since, due_at) "
        "VALUES (?, ?, ?, ?, ?, ?6, ?6, ?6)",
        rows,
    )
    facts_changed(db)


def due(db: sqlite3.Connection, id: int, now: int, limit: int) -> list[sqlite3.Row]:
    """Stays whose moment has come, the earliest first."""
    return db.execute(
        "SELECT t.*, s.time_zone FROM sequence_stays t JOIN subscribers s ON s.id = t.subscriber WHERE t.sequence = ? "
        "AND t.left_at IS NULL AND t.due_at IS NOT NULL AND t.due_at <= ? ORDER BY t.due_at LIMIT ?",
        (id, now, limit),
    ).fetchall()


def next_step(db: sqlite3.Connection) -> sqlite3.Row | None:
    """The sequence that somebody is due in next, and when."""
    found: list[sqlite3.Row] = [
        row
        for r in running(db)
        if (
            row := db.execute(
                "SELECT min(due_at) AS at, ? AS name FROM sequence_stays WHERE sequence = ? AND left_at IS NULL "
                "AND due_at IS NOT NULL",
                (r["name"], r["id"]),
            ).fetchone()
        )["at"]
        is not None
    ]
    return min(found, key=lambda row: int(row["at"]), default=None)


SETTLED = "('handed over', 'failed', 'in doubt', 'passed over')"


def mailed(db: sqlite3.Connection, id: int, limit: int) -> list[sqlite3.Row]:
    """Stays whose message has come to its end, with what became of it: the newest of their deliveries stands."""
    return db.execute(
        "SELECT t.*, s.time_zone, d.state AS delivery, d.reason FROM sequence_stays t "
        "JOIN subscribers s ON s.id = t.subscriber "
        "JOIN deliveries d ON d.id = (SELECT max(x.id) FROM deliveries x WHERE x.stay = t.id) "
        f"WHERE t.sequence = ? AND t.left_at IS NULL AND t.due_at IS NULL AND d.state IN {SETTLED} LIMIT ?",
        (id, limit),
    ).fetchall()


def passed(db: sqlite3.Connection, stays: Sequence[int]) -> dict[int, set[int]]:
    """The steps that each stay has left behind."""
    out: dict[int, set[int]] = {s: set() for s in stays}
    for i in range(0, len(stays), 500):
        few = ",".join(map(str, stays[i : i + 500]))
        for r in db.execute(f"SELECT stay, step FROM sequence_passages WHERE stay IN ({few})"):
            out[int(r["stay"])].add(int(r["step"]))
    return out


def pass_steps(db: sqlite3.Connection, rows: Many[tuple[int, int, int]]) -> None:
    """(stay, step, now), once each."""
    db.executemany("INSERT OR IGNORE INTO sequence_passages VALUES (?, ?, ?)", rows)


def arrive(db: sqlite3.Connection, rows: Many[Arrival]) -> None:
    """Where stays stand now. Who has left stays away."""
    db.executemany(
        "UPDATE sequence_stays SET since = CASE WHEN step = ?2 THEN since ELSE ?6 END, step = ?2, lane = ?3, due_at = ?4, "
        "version = ?5 WHERE id = ?1 AND left_at IS NULL",
        rows,
    )


def leave(db: sqlite3.Connection, rows: Sequence[tuple[int, int, str | None]]) -> int:
    """(stay, now, why); no reason: they came to the end. What was to go to them is passed over."""
    if not rows:
        return 0
    gone = 0
    for stay, now, why in rows:
        gone += db.execute(
            "UPDATE sequence_stays SET left_at = ?2, due_at = NULL, why_left = ?3, finished = ?3 IS NULL "
            "WHERE id = ?1 AND left_at IS NULL",
            (stay, now, why),
        ).rowcount
        db.execute(
            "UPDATE deliveries SET state = 'passed over', reason = 'left the sequence: ' || coalesce(?2, 'at its end'), "
            "changed_at = ?3 WHERE stay = ?1 AND state IN ('waiting', 'deferred')",
            (stay, why, now),
        )
    facts_changed(db)
    return gone


def drop_waiting(db: sqlite3.Connection, stays: Sequence[int], why: str, now: int) -> None:
    """What was to go to some people is passed over; they stay."""
    db.executemany(
        "UPDATE deliveries SET state = 'passed over', reason = ?, changed_at = ? WHERE stay = ? "
        "AND state IN ('waiting', 'deferred')",
        ((why, now, s) for s in stays),
    )


def inside(db: sqlite3.Connection, id: int, among: Sequence[int]) -> list[sqlite3.Row]:
    """The open stays of some people."""
    out: list[sqlite3.Row] = []
    for i in range(0, len(among), 500):
        few = ",".join(map(str, among[i : i + 500]))
        out += db.execute(
            f"SELECT * FROM sequence_stays WHERE sequence = ? AND left_at IS NULL AND subscriber IN ({few})", (id,)
        ).fetchall()
    return out


def all_inside(db: sqlite3.Connection, id: int) -> list[sqlite3.Row]:
    """Every open stay's id, step and due moment."""
    return db.execute(
        "SELECT id, subscriber, step, lane, due_at FROM sequence_stays WHERE sequence = ? AND left_at IS NULL", (id,)
    ).fetchall()


def with_news(db: sqlite3.Connection, id: int, event: int, consent: int) -> tuple[list[int], int, int]:
    """Who inside had an event or a word of consent since, and the newest of both."""
    top = db.execute(
        "SELECT (SELECT coalesce(max(id), 0) FROM events) AS e, (SELECT coalesce(max(id), 0) FROM consent_entries) AS c"
    ).fetchone()
    if (top["e"], top["c"]) == (event, consent):
        return [], event, consent
    # what is new is gone through, never everybody inside
    rows = db.execute(
        "SELECT DISTINCT e.subscriber AS s FROM events e CROSS JOIN sequence_stays t ON t.subscriber = e.subscriber "
        "WHERE e.id > ? AND e.kind > 3 AND t.sequence = ? AND t.left_at IS NULL UNION "
        "SELECT c.subscriber FROM consent_entries c CROSS JOIN sequence_stays t ON t.subscriber = c.subscriber "
        "WHERE c.id > ? AND t.sequence = ? AND t.left_at IS NULL",
        (event, id, consent, id),
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


def move_due(db: sqlite3.Connection, rows: Many[tuple[int, int]]) -> None:
    """(due_at, stay)."""
    db.executemany("UPDATE sequence_stays SET due_at = ? WHERE id = ? AND left_at IS NULL", rows)


# what steps change


def put_label(db: sqlite3.Connection, name: str, people: Sequence[int], take: bool) -> None:
    db.execute("INSERT OR IGNORE INTO labels (name) VALUES (?)", (name,))
    label = db.execute("SELECT id FROM labels WHERE name = ?", (name,)).fetchone()["id"]
    if take:
        db.executemany("DELETE FROM subscriber_labels WHERE label = ? AND subscriber = ?", ((label, s) for s in people))
        facts_changed(db)
    else:
        add_labels(db, [(label, s, None) for s in people])


def put_on_list(db: sqlite3.Connection, name: str, people: Sequence[int], take: bool, now: int) -> None:
    db.execute("INSERT OR IGNORE INTO lists (name) VALUES (?)", (name,))
    on = db.execute("SELECT id FROM lists WHERE name = ?", (name,)).fetchone()["id"]
    if take:
        db.executemany("DELETE FROM list_members WHERE list = ? AND subscriber = ?", ((on, s) for s in people))
        facts_changed(db)
    else:
        add_members(db, [(on, s, now, None) for s in people])


def put_field(db: sqlite3.Connection, name: str, value: str, people: Sequence[int]) -> None:
    path = '$."' + name.replace('"', '\\"') + '"'
    db.execute("INSERT OR IGNORE INTO field_names VALUES (?)", (name,))
    db.executemany(
        "UPDATE subscribers SET fields = json_set(fields, ?, ?) WHERE id = ?", ((path, value, s) for s in people)
    )
    facts_changed(db)


# what one sees


def steps(db: sqlite3.Connection, id: int) -> list[sqlite3.Row]:
    """(step, people who stand there, of them due by their clock, next due) of those inside."""
    return db.execute(
        "SELECT step, count(*) AS people, sum(due_at IS NULL) AS mailing, min(due_at) AS next FROM sequence_stays "
        "WHERE sequence = ? AND left_at IS NULL GROUP BY step",
        (id,),
    ).fetchall()


def left(db: sqlite3.Connection, id: int) -> list[sqlite3.Row]:
    """(step, why, people) of those who left before the end."""
    return db.execute(
        "SELECT step, why_left AS why, count(*) AS people FROM sequence_stays WHERE sequence = ? AND left_at IS NOT NULL "
        "AND NOT finished GROUP BY 1, 2 ORDER BY 3 DESC",
        (id,),
    ).fetchall()


def passages(db: sqlite3.Connection, id: int) -> dict[int, int]:
    """How many passed each step."""
    rows = db.execute(
        "SELECT p.step, count(*) AS n FROM sequence_passages p JOIN sequence_stays t ON t.id = p.stay "
        "WHERE t.sequence = ? GROUP BY 1",
        (id,),
    )
    return {int(r["step"]): int(r["n"]) for r in rows}


def at_step(db: sqlite3.Connection, id: int, step: int, limit: int, offset: int = 0) -> list[sqlite3.Row]:
    """People who stand at a step: who goes next first."""
    return db.execute(
        "SELECT t.id, t.subscriber, s.email, t.since, t.due_at, t.run, "
        "(SELECT x.next_at FROM deliveries x WHERE x.stay = t.id AND x.state = 'deferred' ORDER BY x.id DESC LIMIT 1) AS again "
        "FROM sequence_stays t JOIN subscribers s ON s.id = t.subscriber WHERE t.sequence = ? AND t.step = ? "
        "AND t.left_at IS NULL ORDER BY coalesce(t.due_at, 0), t.id LIMIT ? OFFSET ?",
        (id, step, limit, offset),
    ).fetchall()


def stay(db: sqlite3.Connection, id: int) -> sqlite3.Row | None:
    row: sqlite3.Row | None = db.execute(
        "SELECT t.*, s.time_zone, s.email FROM sequence_stays t JOIN subscribers s ON s.id = t.subscriber WHERE t.id = ?",
        (id,),
    ).fetchone()
    return row


def sent(db: sqlite3.Connection, id: int) -> list[sqlite3.Row]:
    """Each delivery of a sequence's mails that has come to something: (step, kind of pass, message, subscriber, stay,
    when, state, reason, held back)."""
    return db.execute(
        "SELECT c.step, q.kind, c.message, d.subscriber, d.stay, d.changed_at AS at, d.state, d.reason, t.held_back "
        "FROM campaigns c JOIN passes q ON q.campaign = c.id JOIN deliveries d ON d.pass = q.id "
        "JOIN sequence_stays t ON t.id = d.stay WHERE c.sequence = ?",
        (id,),
    ).fetchall()


def passed_over_inside(db: sqlite3.Connection, id: int, others: Sequence[int]) -> int:
    """How many people inside would be mailed by campaigns about the purposes that these are about, were they not inside."""
    few = ",".join(map(str, others))
    return int(
        db.execute(
            "SELECT count(DISTINCT t.subscriber) AS n FROM sequence_stays t JOIN consent_entries e "
            f"ON e.subscriber = t.subscriber AND e.purpose IN (SELECT purpose FROM campaigns WHERE id IN ({few})) "
            "AND e.state = 1 AND NOT e.void WHERE t.sequence = ? AND t.left_at IS NULL",
            (id,),
        ).fetchone()["n"]
    )
