"""Deliveries that are not known to have arrived, and those that failed: counted, listed and settled."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence

from openmeadow.core.ids import CampaignId
from openmeadow.core.states import CampaignState, DeliveryState, SequenceState
from openmeadow.store.campaigns.delivery_records import (
    FailedDelivery,
    SettledDelivery,
    UnconfirmedCampaign,
    UnconfirmedDelivery,
    UnconfirmedWithEvent,
    UnderWay,
)


def caught_between(db: sqlite3.Connection, now: int) -> int:
    """Rows a dead worker left between DATA and its result are unconfirmed: they may or may not have arrived."""
    return db.execute(
        "UPDATE deliveries SET state = ?, changed_at = ?, reason = 'the worker stopped between "
        f"sending and its answer' WHERE state = '{DeliveryState.SENDING}'",
        (DeliveryState.UNCONFIRMED, now),
    ).rowcount


def unconfirmed(db: sqlite3.Connection) -> list[UnconfirmedCampaign]:
    """How many deliveries of each campaign are unconfirmed."""
    return UnconfirmedCampaign.read_all(
        db.execute(
            "SELECT c.id, c.name, count(*) AS people FROM deliveries d JOIN sends q ON q.id = d.send "
            f"JOIN campaigns c ON c.id = q.campaign WHERE d.state = '{DeliveryState.UNCONFIRMED}' GROUP BY c.id"
        )
    )


def unconfirmed_of(db: sqlite3.Connection, campaign: CampaignId, limit: int) -> list[UnconfirmedDelivery]:
    """(id, subscriber, changed_at, reason, email, name) of what is unconfirmed, by moment; -1 for all of it."""
    return UnconfirmedDelivery.read_all(
        db.execute(
            "SELECT d.id, d.subscriber, d.changed_at, d.reason, s.email, s.name FROM deliveries d "
            f"JOIN subscribers s ON s.id = d.subscriber WHERE d.state = '{DeliveryState.UNCONFIRMED}' "
            "AND d.send IN (SELECT id FROM sends WHERE campaign = ?) ORDER BY d.changed_at, d.id LIMIT ?",
            (campaign, limit),
        )
    )


def count(db: sqlite3.Connection, campaign: CampaignId) -> int:
    """How many deliveries of a campaign are unconfirmed."""
    row = db.execute(
        "SELECT count(*) FROM sends q JOIN batches b ON b.send = q.id JOIN deliveries d ON d.batch = b.id AND d.state = ? "
        "WHERE q.campaign = ?",
        (DeliveryState.UNCONFIRMED, campaign),
    ).fetchone()
    return int(row[0])


def unconfirmed_with_events(db: sqlite3.Connection) -> list[UnconfirmedWithEvent]:
    """(id, campaign) of unconfirmed deliveries of which something came since."""
    return UnconfirmedWithEvent.read_all(
        db.execute(
            "SELECT d.id, q.campaign FROM deliveries d JOIN sends q ON q.id = d.send JOIN campaigns c ON c.id = q.campaign "
            f"WHERE d.state = '{DeliveryState.UNCONFIRMED}' AND EXISTS (SELECT 1 FROM events e WHERE e.subscriber = d.subscriber "
            "AND e.message = c.message AND e.kind >= 4 AND e.at >= d.changed_at)"
        )
    )


def resolve_unconfirmed(
    db: sqlite3.Connection, campaign: CampaignId, arrived: bool, only: Sequence[int] | None
) -> list[SettledDelivery]:
    """What is unconfirmed is sent after all, at the moment it was tried, or waits again. The rows that changed."""
    out: list[SettledDelivery] = []
    sql = (
        f"UPDATE deliveries SET state = ?, reason = 'settled by hand', next_at = NULL WHERE state = "
        f"'{DeliveryState.UNCONFIRMED}' AND "
        "send IN (SELECT id FROM sends WHERE campaign = ?){} RETURNING id, subscriber, batch, changed_at, "
        "(SELECT campaign FROM sends WHERE sends.id = deliveries.send) AS campaign"
    )
    state = DeliveryState.SENT if arrived else DeliveryState.QUEUED
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
            f"AND d.state IN ('{DeliveryState.QUEUED}', '{DeliveryState.DEFERRED}', '{DeliveryState.SENDING}', "
            f"'{DeliveryState.UNCONFIRMED}')) AS waiting FROM campaigns c "
            "LEFT JOIN sequences s ON s.id = c.sequence WHERE NOT c.external AND (c.sequence IS NULL AND c.state IN "
            f"('{CampaignState.SCHEDULED}', '{CampaignState.SENDING}', '{CampaignState.PAUSED}') OR c.sequence IS NOT "
            f"NULL AND s.state IN (?, ?)) ORDER BY c.id",
            (SequenceState.RUNNING, SequenceState.PAUSED),
        )
    )


def mark_sent(db: sqlite3.Connection, ids: Sequence[int], now: int) -> list[SettledDelivery]:
    """Of these, what had not been sent as far as the deliveries knows is sent now. The rows that changed, with campaign."""
    out: list[SettledDelivery] = []
    for i in range(0, len(ids), 500):
        some = ids[i : i + 500]
        rows = db.execute(
            f"UPDATE deliveries SET state = '{DeliveryState.SENT}', reason = 'settled by the relay''s log', next_at = NULL, "
            f"changed_at = coalesce(changed_at, ?) WHERE state IN ('{DeliveryState.QUEUED}', "
            f"'{DeliveryState.DEFERRED}', '{DeliveryState.SENDING}', '{DeliveryState.UNCONFIRMED}', "
            f"'skipped') AND id IN ({','.join('?' * len(some))}) RETURNING id, subscriber, batch, changed_at, "
            "(SELECT campaign FROM sends WHERE sends.id = deliveries.send) AS campaign",
            (now, *some),
        )
        out += SettledDelivery.read_all(rows)
    return out


def failed_of(db: sqlite3.Connection, campaign: CampaignId) -> list[FailedDelivery]:
    """(id, batch, attempts, reason) of what failed at the relay."""
    return FailedDelivery.read_all(
        db.execute(
            "SELECT id, batch, attempts, reason FROM deliveries WHERE state = ? "
            "AND batch IN (SELECT b.id FROM batches b JOIN sends q ON q.id = b.send WHERE q.campaign = ?) ORDER BY id",
            (DeliveryState.FAILED, campaign),
        )
    )


def requeue_blocked(db: sqlite3.Connection, campaign: CampaignId) -> int:
    """Who was put off because the sender was blocked waits again at once. How many."""
    return db.execute(
        f"UPDATE deliveries SET state = ? WHERE state = '{DeliveryState.DEFERRED}' AND reason LIKE 'blocked%' "
        "AND send IN (SELECT id FROM sends WHERE campaign = ?)",
        (DeliveryState.QUEUED, campaign),
    ).rowcount
