"""The ledger: a campaign's passes, their batches, and one row a person and pass."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence

import numpy as np

from openmeadow.core.arrays import I64
from openmeadow.core.ids import BatchId, CampaignId, MessageId, SubscriberId
from openmeadow.core.states import BatchState, CampaignState, DeliveryState, SendKind, SequenceState
from openmeadow.store.bulk import Many, insert_many, read_columns
from openmeadow.store.campaigns.records import (
    Batch,
    BatchCounts,
    BatchPerson,
    CampaignDelivery,
    ComingBatch,
    DueBatch,
    ExternalPending,
    FailedDelivery,
    MovedBatch,
    QueuedDelivery,
    Send,
    SettledDelivery,
    UnconfirmedCampaign,
    UnconfirmedDelivery,
    UnconfirmedWithEvent,
    UnderWay,
)

QUEUED, SENDING, SENT, DEFERRED = DeliveryState.QUEUED, DeliveryState.SENDING, DeliveryState.SENT, DeliveryState.DEFERRED
FAILED, UNCONFIRMED, SKIPPED = DeliveryState.FAILED, DeliveryState.UNCONFIRMED, DeliveryState.SKIPPED


def add_pass(
    db: sqlite3.Connection, campaign: CampaignId, kind: str, variants: str = "[]", holdout_share: float = 0.0
) -> int:
    """Begin a send of a campaign; its id. ``variants`` is JSON, ``holdout_share`` a share of 1."""
    return int(
        db.execute(
            "INSERT INTO sends (campaign, kind, variants, holdout_share) VALUES (?, ?, ?, ?)",
            (campaign, kind, variants, holdout_share),
        ).lastrowid
        or 0
    )


def passes(db: sqlite3.Connection, campaign: CampaignId) -> list[Send]:
    """The sends of a campaign, first to last."""
    return Send.read_all(db.execute("SELECT * FROM sends WHERE campaign = ? ORDER BY id", (campaign,)))


def add_batch(db: sqlite3.Connection, send_id: int, n: int, due_at: int, people: int, variant: int = 0) -> BatchId:
    """``variant`` counts from 1 for the part of a resend's batch that waits longer."""
    return BatchId(
        db.execute(
            "INSERT INTO batches (send, n, variant, due_at, people) VALUES (?, ?, ?, ?, ?)",
            (send_id, n, variant, due_at, people),
        ).lastrowid
        or 0
    )


_COUNTS = ", ".join(
    f"count(*) FILTER (WHERE d.state = '{state}') AS {name}"
    for state, name in (
        (SENT, "sent"),
        (QUEUED, "waiting"),
        (DEFERRED, "deferred"),
        (FAILED, "failed"),
        (UNCONFIRMED, "unconfirmed"),
        (SKIPPED, "passed_over"),
    )
)


def batches(db: sqlite3.Connection, campaign: CampaignId) -> list[BatchCounts]:
    """All batches with how many of their deliveries stand in each state."""
    return BatchCounts.read_all(
        db.execute(
            f"SELECT b.*, q.campaign, q.kind, q.variants, q.holdout_share, {_COUNTS} "
            "FROM batches b JOIN sends q ON q.id = b.send LEFT JOIN deliveries d ON d.batch = b.id "
            "WHERE q.campaign = ? GROUP BY b.id ORDER BY q.kind, b.variant, b.n",
            (campaign,),
        )
    )


def batch(db: sqlite3.Connection, row_id: int) -> Batch | None:
    """A batch with its counts, or None."""
    return Batch.read(
        db.execute(
            "SELECT b.*, q.campaign, q.kind, q.variants, q.holdout_share FROM batches b "
            "JOIN sends q ON q.id = b.send WHERE b.id = ?",
            (row_id,),
        )
    )


def set_batch(
    db: sqlite3.Connection, row_id: int, state: str, *, people: int | None = None, sent_at: int | None = None
) -> None:
    """Put a batch in a state, with other columns of it."""
    db.execute(
        "UPDATE batches SET state = ?, people = coalesce(?, people), sent_at = coalesce(?, sent_at) WHERE id = ?",
        (state, people, sent_at, row_id),
    )


def set_batches(db: sqlite3.Connection, campaign: CampaignId, from_states: Sequence[str], to: str) -> None:
    """Put all batches of a campaign that are in some states in another."""
    marks = ",".join("?" * len(from_states))
    db.execute(
        f"UPDATE batches SET state = ? WHERE state IN ({marks}) AND send IN (SELECT id FROM sends WHERE campaign = ?)",
        (to, *from_states, campaign),
    )


def due_batches(db: sqlite3.Connection, now: int) -> list[DueBatch]:
    """(id, campaign) of batches whose moment has come, and of those gone in which somebody waits for a second try."""
    return DueBatch.read_all(
        db.execute(
            "SELECT b.id, c.id AS campaign FROM batches b JOIN sends q ON q.id = b.send JOIN campaigns c ON c.id = q.campaign "
            "WHERE NOT c.external AND b.due_at <= ? AND (b.state IN (?, ?) AND c.state IN (?, ?) "
            "OR b.state = ? AND c.state IN (?, ?, ?)) "
            "AND (c.sequence IS NULL AND b.state <> ? "
            "OR EXISTS (SELECT 1 FROM deliveries d WHERE d.batch = b.id AND d.state = ?)) "
            "ORDER BY c.sequence IS NULL, b.state <> ?, b.due_at, b.id",
            (
                now,
                BatchState.SCHEDULED,
                BatchState.SENDING,
                CampaignState.SCHEDULED,
                CampaignState.SENDING,
                BatchState.SENT,
                CampaignState.SCHEDULED,
                CampaignState.SENDING,
                CampaignState.FINISHED,
                BatchState.SENT,
                DeliveryState.QUEUED,
                BatchState.SENT,
            ),
        )
    )


def sending_now(db: sqlite3.Connection) -> int:
    """How many batches are on their way; a sequence's only while somebody waits in it."""
    row = db.execute(
        "SELECT count(*) AS n FROM batches b JOIN sends q ON q.id = b.send JOIN campaigns c ON c.id = q.campaign "
        "WHERE b.state = ? AND NOT c.external AND (c.sequence IS NULL OR (c.state = ? AND EXISTS "
        "(SELECT 1 FROM deliveries d WHERE d.batch = b.id AND d.state = ?)))",
        (BatchState.SENDING, CampaignState.SENDING, DeliveryState.QUEUED),
    ).fetchone()
    return int(row["n"])


def anything_sent(db: sqlite3.Connection) -> bool:
    """Whether a campaign was ever started here."""
    return db.execute("SELECT 1 FROM campaigns WHERE started_at IS NOT NULL LIMIT 1").fetchone() is not None


def next_due(db: sqlite3.Connection) -> int | None:
    """The moment of the next batch or second try, over campaigns that are not held. Of those that another program sends
    only resends still to be drawn."""
    row = db.execute(
        "SELECT min(at) AS at FROM (SELECT min(b.due_at) AS at FROM batches b JOIN sends q ON q.id = b.send "
        "JOIN campaigns c ON c.id = q.campaign WHERE c.state IN (?, ?) AND c.sequence IS NULL AND "
        "(NOT c.external AND b.state IN (?, ?) OR c.external AND b.state = ? AND q.kind <> ?) "
        "UNION ALL SELECT min(d.next_at) FROM deliveries d JOIN sends q ON q.id = d.send "
        "JOIN campaigns c ON c.id = q.campaign "
        "WHERE d.state = 'deferred' AND c.state IN (?, ?, ?))",
        (
            CampaignState.SCHEDULED,
            CampaignState.SENDING,
            BatchState.SCHEDULED,
            BatchState.SENDING,
            BatchState.SCHEDULED,
            SendKind.FIRST,
            CampaignState.SCHEDULED,
            CampaignState.SENDING,
            CampaignState.FINISHED,
        ),
    ).fetchone()
    return None if row["at"] is None else int(row["at"])


def coming(db: sqlite3.Connection, since: int, until: int) -> list[ComingBatch]:
    """The batches that are due between two moments, by moment."""
    return ComingBatch.read_all(
        db.execute(
            "SELECT b.*, q.kind, c.id AS campaign, c.name, c.state AS campaign_state, c.external, "
            "(SELECT count(*) FROM deliveries d WHERE d.batch = b.id AND d.state = ?) AS sent "
            "FROM batches b JOIN sends q ON q.id = b.send JOIN campaigns c ON c.id = q.campaign "
            "WHERE c.sequence IS NULL AND (b.due_at BETWEEN ? AND ? OR b.state = ?) AND b.state <> ? "
            "ORDER BY b.due_at",
            (DeliveryState.SENT, since, until, BatchState.SENDING, BatchState.STOPPED),
        )
    )


def external_pending(db: sqlite3.Connection, now: int) -> list[ExternalPending]:
    """(campaign, name, kind, people) whose batch's moment has come and of which another system's log has not told."""
    return ExternalPending.read_all(
        db.execute(
            "SELECT c.id AS campaign, c.name, q.kind, count(*) AS people FROM campaigns c "
            "CROSS JOIN sends q ON q.campaign = c.id "
            "CROSS JOIN batches b ON b.send = q.id CROSS JOIN deliveries d ON d.batch = b.id WHERE c.external AND c.state IN "
            "('scheduled', 'sending') AND b.due_at <= ? AND b.state <> ? AND d.state = ? GROUP BY q.id ORDER BY q.id",
            (now, BatchState.SENT, DeliveryState.QUEUED),
        )
    )


def add_deliveries(db: sqlite3.Connection, rows: Many[tuple[int, int, int, int, int, str, str | None]]) -> None:
    """(send, batch, subscriber, variant, band, state, reason); a person already in the pass stays as they are."""
    head = "INSERT OR IGNORE INTO deliveries (send, batch, subscriber, variant, band, state, reason)"
    insert_many(db, head, rows, 7)


def waiting_of(db: sqlite3.Connection, batch_id: int, limit: int, after: int = 0) -> list[QueuedDelivery]:
    """Who waits in a batch, by subscriber, from behind one of them on."""
    return QueuedDelivery.read_all(
        db.execute(
            "SELECT d.*, s.email, s.name, s.fields, s.provider FROM deliveries d JOIN subscribers s "
            "ON s.id = d.subscriber WHERE d.batch = ? AND d.state = ? AND d.subscriber > ? "
            "ORDER BY d.subscriber LIMIT ?",
            (batch_id, DeliveryState.QUEUED, after, limit),
        )
    )


def people_of_batch(db: sqlite3.Connection, batch_id: int) -> list[BatchPerson]:
    """(id, subscriber, state, reason) of everybody in a batch."""
    return BatchPerson.read_all(
        db.execute(
            "SELECT id, subscriber, state, reason FROM deliveries WHERE batch = ? ORDER BY subscriber", (batch_id,)
        )
    )


def batches_ahead(db: sqlite3.Connection, campaign: CampaignId) -> list[MovedBatch]:
    """The batches of a campaign that have not ended, with their moments."""
    return MovedBatch.read_all(
        db.execute(
            "SELECT b.id, b.due_at FROM batches b JOIN sends q ON q.id = b.send WHERE q.campaign = ? AND b.state IN (?, ?)",
            (campaign, BatchState.SCHEDULED, BatchState.SENDING),
        )
    )


def waiting_in(db: sqlite3.Connection, batches: Sequence[BatchId]) -> I64:
    """The subscribers who still wait in some batches."""
    marks = ",".join("?" * len(batches))
    (found,) = read_columns(
        db,
        f"SELECT subscriber FROM deliveries WHERE batch IN ({marks}) AND state IN (?, ?)",
        (*batches, DeliveryState.QUEUED, DeliveryState.DEFERRED),
        "q",
    )
    return np.asarray(found)


_AGAIN = (
    "state = 'deferred' AND next_at <= ? AND send IN (SELECT q.id FROM sends q JOIN campaigns c ON c.id = q.campaign "
    "WHERE c.state IN ('scheduled', 'sending', 'finished'))"
)


def again_due(db: sqlite3.Connection, now: int) -> bool:
    """Whether anybody's second try has come, in plans that are not held."""
    return db.execute(f"SELECT 1 FROM deliveries WHERE {_AGAIN} LIMIT 1", (now,)).fetchone() is not None


def requeue(db: sqlite3.Connection, now: int) -> None:
    """Who's second try has come waits again, in the batch they were in."""
    db.execute(f"UPDATE deliveries SET state = 'queued' WHERE {_AGAIN}", (now,))


def mark(
    db: sqlite3.Connection, row_id: int, state: str, now: int, reason: str | None = None, next_at: int | None = None
) -> None:
    """Put a delivery in a state at a moment; ``next_at`` is when it is tried again."""
    db.execute(
        "UPDATE deliveries SET state = ?, changed_at = ?, reason = ?, next_at = ?, "
        "attempts = attempts + (?1 = 'sending') WHERE id = ?",
        (state, now, reason, next_at, row_id),
    )


def put_back(db: sqlite3.Connection, ids: Sequence[int], now: int) -> None:
    """These wait again as if their last try had not been."""
    db.executemany(
        "UPDATE deliveries SET state = 'queued', reason = NULL, next_at = NULL, changed_at = ?, "
        "attempts = max(attempts - 1, 0) WHERE id = ?",
        [(now, row_id) for row_id in ids],
    )


def begin_sending(db: sqlite3.Connection, row_id: int, version: int, now: int) -> None:
    """Written before DATA, with what is said."""
    mark(db, row_id, SENDING, now)
    db.execute("UPDATE deliveries SET version = ? WHERE id = ?", (version, row_id))


def set_versions(db: sqlite3.Connection, rows: Many[tuple[int, int, int]]) -> None:
    """(version, pass, subscriber): what was drawn at random before anything goes out."""
    db.executemany("UPDATE deliveries SET version = ? WHERE send = ? AND subscriber = ?", rows)


def state_counts(db: sqlite3.Connection, campaign: CampaignId) -> dict[str, int]:
    """How many deliveries of a campaign stand in each state."""
    rows = db.execute(
        "SELECT state, count(*) AS n FROM deliveries WHERE batch IN (SELECT b.id FROM batches b JOIN sends q ON q.id = b.send "
        "WHERE q.campaign = ?) GROUP BY state",
        (campaign,),
    )
    return {r["state"]: r["n"] for r in rows}


def sent_by_provider(db: sqlite3.Connection, since: int) -> dict[int, int]:
    """How many each provider was sent since a moment, over all plans."""
    rows = db.execute(
        "SELECT s.provider, count(*) AS n FROM deliveries d JOIN subscribers s ON s.id = d.subscriber "
        "WHERE d.state = 'sent' AND d.changed_at >= ?1 AND d.send IN (SELECT DISTINCT b.send FROM batches b "
        "WHERE b.state IN ('scheduled', 'sending') OR coalesce(b.sent_at, ?1) >= ?1) GROUP BY 1",
        (since,),
    )
    return {r["provider"]: r["n"] for r in rows}


def resent_often(db: sqlite3.Connection, since: int, most: int) -> set[int]:
    """Who got that many resends or more since a moment, over all campaigns."""
    rows = db.execute(
        "SELECT d.subscriber FROM sends q CROSS JOIN deliveries d ON d.send = q.id WHERE q.kind <> ? "
        "AND d.state = ? AND d.changed_at > ? GROUP BY 1 HAVING count(*) >= ?",
        (SendKind.FIRST, DeliveryState.SENT, since, most),
    )
    return {int(r["subscriber"]) for r in rows}


def first_moment(db: sqlite3.Connection, campaign: CampaignId) -> int:
    """When the first batch of a campaign goes or went out."""
    row = db.execute(
        "SELECT min(b.due_at) AS at FROM batches b JOIN sends q ON q.id = b.send WHERE q.campaign = ? AND q.kind = ?",
        (campaign, SendKind.FIRST),
    ).fetchone()
    return int(row["at"] or 0)


def move_batch(db: sqlite3.Connection, row_id: int, due_at: int) -> None:
    """Give a batch another moment."""
    db.execute("UPDATE batches SET due_at = ? WHERE id = ? AND state = ?", (due_at, row_id, BatchState.SCHEDULED))


def delay_after(db: sqlite3.Connection, campaign: CampaignId, kind: str, n: int, delay: int) -> list[MovedBatch]:
    """(id, due_at) of what waits and comes after a batch of the first send, or of a resend: later batches of the pass, and
    the resends of this batch and of those; each moved by a delay."""
    later = {
        "first": "(q.kind = 'first' AND b.n > ?2 OR q.kind <> 'first' AND b.n >= ?2)",
        "resend": "(q.kind = 'second resend' AND b.n = ?2)",
    }
    if kind not in later:
        return []
    return MovedBatch.read_all(
        db.execute(
            "UPDATE batches SET due_at = due_at + ?3 WHERE state = 'scheduled' AND id IN (SELECT b.id FROM batches b "
            f"JOIN sends q ON q.id = b.send WHERE q.campaign = ?1 AND {later[kind]}) RETURNING id, due_at",
            (campaign, n, delay),
        )
    )


def set_late(db: sqlite3.Connection, row_id: int, late: int) -> None:
    """How many seconds after its moment a batch went out."""
    db.execute("UPDATE batches SET late = ? WHERE id = ?", (late, row_id))


def caught_between(db: sqlite3.Connection, now: int) -> int:
    """Rows a dead worker left between DATA and its result are unconfirmed: they may or may not have arrived."""
    return db.execute(
        "UPDATE deliveries SET state = ?, changed_at = ?, reason = 'the worker stopped between "
        "sending and its answer' WHERE state = 'sending'",
        (DeliveryState.UNCONFIRMED, now),
    ).rowcount


def delivery(db: sqlite3.Connection, row_id: int) -> CampaignDelivery | None:
    """A delivery, or None."""
    return CampaignDelivery.read(
        db.execute(
            "SELECT d.*, q.campaign, q.kind, q.variants, c.message, c.purpose, c.name AS campaign_name, "
            "c.kind AS campaign_kind, c.asks "
            "FROM deliveries d "
            "JOIN sends q ON q.id = d.send JOIN campaigns c ON c.id = q.campaign WHERE d.id = ?",
            (row_id,),
        )
    )


def of_person(db: sqlite3.Connection, campaign: CampaignId, subscriber: SubscriberId) -> list[str]:
    """What became of one person's deliveries of a campaign, in words."""
    rows = db.execute(
        "SELECT q.kind, d.state, d.reason FROM deliveries d JOIN sends q ON q.id = d.send "
        "WHERE q.campaign = ? AND d.subscriber = ? ORDER BY q.id",
        (campaign, subscriber),
    )
    return [f"{r['kind']}: {r['state']}" + (f", {r['reason']}" if r["reason"] else "") for r in rows]


def stop_waiting(db: sqlite3.Connection, campaign: CampaignId, now: int) -> int:
    """Skip everybody of a campaign who still waits; how many."""
    return db.execute(
        "UPDATE deliveries SET state = ?, reason = 'the plan was stopped', changed_at = ? "
        "WHERE state IN ('queued', 'deferred') AND send IN (SELECT id FROM sends WHERE campaign = ?)",
        (DeliveryState.SKIPPED, now, campaign),
    ).rowcount


def skip(db: sqlite3.Connection, row_id: int, why: str, now: int) -> int:
    """One delivery, where it still waits; 1 if it did."""
    return db.execute(
        "UPDATE deliveries SET state = ?, reason = ?, changed_at = ? WHERE id = ? AND state = ?",
        (DeliveryState.SKIPPED, why, now, row_id, DeliveryState.QUEUED),
    ).rowcount


def skip_rest(db: sqlite3.Connection, batch_id: int, why: str, now: int) -> None:
    """Everyone who still waits in a batch is skipped."""
    db.execute(
        "UPDATE deliveries SET state = ?, reason = ?, changed_at = ? WHERE batch = ? AND state = ?",
        (DeliveryState.SKIPPED, why, now, batch_id, DeliveryState.QUEUED),
    )


NOT_KNOWN_SENT = "(state = 'queued' OR state = 'skipped' AND reason <> 'holdout')"  # an older file was sent
SENT_OR_DELIVERED = "e.message = ? AND e.kind IN (1, 2)"  # either stands for both, in an event log


def waiting_for_word(db: sqlite3.Connection, campaign: CampaignId) -> I64:
    """The subscribers of a campaign of whom it is not known that another program sent to them, ascending."""
    (found,) = read_columns(
        db,
        f"SELECT d.subscriber FROM sends q CROSS JOIN deliveries d ON d.send = q.id WHERE q.campaign = ? AND {NOT_KNOWN_SENT}",
        (campaign,),
        "q",
    )
    return np.unique(found)


def told_since(db: sqlite3.Connection, message: MessageId, seen: int) -> I64:
    """The subscribers of whom events after event ``seen`` say that a message was sent to them, ascending."""
    (found,) = read_columns(
        db, "SELECT subscriber FROM events WHERE id > ? AND +message = ? AND +kind IN (1, 2)", (seen, message), "q"
    )
    return np.unique(found)


def report_external(db: sqlite3.Connection, campaign: CampaignId, message: MessageId, of: Sequence[int]) -> int:
    """Whose message another program says it sent is sent, at that moment: of the first send by the first it says,
    of a resend by one after the batch's moment. ``of`` are the subscribers to look at. How many were new."""
    first = f"SELECT min(e.at) FROM events e WHERE e.subscriber = deliveries.subscriber AND {SENT_OR_DELIVERED}"
    again = (
        f"SELECT min(e.at) FROM events e JOIN batches b ON b.id = deliveries.batch WHERE e.subscriber = "
        f"deliveries.subscriber AND e.at >= b.due_at AND {SENT_OR_DELIVERED}"
    )
    told = 0
    for r in db.execute("SELECT id, kind FROM sends WHERE campaign = ?", (campaign,)).fetchall():
        at = first if r["kind"] == "first" else again
        told += db.execute(
            f"UPDATE deliveries SET state = 'sent', reason = NULL, changed_at = ({at}) WHERE id IN "
            f"(SELECT id FROM deliveries WHERE send = ? AND subscriber IN ({','.join(map(str, map(int, of)))}) "
            f"AND {NOT_KNOWN_SENT}) AND ({at}) IS NOT NULL",
            (message, r["id"], message),
        ).rowcount
    return int(told)


def unconfirmed(db: sqlite3.Connection) -> list[UnconfirmedCampaign]:
    """How many deliveries of each campaign are unconfirmed."""
    return UnconfirmedCampaign.read_all(
        db.execute(
            "SELECT c.id, c.name, count(*) AS people FROM deliveries d JOIN sends q ON q.id = d.send "
            "JOIN campaigns c ON c.id = q.campaign WHERE d.state = 'unconfirmed' GROUP BY c.id"
        )
    )


def unconfirmed_of(db: sqlite3.Connection, campaign: CampaignId, limit: int) -> list[UnconfirmedDelivery]:
    """(id, subscriber, changed_at, reason, email, name) of what is unconfirmed, by moment; -1 for all of it."""
    return UnconfirmedDelivery.read_all(
        db.execute(
            "SELECT d.id, d.subscriber, d.changed_at, d.reason, s.email, s.name FROM deliveries d "
            "JOIN subscribers s ON s.id = d.subscriber WHERE d.state = 'unconfirmed' "
            "AND d.send IN (SELECT id FROM sends WHERE campaign = ?) ORDER BY d.changed_at, d.id LIMIT ?",
            (campaign, limit),
        )
    )


def unconfirmed_with_events(db: sqlite3.Connection) -> list[UnconfirmedWithEvent]:
    """(id, campaign) of unconfirmed deliveries of which something came since."""
    return UnconfirmedWithEvent.read_all(
        db.execute(
            "SELECT d.id, q.campaign FROM deliveries d JOIN sends q ON q.id = d.send JOIN campaigns c ON c.id = q.campaign "
            "WHERE d.state = 'unconfirmed' AND EXISTS (SELECT 1 FROM events e WHERE e.subscriber = d.subscriber "
            "AND e.message = c.message AND e.kind >= 4 AND e.at >= d.changed_at)"
        )
    )


def resolve_unconfirmed(
    db: sqlite3.Connection, campaign: CampaignId, arrived: bool, only: Sequence[int] | None
) -> list[SettledDelivery]:
    """What is unconfirmed is sent after all, at the moment it was tried, or waits again. The rows that changed."""
    out: list[SettledDelivery] = []
    sql = (
        "UPDATE deliveries SET state = ?, reason = 'settled by hand', next_at = NULL WHERE state = 'unconfirmed' AND "
        "send IN (SELECT id FROM sends WHERE campaign = ?){} RETURNING id, subscriber, batch, changed_at, "
        "(SELECT campaign FROM sends WHERE sends.id = deliveries.send) AS campaign"
    )
    state = SENT if arrived else QUEUED
    if only is None:
        return SettledDelivery.read_all(db.execute(sql.format(""), (state, campaign)))
    for i in range(0, len(only), 500):
        some = only[i : i + 500]
        marks = ",".join("?" * len(some))
        out += SettledDelivery.read_all(db.execute(sql.format(f" AND id IN ({marks})"), (state, campaign, *some)))
    return out


def under_way(db: sqlite3.Connection) -> list[UnderWay]:
    """(id, name, waiting) of plans and running sequences in which something is still to be sent."""
    return UnderWay.read_all(
        db.execute(
            "SELECT c.id, c.name, (SELECT count(*) FROM deliveries d JOIN sends q ON q.id = d.send WHERE q.campaign = c.id "
            "AND d.state IN ('queued', 'deferred', 'sending', 'unconfirmed')) AS waiting FROM campaigns c "
            "LEFT JOIN sequences s ON s.id = c.sequence WHERE NOT c.external AND (c.sequence IS NULL AND c.state IN "
            "('scheduled', 'sending', 'paused') OR c.sequence IS NOT NULL AND s.state IN (?, ?)) ORDER BY c.id",
            (SequenceState.RUNNING, SequenceState.PAUSED),
        )
    )


def mark_sent(db: sqlite3.Connection, ids: Sequence[int], now: int) -> list[SettledDelivery]:
    """Of these, what had not been sent as far as the deliveries knows is sent now. The rows that changed, with campaign."""
    out: list[SettledDelivery] = []
    for i in range(0, len(ids), 500):
        some = ids[i : i + 500]
        rows = db.execute(
            "UPDATE deliveries SET state = 'sent', reason = 'settled by the relay''s log', next_at = NULL, "
            "changed_at = coalesce(changed_at, ?) WHERE state IN ('queued', 'deferred', 'sending', 'unconfirmed', "
            f"'skipped') AND id IN ({','.join('?' * len(some))}) RETURNING id, subscriber, batch, changed_at, "
            "(SELECT campaign FROM sends WHERE sends.id = deliveries.send) AS campaign",
            (now, *some),
        )
        out += SettledDelivery.read_all(rows)
    return out


def recount_people(db: sqlite3.Connection, campaign: CampaignId) -> None:
    """What still waits of a campaign holds as many people as are not skipped."""
    db.execute(
        "UPDATE batches SET people = (SELECT count(*) FROM deliveries d WHERE d.batch = batches.id "
        "AND d.state <> ?) WHERE state IN ('scheduled', 'sending', 'paused') "
        "AND send IN (SELECT id FROM sends WHERE campaign = ? AND kind = ?)",
        (DeliveryState.SKIPPED, campaign, SendKind.FIRST),
    )


def failed_of(db: sqlite3.Connection, campaign: CampaignId) -> list[FailedDelivery]:
    """(id, batch, attempts, reason) of what failed at the relay."""
    return FailedDelivery.read_all(
        db.execute(
            "SELECT id, batch, attempts, reason FROM deliveries WHERE state = ? "
            "AND send IN (SELECT id FROM sends WHERE campaign = ?) ORDER BY id",
            (DeliveryState.FAILED, campaign),
        )
    )


def requeue_blocked(db: sqlite3.Connection, campaign: CampaignId) -> int:
    """Who was put off because the sender was blocked waits again at once. How many."""
    return db.execute(
        "UPDATE deliveries SET state = ? WHERE state = 'deferred' AND reason LIKE 'blocked%' "
        "AND send IN (SELECT id FROM sends WHERE campaign = ?)",
        (DeliveryState.QUEUED, campaign),
    ).rowcount


def unsettled(db: sqlite3.Connection, batch_id: int) -> int:
    """How many deliveries of a batch are queued or being sent."""
    return int(
        db.execute(
            "SELECT count(*) AS n FROM deliveries WHERE batch = ? AND state IN ('queued', 'sending')", (batch_id,)
        ).fetchone()["n"]
    )


def open_batches(db: sqlite3.Connection, campaign: CampaignId) -> int:
    """How many batches of a campaign have not ended."""
    return int(
        db.execute(
            "SELECT count(*) AS n FROM batches b JOIN sends q ON q.id = b.send WHERE q.campaign = ? "
            "AND b.state IN (?, ?, ?)",
            (campaign, BatchState.SCHEDULED, BatchState.SENDING, BatchState.PAUSED),
        ).fetchone()["n"]
    )


def handing_over(db: sqlite3.Connection, subscriber: SubscriberId) -> bool:
    """Whether a message to the person is between the two entries of its send."""
    return bool(
        db.execute(
            "SELECT 1 FROM deliveries WHERE subscriber = ? AND state IN ('sending', 'unconfirmed') LIMIT 1", (subscriber,)
        ).fetchone()
    )
