"""Counts that guardrails read: sends and what came of them, by pass, batch and provider."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable, Mapping, Sequence

import numpy as np

from openmeadow.core.arrays import I64
from openmeadow.core.consent.eligibility import Reason
from openmeadow.core.ids import CampaignId
from openmeadow.core.states import CampaignState, DeliveryState, SendKind
from openmeadow.store.bulk import read_columns
from openmeadow.store.campaigns.delivery_columns import STATES, DeliveryColumns
from openmeadow.store.campaigns.delivery_records import GuardedCampaign, ReturnCount, SentCount, TroubleCount

CLASS_WORD = 8  # characters of a reason that name its class
OWN_WAITS = (Reason.FREQUENCY.value, "its provider's cap for the day is full")  # put off by ourselves, never tried


def last_change(db: sqlite3.Connection, campaign: CampaignId) -> int:
    """When a delivery of a campaign last changed; 0 where none has."""
    row = db.execute(
        "SELECT coalesce(max((SELECT max(d.changed_at) FROM deliveries d WHERE d.send = q.id AND d.changed_at IS NOT NULL)), 0)"
        " AS at FROM sends q WHERE q.campaign = ?",
        (campaign,),
    ).fetchone()
    return int(row["at"])


def sent(sends: Mapping[SendKind, DeliveryColumns], since: int, provider_of: Callable[[I64], I64]) -> list[SentCount]:
    """(kind of pass, number of batch, provider, state, reason's class word, whether it was tried more than once, count) of
    what was tried since a moment. ``provider_of`` gives the providers of ascending ids."""
    out = []
    for kind, d in sends.items():
        waited = d.is_in(DeliveryState.DEFERRED)
        tried = d.is_in(DeliveryState.SENT) | d.is_in(DeliveryState.FAILED) | (waited & ~d.because(*OWN_WAITS))
        mine = np.flatnonzero(tried & (d.changed_at >= since))
        words = sorted({r[:CLASS_WORD] for r in d.reasons})
        word_of = np.array([words.index(r[:CLASS_WORD]) for r in d.reasons], np.int64)
        table = np.stack(
            (
                d.batch_n[mine],
                provider_of(d.subscriber)[mine],
                d.state[mine],
                word_of[d.reason[mine]],
                (d.attempts[mine] > 1).astype(np.int64),
            )
        ).astype(np.int64)
        for (batch, provider, state, word, again), n in _counted(table):
            out.append(SentCount(kind, batch, provider, STATES[state], words[word], bool(again), n))
    return out


def _counted(table: I64) -> list[tuple[list[int], int]]:
    """How often each column of a table is there."""
    if not table.shape[1]:
        return []
    size = table.max(axis=1) + 1
    code = np.ravel_multi_index(tuple(table), tuple(size))
    found, counts = np.unique(code, return_counts=True)
    columns = np.stack(np.unravel_index(found, tuple(size))).T
    return list(zip(columns.tolist(), counts.tolist(), strict=True))


def came_back(db: sqlite3.Connection, campaign: CampaignId, since: int) -> list[ReturnCount]:
    """(kind of pass, number of batch, provider, kind of event, code, diagnostic, people) of those sent."""
    return ReturnCount.read_all(
        db.execute(
            "SELECT q.kind, b.n AS batch, s.provider, e.kind AS event, e.code, e.diagnostic, "
            "count(DISTINCT e.subscriber) AS n FROM campaigns c CROSS JOIN events e "
            "INDEXED BY events_of_trouble ON e.message = c.message CROSS JOIN sends q ON q.campaign = c.id "
            "CROSS JOIN deliveries d ON d.send = q.id AND d.subscriber = e.subscriber "
            "JOIN batches b ON b.id = d.batch JOIN subscribers s ON s.id = d.subscriber "
            "WHERE c.id = ? AND (e.kind = 4 OR e.kind >= 9) AND e.kind IN (4, 9, 10) AND e.at >= ? "
            "AND d.state = ? AND e.at >= d.changed_at AND NOT EXISTS (SELECT 1 FROM sends q2 "
            "JOIN deliveries d2 ON d2.send = q2.id WHERE q2.campaign = c.id AND d2.subscriber = e.subscriber "
            "AND d2.state = ? AND d2.changed_at > d.changed_at AND e.at >= d2.changed_at) "
            "GROUP BY 1, 2, 3, 4, 5, 6",
            (campaign, since, DeliveryState.SENT, DeliveryState.SENT),
        )
    )


PLACES = {
    "domain": "SELECT substr(s.email_key, instr(s.email_key, '@') + 1) AS name, count(*) AS n, sum(w.bad) AS k "
    "FROM who w JOIN subscribers s ON s.id = w.subscriber GROUP BY 1",
    "list": "SELECT l.name, count(*) AS n, sum(w.bad) AS k FROM who w JOIN list_members m ON m.subscriber = w.subscriber "
    "JOIN lists l ON l.id = m.list GROUP BY 1",
}


def came_from(db: sqlite3.Connection, campaign: CampaignId, since: int) -> dict[str, list[TroubleCount]]:
    """By domain and by list (name, tried, of them in trouble: failed, complained or unsubscribed) since a moment."""
    who = (
        f"WITH who AS MATERIALIZED (SELECT d.subscriber, max(d.state = '{DeliveryState.FAILED}' OR EXISTS (SELECT 1 "
        f"FROM events e WHERE "
        "e.subscriber = d.subscriber AND e.message = c.message AND e.kind IN (4, 9, 10) AND e.at >= ?2)) AS bad "
        "FROM campaigns c JOIN sends q ON q.campaign = c.id JOIN deliveries d ON d.send = q.id WHERE c.id = ?1 "
        f"AND d.changed_at >= ?2 AND d.state IN ('{DeliveryState.SENT}', '{DeliveryState.FAILED}') GROUP BY 1) "
    )
    return {place: TroubleCount.read_all(db.execute(f"{who}{sql}", (campaign, since))) for place, sql in PLACES.items()}


_WAITS = f"state IN ('{DeliveryState.QUEUED}', '{DeliveryState.DEFERRED}')"


def waiting_at(db: sqlite3.Connection, campaign: CampaignId, provider: int) -> list[int]:
    """The deliveries of a campaign's people at a provider who still wait."""
    (found,) = read_columns(
        db,
        "SELECT d.id FROM sends q CROSS JOIN batches b ON b.send = q.id CROSS JOIN deliveries d ON d.batch = b.id "
        f"JOIN subscribers s ON s.id = d.subscriber WHERE q.campaign = ? AND d.{_WAITS} AND s.provider = ?",
        (campaign, provider),
        "q",
    )
    return [int(n) for n in found.tolist()]


def skip(db: sqlite3.Connection, some: Sequence[int], reason: str, now: int) -> int:
    """Those of some deliveries that still wait are skipped; how many."""
    sql = f"UPDATE deliveries SET state = '{DeliveryState.SKIPPED}', reason = ?, changed_at = ? WHERE id = ? AND {_WAITS}"
    return db.executemany(sql, [(reason, now, n) for n in some]).rowcount


def under_way(db: sqlite3.Connection) -> list[GuardedCampaign]:
    """The campaigns whose guardrails are looked at."""
    return GuardedCampaign.read_all(
        db.execute(
            "SELECT id, name, guard_from FROM campaigns WHERE state IN (?, ?)",
            (CampaignState.SCHEDULED, CampaignState.SENDING),
        )
    )
