"""Sequences, who stands where in them, what they passed, and who waits to begin."""

from __future__ import annotations

import sqlite3
from collections.abc import Collection

from openmeadow.core.ids import CampaignId, SequenceId
from openmeadow.core.states import CampaignState, DeliveryState, SequenceState
from openmeadow.store.bulk import Many
from openmeadow.store.campaigns import campaigns
from openmeadow.store.campaigns.records import Campaign
from openmeadow.store.rows import Values
from openmeadow.store.sequences.records import (
    EnrolledPerson,
    LeftCount,
    NextStep,
    SentMail,
    Sequence,
    SequenceLine,
    SequenceVersion,
    StepCount,
    StepsOfHour,
    Waiting,
)
from openmeadow.store.subscribers.subscribers import words_hold

_WHOLE = "SELECT q.*, p.name AS purpose_name FROM sequences q LEFT JOIN purposes p ON p.id = q.purpose"
_FIELDS = frozenset(
    (
        "seed name state definition version started_at purpose from_address from_name seen_event seen_consent paused_why"
    ).split()
)


def add(db: sqlite3.Connection, name: str, seed: int, now: int) -> SequenceId:
    """Begin a draft; its id. ``seed`` decides every draw of it."""
    sql = "INSERT INTO sequences (name, seed, made_at) VALUES (?, ?, ?)"
    return SequenceId(db.execute(sql, (name, seed, now)).lastrowid or 0)


def update(db: sqlite3.Connection, row_id: int, values: Values) -> None:
    """Write columns of a sequence; ValueError for a column that does not exist."""
    unknown = values.keys() - _FIELDS
    if unknown:
        raise ValueError(f"no such columns: {unknown}")
    if values:
        db.execute(
            f"UPDATE sequences SET {', '.join(f'{n} = ?' for n in values)} WHERE id = ?", (*values.values(), row_id)
        )


def remove(db: sqlite3.Connection, row_id: int) -> None:
    """A draft nobody has been in, with what its steps say."""
    db.execute("DELETE FROM campaigns WHERE sequence = ?", (row_id,))
    for table in ("sequence_queue", "sequence_matches"):
        db.execute(f"DELETE FROM {table} WHERE sequence = ?", (row_id,))
    db.execute("DELETE FROM sequences WHERE id = ?", (row_id,))


def one(db: sqlite3.Connection, row_id: int) -> Sequence | None:
    """A sequence, or None."""
    return Sequence.read(db.execute(f"{_WHOLE} WHERE q.id = ?", (row_id,)))


def named(db: sqlite3.Connection, name: str) -> Sequence | None:
    """The sequence with a name, whatever its case, or None."""
    return Sequence.read(db.execute(f"{_WHOLE} WHERE q.name = ?", (name,)))


def every(db: sqlite3.Connection) -> list[SequenceLine]:
    """All sequences for the list, by name."""
    return SequenceLine.read_all(
        db.execute(
            "SELECT q.id, q.name, q.state, q.paused_why, q.definition, q.made_at, q.started_at, p.name AS purpose_name, "
            "(SELECT count(*) FROM enrolments s WHERE s.sequence = q.id AND s.left_at IS NULL) AS active, "
            "(SELECT count(*) FROM enrolments s WHERE s.sequence = q.id AND s.finished) AS finished, "
            "(SELECT count(*) FROM sequence_queue w WHERE w.sequence = q.id) AS queued "
            "FROM sequences q LEFT JOIN purposes p ON p.id = q.purpose ORDER BY q.made_at, q.id"
        )
    )


def running(db: sqlite3.Connection) -> list[Sequence]:
    """The sequences that run."""
    return Sequence.read_all(db.execute(f"{_WHOLE} WHERE q.state = ? ORDER BY q.id", (SequenceState.RUNNING,)))


def state_of(db: sqlite3.Connection, row_id: int) -> str:
    """The state of a sequence."""
    row = db.execute("SELECT state FROM sequences WHERE id = ?", (row_id,)).fetchone()
    return str(row["state"]) if row else SequenceState.ENDED


def ended_with_somebody(db: sqlite3.Connection) -> list[SequenceId]:
    """Ended sequences that somebody is still in or waits for: the process that ended them was cut off."""
    rows = db.execute(
        "SELECT q.id FROM sequences q WHERE q.state = ? AND (EXISTS (SELECT 1 FROM sequence_queue w WHERE w.sequence = q.id) "
        "OR EXISTS (SELECT 1 FROM enrolments t WHERE t.sequence = q.id AND t.left_at IS NULL))",
        (SequenceState.ENDED,),
    )
    return [SequenceId(r["id"]) for r in rows]


def pause(db: sqlite3.Connection, row_id: int, word: str, why: str = "") -> None:
    """Nobody goes on, and no mail of its steps: those are held with a word; ``why`` where it paused itself."""
    update(db, row_id, {"state": "paused", "paused_why": why})
    db.execute(
        "UPDATE campaigns SET state = ?, paused_why = ? WHERE sequence = ? AND state = ?",
        (CampaignState.PAUSED, word, row_id, CampaignState.SENDING),
    )


def add_version(db: sqlite3.Connection, row_id: int, n: int, definition: str, who: str, now: int) -> None:
    """Keep a version of a sequence's steps, as JSON."""
    db.execute("INSERT INTO sequence_versions VALUES (?, ?, ?, ?, ?)", (row_id, n, now, who, definition))


def versions(db: sqlite3.Connection, row_id: int) -> list[SequenceVersion]:
    """The versions of a sequence, first to last."""
    return SequenceVersion.read_all(
        db.execute("SELECT n, at, who, definition FROM sequence_versions WHERE sequence = ? ORDER BY n", (row_id,))
    )


# steps that mail


def mails(db: sqlite3.Connection, row_id: SequenceId) -> dict[int, Campaign]:
    """The campaign behind each message step, by the step's key."""
    return {int(c.step or 0): c for c in campaigns.of_sequence(db, row_id)}


def tie(
    db: sqlite3.Connection, campaign: CampaignId, sequence: SequenceId, step: int, kind: str, gate: str, asks: str
) -> None:
    """Make a campaign the mail of a step."""
    db.execute(
        "UPDATE campaigns SET sequence = ?, step = ?, kind = ?, gate = ?, asks = ?, with_sequences = 1 WHERE id = ?",
        (sequence, step, kind, gate, asks, campaign),
    )


def highest_key(db: sqlite3.Connection, row_id: int) -> int:
    """The highest key a step has ever had, those taken away counted, so that no other step is taken for one of them."""
    row = db.execute(
        "SELECT max(key) AS key FROM (SELECT max(step) AS key FROM campaigns WHERE sequence = ? UNION ALL "
        "SELECT max(s.value ->> 'key') FROM sequence_versions v, json_each(v.definition, '$.steps') s WHERE v.sequence = ? "
        "UNION ALL SELECT max(s.value ->> 'key') FROM sequences q, json_each(q.definition, '$.steps') s WHERE q.id = ?)",
        (row_id, row_id, row_id),
    ).fetchone()
    return int(row["key"] or 0)


def way_out(db: sqlite3.Connection, campaign: CampaignId, kind: str) -> tuple[int, int] | None:
    """(send, batch) by which a step's mail goes out."""
    row = db.execute(
        "SELECT q.id AS send, b.id AS batch FROM sends q JOIN batches b ON b.send = q.id WHERE q.campaign = ? AND q.kind = ?",
        (campaign, kind),
    ).fetchone()
    return (int(row["send"]), int(row["batch"])) if row else None


def set_arms(db: sqlite3.Connection, send_id: int, variants: str) -> None:
    """Write the variants of a send, as JSON."""
    db.execute("UPDATE sends SET variants = ? WHERE id = ?", (variants, send_id))


MailRow = tuple[
    int, int, int, int, int, str, str | None, int, int | None
]  # send, batch, subscriber, enrolment, band, state, reason, now, chance in ten-thousandths


def add_mail(db: sqlite3.Connection, rows: Many[MailRow]) -> None:
    """Messages of steps; what is there already stays as it is."""
    db.executemany(
        "INSERT OR IGNORE INTO deliveries (send, batch, subscriber, enrolment, band, state, reason, changed_at, "
        "chance) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
        rows,
    )


def next_step(db: sqlite3.Connection) -> NextStep | None:
    """The sequence that somebody is due in next, and when."""
    return NextStep.read(
        db.execute(
            "SELECT min(e.due_at) AS at, q.name FROM sequences q JOIN enrolments e ON e.sequence = q.id "
            "WHERE q.state = ? AND e.left_at IS NULL AND e.due_at IS NOT NULL GROUP BY q.id ORDER BY 1, q.id LIMIT 1",
            (SequenceState.RUNNING,),
        )
    )


def day_of(db: sqlite3.Connection, begin: int, end: int) -> list[StepsOfHour]:
    """(sequence, name, hour after ``begin``, people due in it) of those that run."""
    return StepsOfHour.read_all(
        db.execute(
            "SELECT q.id AS sequence, q.name, max(0, t.due_at - ?1) / 3600 AS hour, count(*) AS people FROM sequences q "
            f"JOIN enrolments t ON t.sequence = q.id WHERE q.state = '{SequenceState.RUNNING}' AND t.left_at IS NULL "
            "AND t.due_at IS NOT NULL AND t.due_at < ?2 GROUP BY 1, 3 ORDER BY q.name, 3",
            (begin, end),
        )
    )


def sent_since(db: sqlite3.Connection, since: int) -> dict[int, int]:
    """By sequence, how many messages were sent since a moment."""
    rows = db.execute(
        "SELECT c.sequence, count(*) AS n FROM campaigns c CROSS JOIN sends q ON q.campaign = c.id "
        "CROSS JOIN deliveries d INDEXED BY deliveries_changed ON d.send = q.id AND d.changed_at >= ? AND d.state = ? "
        "WHERE c.sequence IS NOT NULL GROUP BY 1",
        (since, DeliveryState.SENT),
    )
    return {int(r["sequence"]): int(r["n"]) for r in rows}


# what one sees


def steps(db: sqlite3.Connection, row_id: int) -> list[StepCount]:
    """(step, people who stand there, of them due by their clock, next due) of those inside."""
    return StepCount.read_all(
        db.execute(
            "SELECT step, count(*) AS people, sum(due_at IS NULL) AS mailing, min(due_at) AS next FROM enrolments "
            "WHERE sequence = ? AND left_at IS NULL GROUP BY step",
            (row_id,),
        )
    )


def left(db: sqlite3.Connection, row_id: int) -> list[LeftCount]:
    """(step, why, people) of those who left before the end."""
    return LeftCount.read_all(
        db.execute(
            "SELECT step, exit_reason AS why, count(*) AS people FROM enrolments WHERE sequence = ? AND left_at IS NOT NULL "
            "AND NOT finished GROUP BY 1, 2 ORDER BY 3 DESC",
            (row_id,),
        )
    )


def passages(db: sqlite3.Connection, row_id: int) -> dict[int, int]:
    """How many passed each step."""
    rows = db.execute(
        "SELECT p.step, count(*) AS n FROM enrolment_steps p JOIN enrolments t ON t.id = p.enrolment "
        "WHERE t.sequence = ? GROUP BY 1",
        (row_id,),
    )
    return {int(r["step"]): int(r["n"]) for r in rows}


def at_step(db: sqlite3.Connection, row_id: int, step: int, limit: int, offset: int = 0, text: str = "") -> list[Waiting]:
    """People who stand at a step, of those with each word of ``text`` in address or name: who goes next first. A limit of
    -1 is none."""
    holds, words = words_hold(text, "s")
    return Waiting.read_all(
        db.execute(
            "SELECT t.id, t.subscriber, s.email, s.name, t.since, t.due_at, t.run, "
            f"(SELECT x.next_at FROM deliveries x WHERE x.enrolment = t.id AND x.state = '{DeliveryState.DEFERRED}' "
            f"ORDER BY x.id "
            "DESC LIMIT 1) AS again "
            "FROM enrolments t JOIN subscribers s ON s.id = t.subscriber WHERE t.sequence = ? AND t.step = ? "
            f"AND t.left_at IS NULL {holds}ORDER BY coalesce(t.due_at, 0), t.id LIMIT ? OFFSET ?",
            (row_id, step, *words, limit, offset),
        )
    )


def how_many_at_step(db: sqlite3.Connection, row_id: int, step: int, text: str = "") -> int:
    """How many stand at a step, of those with each word of ``text`` in address or name."""
    holds, words = words_hold(text, "s")
    sql = (
        "SELECT count(*) FROM enrolments t JOIN subscribers s ON s.id = t.subscriber WHERE t.sequence = ? AND t.step = ? "
        f"AND t.left_at IS NULL {holds}"
    )
    return int(db.execute(sql, (row_id, step, *words)).fetchone()[0])


def enrolment(db: sqlite3.Connection, row_id: int) -> EnrolledPerson | None:
    """An enrolment, or None."""
    return EnrolledPerson.read(
        db.execute(
            "SELECT t.*, s.time_zone, s.email FROM enrolments t JOIN subscribers s ON s.id = t.subscriber WHERE t.id = ?",
            (row_id,),
        )
    )


def sent(db: sqlite3.Connection, row_id: int) -> list[SentMail]:
    """Each delivery of a sequence's mails that has come to something: (step, kind of pass, message, subscriber, enrolment,
    when, state, reason, in the holdout group, chance)."""
    return SentMail.read_all(
        db.execute(
            "SELECT c.step, q.kind, c.message, d.subscriber, d.enrolment, d.changed_at AS at, d.state, d.reason, "
            "t.holdout, d.chance FROM campaigns c JOIN sends q ON q.campaign = c.id JOIN deliveries d ON d.send = q.id "
            "JOIN enrolments t ON t.id = d.enrolment WHERE c.sequence = ?",
            (row_id,),
        )
    )


def passed_over_inside(db: sqlite3.Connection, row_id: int, others: Collection[int]) -> int:
    """How many people inside would be mailed by campaigns about the purposes that these are about, were they not inside."""
    few = ",".join(map(str, others))
    return int(
        db.execute(
            "SELECT count(DISTINCT t.subscriber) AS n FROM enrolments t JOIN consent_entries e "
            f"ON e.subscriber = t.subscriber AND e.purpose IN (SELECT purpose FROM campaigns WHERE id IN ({few})) "
            "AND e.state = 1 AND NOT e.void WHERE t.sequence = ? AND t.left_at IS NULL",
            (row_id,),
        ).fetchone()["n"]
    )
