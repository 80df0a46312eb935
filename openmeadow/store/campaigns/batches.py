"""Sends of campaigns and their batches: when each is due, its state and its counts."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence

from openmeadow.core.ids import BatchId, CampaignId
from openmeadow.core.states import BatchState, CampaignState, DeliveryState, SendKind
from openmeadow.store.campaigns.delivery_records import Batch, BatchCounts, ComingBatch, DueBatch, MovedBatch, Send


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


def remove(db: sqlite3.Connection, campaign: CampaignId) -> None:
    """Remove the sends and batches of a draft."""
    db.execute("DELETE FROM batches WHERE send IN (SELECT id FROM sends WHERE campaign = ?)", (campaign,))
    db.execute("DELETE FROM sends WHERE campaign = ?", (campaign,))


def add_batch(db: sqlite3.Connection, send_id: int, n: int, due_at: int, people: int, variant: int = 0) -> BatchId:
    """``variant`` counts from 1 for the part of a resend's batch that waits longer."""
    return BatchId(
        db.execute(
            "INSERT INTO batches (send, n, variant, due_at, people) VALUES (?, ?, ?, ?, ?)",
            (send_id, n, variant, due_at, people),
        ).lastrowid
        or 0
    )


def of_variants(db: sqlite3.Connection, send_id: int, n: int) -> list[BatchId]:
    """The parts of a resend's batch that wait longer, where they are not to go out yet."""
    sql = "SELECT id FROM batches WHERE send = ? AND n = ? AND variant > 0 AND state = ?"
    return [BatchId(r["id"]) for r in db.execute(sql, (send_id, n, BatchState.STOPPED))]


def remove_empty(db: sqlite3.Connection, ids: Sequence[int]) -> None:
    """Remove some batches that nobody is in."""
    sql = "DELETE FROM batches WHERE id = ? AND NOT EXISTS (SELECT 1 FROM deliveries WHERE batch = batches.id)"
    db.executemany(sql, [(i,) for i in ids])


_COUNTS = ", ".join(
    f"coalesce(sum(d.n) FILTER (WHERE d.state = '{state}'), 0) AS {name}"
    for state, name in (
        (DeliveryState.SENT, "sent"),
        (DeliveryState.QUEUED, "waiting"),
        (DeliveryState.DEFERRED, "deferred"),
        (DeliveryState.FAILED, "failed"),
        (DeliveryState.UNCONFIRMED, "unconfirmed"),
        (DeliveryState.SKIPPED, "passed_over"),
    )
)


def batches(db: sqlite3.Connection, campaign: CampaignId) -> list[BatchCounts]:
    """All batches with how many of their deliveries stand in each state."""
    return BatchCounts.read_all(
        db.execute(
            "WITH counted AS (SELECT batch, state, count(*) AS n FROM deliveries WHERE batch IN (SELECT b.id FROM batches b "
            "JOIN sends q ON q.id = b.send WHERE q.campaign = ?1) GROUP BY batch, state) "  # in the order of their index
            f"SELECT b.*, q.campaign, q.kind, q.variants, q.holdout_share, {_COUNTS} "
            "FROM batches b JOIN sends q ON q.id = b.send LEFT JOIN counted d ON d.batch = b.id "
            "WHERE q.campaign = ?1 GROUP BY b.id ORDER BY q.kind, b.variant, b.n",
            (campaign,),
        )
    )


def uncounted(db: sqlite3.Connection, campaign: CampaignId) -> list[Batch]:
    """All batches, in the same order."""
    return Batch.read_all(
        db.execute(
            "SELECT b.*, q.campaign, q.kind, q.variants, q.holdout_share FROM batches b JOIN sends q ON q.id = b.send "
            "WHERE q.campaign = ? ORDER BY q.kind, b.variant, b.n",
            (campaign,),
        )
    )


def batch(db: sqlite3.Connection, row_id: int) -> Batch | None:
    """A batch, or None."""
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


def batches_ahead(db: sqlite3.Connection, campaign: CampaignId) -> list[MovedBatch]:
    """The batches of a campaign that have not ended, with their moments."""
    return MovedBatch.read_all(
        db.execute(
            "SELECT b.id, b.due_at FROM batches b JOIN sends q ON q.id = b.send WHERE q.campaign = ? AND b.state IN (?, ?)",
            (campaign, BatchState.SCHEDULED, BatchState.SENDING),
        )
    )


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
            f"UPDATE batches SET due_at = due_at + ?3 WHERE state = '{BatchState.SCHEDULED}' AND id IN (SELECT b.id "
            f"FROM batches b "
            f"JOIN sends q ON q.id = b.send WHERE q.campaign = ?1 AND {later[kind]}) RETURNING id, due_at",
            (campaign, n, delay),
        )
    )


def set_late(db: sqlite3.Connection, row_id: int, late: int) -> None:
    """How many seconds after its moment a batch went out."""
    db.execute("UPDATE batches SET late = ? WHERE id = ?", (late, row_id))


def recount_people(db: sqlite3.Connection, campaign: CampaignId) -> None:
    """What still waits of a campaign holds as many people as are not skipped."""
    db.execute(
        "UPDATE batches SET people = (SELECT count(*) FROM deliveries d WHERE d.batch = batches.id "
        f"AND d.state <> ?) WHERE state IN ('{BatchState.SCHEDULED}', '{BatchState.SENDING}', '{BatchState.PAUSED}') "
        "AND send IN (SELECT id FROM sends WHERE campaign = ? AND kind = ?)",
        (DeliveryState.SKIPPED, campaign, SendKind.FIRST),
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
