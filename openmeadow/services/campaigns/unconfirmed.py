"""Unconfirmed deliveries: the worker stopped, or the connection broke, between DATA and the relay's answer.

They may or may not have arrived. They are settled one by one, by the relay's log, or by themselves when something comes
of them.
"""

from __future__ import annotations

import re
import sqlite3
from collections.abc import Sequence
from dataclasses import dataclass

from openmeadow.core.errors import Missing, Refused
from openmeadow.core.events import Kind
from openmeadow.core.ids import CampaignId, DeliveryId, SubscriberId
from openmeadow.net.signed_tokens import Tokens
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.campaigns import batches as batch_table
from openmeadow.store.campaigns import campaigns
from openmeadow.store.campaigns import unconfirmed as unconfirmed_table
from openmeadow.store.campaigns.delivery_records import SettledDelivery
from openmeadow.store.campaigns.records import Campaign
from openmeadow.store.engagement import events

MOST_LISTED = 500
LOG_BYTES = 50 * 1024 * 1024
_REFUSED = re.compile(r"\b(?:reject(?:ed)?|refused|bounced)\b|status=bounced", re.I)


@dataclass(frozen=True)
class Unconfirmed:
    """One delivery; ``at`` is when the connection broke or the stop was found (UTC seconds)."""

    delivery: DeliveryId
    subscriber: SubscriberId
    email: str
    name: str
    message_id: str
    at: int
    why: str


@dataclass(frozen=True)
class LogRead:
    """What a relay's log settled: people it accepted, people to send to again, and those it says nothing about."""

    arrived: int
    again: int
    left: int


def listed(workspace: Workspace, campaign: CampaignId) -> list[Unconfirmed]:
    """The deliveries of a campaign that are unconfirmed, at most 500, by moment."""
    row = _campaign(workspace, campaign)
    tokens = Tokens(workspace.folder)
    return [
        Unconfirmed(
            r.id,
            r.subscriber,
            r.email,
            r.name or "",
            tokens.message_id(r.id, campaign, str(row.domain_name)),
            r.changed_at or 0,
            r.reason or "",
        )
        for r in unconfirmed_table.unconfirmed_of(workspace.store.read(), campaign, MOST_LISTED)
    ]


def resolve(
    workspace: Workspace, campaign: CampaignId, arrived: bool, who: str, only: Sequence[int] | None = None
) -> int:
    """The analyst's decision: they arrived, or they are sent to again. ``only`` are deliveries; None is all. How many."""
    row = _campaign(workspace, campaign)
    with workspace.store.atomic() as db:
        changed = _settled(
            db, row, unconfirmed_table.resolve_unconfirmed(db, campaign, arrived, only), arrived, workspace.now()
        )
        act = "marked as sent" if arrived else "resent unconfirmed"
        settings.log(db, workspace.now(), who, act, row.name, changed)
    return changed


def read_log(workspace: Workspace, campaign: CampaignId, text: str, who: str, *, complete: bool) -> LogRead:
    """Settle by the relay's own log, in any format that names Message-IDs or return paths. Whose message it names was
    accepted, unless the line says that it was refused. ``complete``: whom it does not name did not get it."""
    row = _campaign(workspace, campaign)
    if len(text) > LOG_BYTES:
        raise Refused(f"The log is larger than {LOG_BYTES // 1024 // 1024} MB. Cut it down to the hours in question.")
    tokens = Tokens(workspace.folder)
    named: dict[int, bool] = {}
    for line in text.splitlines():
        for delivery in tokens.deliveries_in(line):
            named[delivery] = named.get(delivery, False) or not _REFUSED.search(line[:5000])
    waiting = {r.id for r in unconfirmed_table.unconfirmed_of(workspace.store.read(), campaign, -1)}
    if not waiting:
        raise Missing(f"“{row.name}” has no unconfirmed deliveries any more.")
    if not named:
        raise Refused("This log names none of our messages. It needs Message-IDs or return paths.")
    arrived = sorted(d for d in waiting if named.get(d))
    again = sorted(d for d in waiting if named.get(d) is False or (complete and d not in named))
    if arrived:
        resolve(workspace, campaign, True, who, arrived)
    if again:
        resolve(workspace, campaign, False, who, again)
    return LogRead(len(arrived), len(again), len(waiting) - len(arrived) - len(again))


def resolve_by_events(workspace: Workspace) -> int:
    """Who opened, clicked, replied, booked, complained or bounced has it: settled without anybody. How many."""
    found = unconfirmed_table.unconfirmed_with_events(workspace.store.read())
    if not found:
        return 0
    with workspace.store.atomic() as db:
        for campaign in sorted({r.campaign for r in found}):
            row = campaigns.one(db, campaign)
            assert row is not None
            some = [r.id for r in found if r.campaign == campaign]
            n = _settled(db, row, unconfirmed_table.resolve_unconfirmed(db, campaign, True, some), True, workspace.now())
            settings.log(db, workspace.now(), "worker", "marked as sent by later events", row.name, n)
    return len(found)


def _campaign(workspace: Workspace, row_id: int) -> Campaign:
    row = campaigns.one(workspace.store.read(), row_id)
    if row is None:
        raise Missing("This campaign does not exist.")
    return row


def _settled(db: sqlite3.Connection, row: Campaign, changed: list[SettledDelivery], arrived: bool, now: int) -> int:
    """What follows for the history and the batches."""
    if arrived:
        sent = int(Kind.SENT)
        events.add(
            db,
            [
                (r.changed_at or now, sent, r.subscriber, row.message or 0, 0, 0, 0.0, None, None, f"delivery {r.id}")
                for r in changed
            ],
        )
    elif changed and not row.sequence:
        for batch in {r.batch for r in changed}:
            batch_table.set_batch(db, batch, "sending")
        campaigns.update_in(db, row.id, ("finished",), {"state": "sending"})
    return len(changed)
