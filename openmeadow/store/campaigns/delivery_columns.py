"""The deliveries of a campaign as columns: a million of them cost no object each."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass

import numpy as np

from openmeadow.core.arrays import F64, I8, I64, Array, Mask
from openmeadow.core.ids import CampaignId
from openmeadow.core.states import BounceClass, DeliveryState, failure_class
from openmeadow.store.bulk import read_columns

STATES = list(DeliveryState)
BLOCK = 50_000


@dataclass(frozen=True)
class DeliveryColumns:
    """One entry a delivery, by subscriber. ``state`` is the place in STATES, ``reason`` that in ``reasons``, of which
    the first is none; ``changed_at`` is 0 where nothing has happened yet; ``batch_n`` and ``due_at`` are the batch's;
    ``variant`` is -1 where none was drawn."""

    subscriber: I64
    batch: I64
    batch_n: I64
    due_at: I64
    state: I8
    reason: I64
    band: I64
    variant: I64
    version: I64
    changed_at: I64
    attempts: I64
    chance: F64  # to engage, as it stood when the delivery was planned; NaN where that is not known
    reasons: list[str]

    def __len__(self) -> int:
        return len(self.subscriber)

    def is_in(self, state: DeliveryState) -> Mask:
        """Which deliveries are in a state."""
        return np.asarray(self.state == STATES.index(state))

    def because(self, *reasons: str) -> Mask:
        """Those whose reason is one of these."""
        return np.isin(self.reason, [self.reasons.index(r) for r in reasons if r in self.reasons])

    @property
    def was_sent(self) -> Mask:
        """Whether the relay was told of it: it took it, or refused the recipient. Both count as sent."""
        unsendable = [i for i, r in enumerate(self.reasons) if failure_class(r) == BounceClass.UNSENDABLE]
        failed = self.is_in(DeliveryState.FAILED) & ~np.isin(self.reason, unsendable)
        return np.asarray(self.is_in(DeliveryState.SENT) | failed)


def of_campaign(db: sqlite3.Connection, campaign: CampaignId, kind: str) -> DeliveryColumns:
    """All deliveries of one of a campaign's sends."""
    cursor = db.cursor()
    cursor.row_factory = None
    cursor.execute(
        "SELECT d.subscriber, d.batch, d.state, coalesce(d.reason, ''), d.band, coalesce(d.variant, -1), "
        "coalesce(d.version, 0), coalesce(d.changed_at, 0), d.attempts, coalesce(d.chance, -1) "
        "FROM sends q CROSS JOIN deliveries d ON d.send = q.id "
        "WHERE q.campaign = ? AND q.kind = ?",
        (campaign, kind),
    )
    code_of = {str(s): i for i, s in enumerate(STATES)}
    reasons: dict[str, int] = {"": 0}
    blocks: list[list[Array]] = []
    while part := cursor.fetchmany(BLOCK):
        columns = list(zip(*part, strict=True))
        columns[2] = tuple(code_of[s] for s in columns[2])
        columns[3] = tuple(reasons.setdefault(r, len(reasons)) for r in columns[3])
        blocks.append([np.array(c, np.int64) for c in columns])
    found = [np.concatenate(c) for c in zip(*blocks, strict=True)] if blocks else [np.zeros(0, np.int64)] * 10
    order = np.argsort(found[0], kind="stable")
    subscriber, batch, state, reason, band, variant, version, changed_at, attempts, chance = (c[order] for c in found)
    ids, n, due_at = read_columns(
        db,
        "SELECT b.id, b.n, b.due_at FROM batches b JOIN sends q ON q.id = b.send WHERE q.campaign = ? AND q.kind = ? "
        "ORDER BY b.id",
        (campaign, kind),
        "qqq",
    )
    place = np.searchsorted(ids, batch)
    return DeliveryColumns(
        subscriber=subscriber,
        batch=batch,
        batch_n=n[place],
        due_at=due_at[place],
        state=state.astype(np.int8),
        reason=reason,
        band=band,
        variant=variant,
        version=version,
        changed_at=changed_at,
        attempts=attempts,
        chance=np.where(chance < 0, np.nan, chance / 10_000),
        reasons=list(reasons),
    )
