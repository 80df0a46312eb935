"""The deliveries of a campaign as columns: a million of them cost no object each."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import reduce

import numpy as np

from openmeadow.core.arrays import F64, I8, I32, I64, Array, Mask
from openmeadow.core.ids import CampaignId
from openmeadow.core.states import BounceClass, DeliveryState, failure_class
from openmeadow.store.bulk import read_columns

STATES = list(DeliveryState)
MANY = 100_000  # ids of subscribers from which on two threads read
FEW = 8  # one in so many with a reason, and theirs are asked for by their ids


@dataclass(frozen=True)
class DeliveryColumns:
    """One entry a delivery, by subscriber. ``state`` is the place in STATES, ``reason`` that in ``reasons``, of which
    the first is none; ``changed_at`` is 0 where nothing has happened yet; ``batch_n`` and ``due_at`` are the batch's;
    ``variant`` is -1 where none was drawn."""

    subscriber: I64
    batch: I64
    batch_n: I32
    due_at: I64
    state: I8
    reason: I32
    band: I8
    variant: I8
    version: I32
    changed_at: I64
    attempts: I8
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


_HALF = 32  # bits of an id that shares an integer with another
_CASE = " ".join(f"WHEN '{s}' THEN {i}" for i, s in enumerate(STATES))
# small numbers of a delivery, put together into one integer: the bits of each, and where it comes from
_PARTS = {
    "state": (4, f"CASE d.state {_CASE} END"),
    "band": (3, "d.band"),
    "variant": (6, "coalesce(d.variant, -1) + 1"),
    "version": (12, "coalesce(d.version, 0) & 4095"),
    "chance": (14, "coalesce(d.chance, -1) + 1"),
    "attempts": (6, "d.attempts & 63"),
    "with_reason": (1, "coalesce(d.reason, '') <> ''"),
}
_PACKED = reduce(lambda before, part: f"({before}) << {part[0]} | ({part[1]})", _PARTS.values(), "0")


def _unpacked(packed: I64) -> dict[str, I64]:
    """The small numbers again."""
    out: dict[str, I64] = {}
    for name, (bits, _) in reversed(_PARTS.items()):
        out[name] = packed & ((1 << bits) - 1)
        packed = packed >> bits
    return out


_HEAD = (
    "FROM sends q CROSS JOIN deliveries d INDEXED BY deliveries_once ON d.send = q.id WHERE q.campaign = ? AND q.kind = ?"
)


def _numbers(read: Callable[[], sqlite3.Connection], of: tuple[CampaignId, str]) -> list[Array]:
    """Of each delivery who and which batch in one integer (a row costs by its columns), when it changed, and its small
    numbers. Of many a second thread reads half."""
    sql = (
        f"SELECT d.subscriber << {_HALF} | d.batch, coalesce(d.changed_at, 0), {_PACKED} {_HEAD} "
        "AND d.subscriber BETWEEN ? AND ?"
    )
    ends = (f"(SELECT d.subscriber {_HEAD} ORDER BY d.send, d.subscriber {way} LIMIT 1)" for way in ("", "DESC"))
    db = read()
    first, last = db.execute(f"SELECT coalesce({', 0), coalesce('.join(ends)}, 0)", (*of, *of)).fetchone()
    if last - first < MANY:
        return read_columns(db, sql, (*of, first, last), "qqq")
    middle = (first + last) // 2
    with ThreadPoolExecutor(1) as pool:
        rest = pool.submit(lambda: read_columns(read(), sql, (*of, middle + 1, last), "qqq"))
        half = read_columns(db, sql, (*of, first, middle), "qqq")
        return [np.concatenate(both) for both in zip(half, rest.result(), strict=True)]


def _reasons(
    db: sqlite3.Connection, of: tuple[CampaignId, str], subscriber: I64, some: I64
) -> tuple[I32, dict[str, int]]:
    """The place of each delivery's reason among those that there are; ``some`` have one, of all."""
    reasons, reason = {"": 0}, np.zeros(len(subscriber), np.int32)
    if len(some):
        sql = f"SELECT d.subscriber, d.reason {_HEAD} AND d.reason <> ''"
        if len(some) * FEW < len(subscriber):
            sql += " AND d.subscriber IN (SELECT value FROM json_each(?))"
            rows = db.execute(sql, (*of, json.dumps(some.tolist())))
        else:
            rows = db.execute(sql, of)
        found = [(s, reasons.setdefault(r, len(reasons))) for s, r in rows]
        which, what = np.array(found, np.int64).reshape(-1, 2).T
        reason[np.searchsorted(subscriber, which)] = what
    return reason, reasons


def of_campaign(read: Callable[[], sqlite3.Connection], campaign: CampaignId, kind: str) -> DeliveryColumns:
    """All deliveries of one of a campaign's sends; ``read`` gives each thread its connection."""
    db, of = read(), (campaign, kind)
    both, changed_at, packed = _numbers(read, of)
    if (both[1:] < both[:-1]).any():  # several sends of a kind
        order = np.argsort(both, kind="stable")
        both, changed_at, packed = both[order], changed_at[order], packed[order]
    subscriber, batch, small = both >> _HALF, both & ((1 << _HALF) - 1), _unpacked(packed)
    reason, reasons = _reasons(db, of, subscriber, subscriber[small["with_reason"] > 0])
    ids, n, due_at = read_columns(
        db,
        "SELECT b.id, b.n, b.due_at FROM batches b JOIN sends q ON q.id = b.send WHERE q.campaign = ? AND q.kind = ? "
        "ORDER BY b.id",
        of,
        "qqq",
    )
    place = np.searchsorted(ids, batch)
    return DeliveryColumns(
        subscriber=subscriber,
        batch=batch,
        batch_n=n[place].astype(np.int32),
        due_at=due_at[place],
        state=small["state"].astype(np.int8),
        reason=reason,
        band=small["band"].astype(np.int8),
        variant=(small["variant"] - 1).astype(np.int8),
        version=small["version"].astype(np.int32),
        changed_at=changed_at,
        attempts=small["attempts"].astype(np.int8),
        chance=np.where(small["chance"] == 0, np.nan, (small["chance"] - 1) / 10_000),
        reasons=list(reasons),
    )
