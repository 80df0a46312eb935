"""Campaigns that another program sends: who waits for its word, and what its log says."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence

import numpy as np

from openmeadow.core.arrays import I64
from openmeadow.core.ids import CampaignId, MessageId
from openmeadow.core.states import BatchState, CampaignState, DeliveryState
from openmeadow.store.bulk import read_columns
from openmeadow.store.campaigns.delivery_records import ExternalPending


def external_pending(db: sqlite3.Connection, now: int) -> list[ExternalPending]:
    """(campaign, name, kind, people) whose batch's moment has come and of which another system's log has not told."""
    return ExternalPending.read_all(
        db.execute(
            "SELECT c.id AS campaign, c.name, q.kind, count(*) AS people FROM campaigns c "
            "CROSS JOIN sends q ON q.campaign = c.id "
            "CROSS JOIN batches b ON b.send = q.id CROSS JOIN deliveries d ON d.batch = b.id WHERE c.external AND c.state IN "
            f"('{CampaignState.SCHEDULED}', '{CampaignState.SENDING}') AND b.due_at <= ? AND b.state <> ? AND d.state "
            f"= ? GROUP BY q.id ORDER BY q.id",
            (now, BatchState.SENT, DeliveryState.QUEUED),
        )
    )


NOT_KNOWN_SENT = (
    f"(state = '{DeliveryState.QUEUED}' OR state = '{DeliveryState.SKIPPED}' AND reason <> "
    f"'holdout')"  # an older file was sent
)


SENT_OR_DELIVERED = "e.message = ? AND e.kind IN (1, 2)"  # either stands for both, in an event log


def waiting_for_word(db: sqlite3.Connection, campaign: CampaignId) -> I64:
    """The subscribers of a campaign to whom another program is not known to have sent, ascending."""
    (found,) = read_columns(
        db,
        f"SELECT d.subscriber FROM sends q CROSS JOIN deliveries d ON d.send = q.id WHERE q.campaign = ? AND {NOT_KNOWN_SENT}",
        (campaign,),
        "q",
    )
    return np.unique(found)


def told_since(db: sqlite3.Connection, message: MessageId, seen: int) -> I64:
    """The subscribers to whom events after event ``seen`` say that a message was sent, ascending."""
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
            f"UPDATE deliveries SET state = '{DeliveryState.SENT}', reason = NULL, changed_at = ({at}) WHERE id IN "
            f"(SELECT id FROM deliveries WHERE send = ? AND subscriber IN ({','.join(map(str, map(int, of)))}) "
            f"AND {NOT_KNOWN_SENT}) AND ({at}) IS NOT NULL",
            (message, r["id"], message),
        ).rowcount
    return int(told)
