"""Deliveries: one row a person and send, its state and what becomes of it."""

from __future__ import annotations

import json
import sqlite3
from collections import Counter
from collections.abc import Sequence

import numpy as np

from openmeadow.core.arrays import I64
from openmeadow.core.ids import BatchId, CampaignId, MessageId, SubscriberId
from openmeadow.core.states import BatchState, CampaignState, DeliveryState, SendKind
from openmeadow.store.bulk import Many, insert_many, read_columns
from openmeadow.store.campaigns.delivery_records import BatchPerson, CampaignDelivery, QueuedDelivery

QUEUED, SENDING, SENT, DEFERRED = DeliveryState.QUEUED, DeliveryState.SENDING, DeliveryState.SENT, DeliveryState.DEFERRED
FAILED, UNCONFIRMED, SKIPPED = DeliveryState.FAILED, DeliveryState.UNCONFIRMED, DeliveryState.SKIPPED


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
        f"WHERE d.state = '{DEFERRED}' AND c.state IN (?, ?, ?))",
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


NewDelivery = tuple[int, int, int, int, int, str, str | None, int | None]


def add_deliveries(db: sqlite3.Connection, rows: Many[NewDelivery]) -> None:
    """(send, batch, subscriber, variant, band, state, reason, chance in ten-thousandths); a person already in the pass
    stays as they are."""
    head = "INSERT OR IGNORE INTO deliveries (send, batch, subscriber, variant, band, state, reason, chance)"
    insert_many(db, head, rows, 8)


def add_some(db: sqlite3.Connection, rows: Sequence[NewDelivery]) -> int:
    """The same; how many were new."""
    before = db.total_changes
    add_deliveries(db, rows)
    return db.total_changes - before


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
    f"state = '{DEFERRED}' AND next_at <= ? AND send IN (SELECT q.id FROM sends q JOIN campaigns c ON "
    f"c.id = q.campaign "
    f"WHERE c.state IN ('{CampaignState.SCHEDULED}', '{CampaignState.SENDING}', '{CampaignState.FINISHED}'))"
)


def again_due(db: sqlite3.Connection, now: int) -> bool:
    """Whether anybody's second try has come, in plans that are not held."""
    return db.execute(f"SELECT 1 FROM deliveries WHERE {_AGAIN} LIMIT 1", (now,)).fetchone() is not None


def requeue(db: sqlite3.Connection, now: int, most: int) -> int:
    """Whose second try has come waits again, in the batch they were in: at most so many. How many."""
    some = f"SELECT id FROM deliveries WHERE {_AGAIN} LIMIT ?"
    return db.execute(f"UPDATE deliveries SET state = '{QUEUED}' WHERE id IN ({some})", (now, most)).rowcount


def mark(
    db: sqlite3.Connection, row_id: int, state: str, now: int, reason: str | None = None, next_at: int | None = None
) -> None:
    """Put a delivery in a state at a moment; ``next_at`` is when it is tried again."""
    db.execute(
        "UPDATE deliveries SET state = ?, changed_at = ?, reason = ?, next_at = ? WHERE id = ?",
        (state, now, reason, next_at, row_id),
    )


def put_back(db: sqlite3.Connection, ids: Sequence[int], now: int) -> None:
    """These wait again as if their last try had not been."""
    db.executemany(
        f"UPDATE deliveries SET state = '{QUEUED}', reason = NULL, next_at = NULL, changed_at = ?, "
        "attempts = max(attempts - 1, 0) WHERE id = ?",
        [(now, row_id) for row_id in ids],
    )


def begin_sending(db: sqlite3.Connection, row_id: int, version: int, now: int) -> bool:
    """Written before DATA, with what is said. False where the delivery does not wait any more."""
    done = db.execute(
        f"UPDATE deliveries SET state = '{SENDING}', changed_at = ?, reason = NULL, next_at = NULL, attempts = attempts + 1, "
        f"version = ? WHERE id = ? AND state = '{QUEUED}'",
        (now, version, row_id),
    )
    return done.rowcount > 0


def set_versions(db: sqlite3.Connection, rows: Many[tuple[int, int, int]]) -> None:
    """(version, pass, subscriber): what was drawn at random before anything goes out."""
    db.executemany("UPDATE deliveries SET version = ? WHERE send = ? AND subscriber = ?", rows)


def state_counts(db: sqlite3.Connection, campaign: CampaignId) -> dict[str, int]:
    """How many deliveries of a campaign stand in each state."""
    rows = db.execute(
        "SELECT state, count(*) AS n FROM deliveries WHERE batch IN (SELECT b.id FROM batches b JOIN sends q ON q.id = b.send "
        "WHERE q.campaign = ?) GROUP BY batch, state",  # in the order of their index
        (campaign,),
    )
    counts = Counter[str]()
    for r in rows:
        counts[r["state"]] += r["n"]
    return dict(counts)


def is_any_tried(db: sqlite3.Connection, campaign: CampaignId) -> bool:
    """Whether anything of a campaign has been tried; nothing is counted."""
    tried = [s for s in DeliveryState if s not in (DeliveryState.QUEUED, DeliveryState.SKIPPED)]
    row = db.execute(
        "SELECT 1 FROM sends q JOIN batches b ON b.send = q.id WHERE q.campaign = ? AND EXISTS (SELECT 1 FROM deliveries d "
        f"WHERE d.batch = b.id AND d.state IN ({', '.join('?' * len(tried))})) LIMIT 1",
        (campaign, *tried),
    ).fetchone()
    return row is not None


UNSETTLED = (DeliveryState.SENDING, DeliveryState.DEFERRED, DeliveryState.UNCONFIRMED)


def unsettled_counts(db: sqlite3.Connection) -> dict[str, int]:
    """How many deliveries of all campaigns and sequences are being sent, put off, or unconfirmed."""
    found = dict.fromkeys((str(s) for s in UNSETTLED), 0)
    where = " OR ".join(f"state = '{state}'" for state in UNSETTLED)  # as the index has it
    rows = db.execute(f"SELECT state, count(*) AS n FROM deliveries WHERE {where} GROUP BY state")
    return found | {r["state"]: int(r["n"]) for r in rows}


def sent_by_provider(db: sqlite3.Connection, since: int) -> dict[int, int]:
    """How many each provider was sent since a moment, over all plans."""
    rows = db.execute(
        "SELECT s.provider, count(*) AS n FROM deliveries d JOIN subscribers s ON s.id = d.subscriber "
        f"WHERE d.state = '{SENT}' AND d.changed_at >= ?1 AND d.send IN (SELECT DISTINCT b.send FROM batches b "
        f"WHERE b.state IN ('{BatchState.SCHEDULED}', '{BatchState.SENDING}') OR coalesce(b.sent_at, ?1) >= ?1) GROUP BY 1",
        (since,),
    )
    return {r["provider"]: r["n"] for r in rows}


def resent_often(db: sqlite3.Connection, since: int, most: int) -> set[int]:
    """Who got that many resends or more since a moment, over all campaigns."""
    rows = db.execute(
        "SELECT d.subscriber FROM sends q CROSS JOIN deliveries d INDEXED BY deliveries_changed ON d.send = q.id "
        "WHERE q.kind <> ? AND d.state = ? AND d.changed_at > ? GROUP BY 1 HAVING count(*) >= ?",
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


def addressed(db: sqlite3.Connection, ids: Sequence[int]) -> dict[int, tuple[SubscriberId, MessageId]]:
    """To whom deliveries went and with which message, by id; those that are gone are left out."""
    rows = db.execute(
        "SELECT d.id, d.subscriber, c.message FROM json_each(?) j JOIN deliveries d ON d.id = j.value "
        "JOIN sends q ON q.id = d.send JOIN campaigns c ON c.id = q.campaign",
        (json.dumps(list(ids)),),
    )
    return {int(r["id"]): (SubscriberId(r["subscriber"]), MessageId(r["message"])) for r in rows}


def of_person(db: sqlite3.Connection, campaign: CampaignId, subscriber: SubscriberId) -> list[str]:
    """What became of one person's deliveries of a campaign, in words."""
    rows = db.execute(
        "SELECT q.kind, d.state, d.reason FROM deliveries d JOIN sends q ON q.id = d.send "
        "WHERE q.campaign = ? AND d.subscriber = ? ORDER BY q.id",
        (campaign, subscriber),
    )
    return [f"{r['kind']}: {r['state']}" + (f", {r['reason']}" if r["reason"] else "") for r in rows]


def stop_waiting(db: sqlite3.Connection, campaign: CampaignId, now: int, most: int) -> int:
    """Skip people of a campaign who still wait, at most so many; how many."""
    return db.execute(
        "UPDATE deliveries SET state = ?, reason = 'the plan was stopped', changed_at = ? WHERE id IN "
        "(SELECT d.id FROM batches b JOIN sends q ON q.id = b.send JOIN deliveries d ON d.batch = b.id "
        "WHERE q.campaign = ? AND d.state IN (?, ?) LIMIT ?)",
        (DeliveryState.SKIPPED, now, campaign, QUEUED, DEFERRED, most),
    ).rowcount


def stopped_and_waiting(db: sqlite3.Connection) -> list[CampaignId]:
    """Stopped campaigns in which somebody still waits: the process that stopped them was cut off."""
    rows = db.execute(
        "SELECT c.id FROM campaigns c WHERE c.state = ? AND EXISTS (SELECT 1 FROM sends q JOIN batches b ON b.send = q.id "
        "JOIN deliveries d ON d.batch = b.id WHERE q.campaign = c.id AND d.state IN (?, ?))",
        (CampaignState.STOPPED, QUEUED, DEFERRED),
    )
    return [CampaignId(r["id"]) for r in rows]


def ids_of_send(db: sqlite3.Connection, send: int) -> list[int]:
    """All deliveries of a send."""
    return [int(r["id"]) for r in db.execute("SELECT id FROM deliveries WHERE send = ?", (send,))]


def remove(db: sqlite3.Connection, ids: Sequence[int]) -> int:
    """Remove deliveries of a draft, which nobody has seen; how many."""
    return db.executemany("DELETE FROM deliveries WHERE id = ?", [(i,) for i in ids]).rowcount


def skip(db: sqlite3.Connection, row_id: int, why: str, now: int) -> int:
    """One delivery, where it still waits; 1 if it did."""
    return db.execute(
        "UPDATE deliveries SET state = ?, reason = ?, changed_at = ? WHERE id = ? AND state = ?",
        (DeliveryState.SKIPPED, why, now, row_id, DeliveryState.QUEUED),
    ).rowcount


def skip_rest(db: sqlite3.Connection, batch_id: int, why: str, now: int, most: int) -> int:
    """Of those who still wait in a batch at most so many are skipped; how many."""
    return db.execute(
        "UPDATE deliveries SET state = ?, reason = ?, changed_at = ? WHERE id IN "
        "(SELECT id FROM deliveries WHERE batch = ? AND state = ? LIMIT ?)",
        (DeliveryState.SKIPPED, why, now, batch_id, DeliveryState.QUEUED, most),
    ).rowcount


def untouched(db: sqlite3.Connection, batch_id: int) -> list[int]:
    """The deliveries of a batch that are as they were written first."""
    rows = db.execute("SELECT id FROM deliveries WHERE batch = ? AND changed_at IS NULL", (batch_id,))
    return [int(r["id"]) for r in rows]


def unsettled(db: sqlite3.Connection, batch_id: int) -> int:
    """How many deliveries of a batch are queued or being sent."""
    return int(
        db.execute(
            f"SELECT count(*) AS n FROM deliveries WHERE batch = ? AND state IN ('{QUEUED}', '{SENDING}')", (batch_id,)
        ).fetchone()["n"]
    )


def handing_over(db: sqlite3.Connection, subscriber: SubscriberId) -> bool:
    """Whether a message to the person is between the two entries of its send."""
    return bool(
        db.execute(
            f"SELECT 1 FROM deliveries WHERE subscriber = ? AND state IN ('{SENDING}', '{UNCONFIRMED}') LIMIT 1",
            (subscriber,),
        ).fetchone()
    )
