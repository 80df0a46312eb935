"""People marked for a refusal that was not about them: back in the queue, with nothing left in their history."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence
from dataclasses import dataclass

from openmeadow.core.delivery.smtp_refusals import same_words
from openmeadow.core.errors import Missing, Refused
from openmeadow.core.events import Kind
from openmeadow.core.ids import CampaignId, DeliveryId
from openmeadow.core.reports.bounces import bounce_class
from openmeadow.core.states import BounceClass
from openmeadow.services.subscribers.import_events import HARD_BOUNCE
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings, undo_log
from openmeadow.store.campaigns import batches as batch_table
from openmeadow.store.campaigns import campaigns, deliveries
from openmeadow.store.campaigns import unconfirmed as unconfirmed_table
from openmeadow.store.campaigns.delivery_records import FailedDelivery
from openmeadow.store.engagement import events
from openmeadow.store.subscribers import consent
from openmeadow.store.subscribers.subscribers import facts_changed
from openmeadow.store.turns import Turns


def outside_id(delivery: DeliveryId, try_: int, *, with_bounce: bool = False) -> str:
    """The id of the event that a try writes; of the one that says it was sent to, where a bounce says more."""
    return f"delivery {delivery} try {try_}{' sent' if with_bounce else ''}"


def unmark(db: sqlite3.Connection, tries: Sequence[tuple[int, int]], now: int) -> int:
    """Put deliveries, each with the number of its last try, back in the queue: the event that this try wrote goes, and
    the suppression that followed from it. How many events went."""
    deliveries.put_back(db, [row_id for row_id, _ in tries], now)
    gone = events.forget(
        db, [outside_id(DeliveryId(row_id), n, with_bounce=b) for row_id, n in tries for b in (False, True)]
    )
    for e in gone:
        if e.kind == Kind.BOUNCED and bounce_class(e.code, e.diagnostic) == BounceClass.HARD:
            consent.lift_of(db, e.subscriber, HARD_BOUNCE, e.at)
    if gone:
        undo_log.events_changed(db)
        facts_changed(db)
    return len(gone)


@dataclass(frozen=True)
class RefusedGroup:
    """Deliveries of a campaign that failed with the same words. ``words`` has what changes from one to the next left out;
    ``example`` is one reason as it is."""

    words: str
    example: str
    people: int


def _failed(db: sqlite3.Connection, campaign: CampaignId) -> dict[str, list[FailedDelivery]]:
    groups: dict[str, list[FailedDelivery]] = {}
    for row in unconfirmed_table.failed_of(db, campaign):
        groups.setdefault(same_words("", row.reason or "").strip(), []).append(row)
    return groups


def groups(workspace: Workspace, campaign: CampaignId) -> list[RefusedGroup]:
    """What failed, by its words, the most people first."""
    found = _failed(workspace.store.read(), campaign)
    out = [RefusedGroup(words, rows[0].reason or "", len(rows)) for words, rows in found.items()]
    return sorted(out, key=lambda g: -g.people)


def put_back(workspace: Workspace, campaign: CampaignId, words: str, who: str) -> int:
    """Everyone of a campaign who failed with these words waits again, in the batch they were in. How many."""
    row = campaigns.one(workspace.store.read(), campaign)
    if row is None:
        raise Missing("This campaign does not exist.")
    if row.state == "stopped":
        raise Refused(f"“{row.name}” was stopped; its queue is empty.")
    rows, now = _failed(workspace.store.read(), campaign).get(words, []), workspace.now()
    if not rows:
        raise Missing("No failed delivery has this reply any more.")
    Turns(workspace.store).each([(r.id, r.attempts) for r in rows], lambda db, some: unmark(db, some, now))
    with workspace.store.atomic() as db:
        if not row.sequence:
            for batch in {r.batch for r in rows}:
                batch_table.set_batch(db, batch, "sending")
            campaigns.update_in(db, campaign, ("finished",), {"state": "sending"})
        settings.log(db, workspace.now(), who, "queued again", row.name, len(rows))
    return len(rows)
