"""The resend: who is due for it, in the holdout group and divided into variants at random; and who may still get it
at the last moment."""

from __future__ import annotations

import json
import sqlite3
from zoneinfo import ZoneInfo

import numpy as np
from pydantic import JsonValue

from openmeadow.core.delivery.batches import variants as draw_arms
from openmeadow.core.delivery.plan import NamedVariant, Plan
from openmeadow.core.ids import NO_MESSAGE, CampaignId, MessageId
from openmeadow.core.moments import DAY
from openmeadow.core.rules.conditions import View
from openmeadow.core.states import HOLDOUT, CampaignState, DeliveryState
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.campaigns import batches as batch_table
from openmeadow.store.campaigns import campaigns, deliveries, delivery_columns
from openmeadow.store.campaigns.delivery_records import Batch, CampaignDelivery, Send
from openmeadow.store.campaigns.records import Campaign
from openmeadow.store.turns import Turns

BEFORE = {"resend": "first", "second resend": "resend"}
MOST_IN_30_DAYS = 2


def arms_in(batch: Batch | Send | CampaignDelivery, plan: Plan) -> list[NamedVariant]:
    """The variants of a send, as they were when it was planned."""
    kept: list[JsonValue] = json.loads(batch.variants)
    if kept and isinstance(kept[0], str):  # kept by their names alone
        return [NamedVariant(name=str(a), wait=plan.wait, subject=plan.new_subject * i) for i, a in enumerate(kept)]
    return [NamedVariant.model_validate(a) for a in kept]


def _as_json(variants: list[NamedVariant]) -> str:
    return json.dumps([v.model_dump() for v in variants])


def plan_passes(db: sqlite3.Connection, campaign: CampaignId, plan: Plan, moments: list[int], zone: ZoneInfo) -> None:
    """The passes and batches of the resend, and of a second one where it was asked for: at allowed hours, and none after
    the plan's last moment."""
    variants = plan.resend_variants()
    again = batch_table.add_pass(db, campaign, "resend", _as_json(variants), float(plan.holdout_share))
    second = None
    if plan.second:
        second = batch_table.add_pass(db, campaign, "second resend", _as_json(variants[:1]), float(plan.holdout_share))
    for i, at in enumerate(moments):
        once = plan.resend_at(at, int(plan.wait), zone)
        if once is not None:
            batch_table.add_batch(db, again, i + 1, once, 0)
        twice = plan.resend_at(at, int(plan.wait) + max(a.wait for a in variants), zone)
        if second is not None and once is not None and twice is not None:
            batch_table.add_batch(db, second, i + 1, twice, 0)


def ignored(view: View, message: MessageId, rule: str, *, machine_only: bool = False) -> np.ndarray:
    """Store ids of those who got a message and left it ignored, or opened and did not click."""
    rows, now = view.rows_of(message), view.now
    hit = (rows.failed_at > now) & (rows.first_at <= now) & (rows.reacted_at > now)
    if rule == "opened, not clicked":
        hit &= rows.opened_at <= now
    else:
        hit &= rows.opened_at > now
        if not machine_only:
            hit &= rows.machine_at > now
    return np.asarray(view.columns.people.id[rows.person[hit]])


TOO_OFTEN = f"already {MOST_IN_30_DAYS} resends in 30 days"


def due(workspace: Workspace, row: Campaign, batch: Batch) -> tuple[dict[int, int], dict[int, int]]:
    """Subscriber -> band of those of one batch of the send before who are due for this one; and of those who would be,
    had they not been resent to so often."""
    plan = row.plan
    before, db = BEFORE[batch.kind], workspace.store.read()
    d = delivery_columns.of_campaign(workspace.store.read, row.id, before)
    mine = (d.batch_n == batch.n) & d.is_in(DeliveryState.SENT)
    band_of = dict(zip(d.subscriber[mine].tolist(), d.band[mine].tolist(), strict=True))
    people = ignored(workspace.view(), row.message or NO_MESSAGE, plan.resend_rule, machine_only=bool(plan.machine_only))
    often = deliveries.resent_often(db, workspace.now() - 30 * DAY, MOST_IN_30_DAYS)
    band = {s: band_of[s] for s in people.tolist() if s in band_of}
    return {s: b for s, b in band.items() if s not in often}, {s: b for s, b in band.items() if s in often}


def draw(workspace: Workspace, row: Campaign, batch: Batch) -> None:
    """Divide those due at random, once. Who is in a variant that waits longer gets a batch of its own."""
    plan = row.plan
    variants, (people, too_often) = arms_in(batch, plan), due(workspace, row, batch)
    subscribers = np.array(sorted(people), np.int64)
    salt = 500 if batch.kind == "second resend" else 0
    zone = workspace.zone
    variant = draw_arms(int(row.seed) + batch.n + salt, subscribers, float(batch.holdout_share), len(variants))
    turns, place = Turns(workspace.store), [batch.id] * len(variants)
    _clear(workspace, turns, batch)
    with workspace.store.atomic() as db:
        for i, a in enumerate(variants):
            mine = int((variant == i).sum())
            if a.wait > plan.wait and batch.kind == "resend" and mine:
                later = plan.resend_at(batch.due_at, a.wait - plan.wait, zone) or batch.due_at
                place[i] = batch_table.add_batch(db, batch.send, batch.n, later, mine, i + 1)
                batch_table.set_batch(db, place[i], "stopped")  # until all are written
    rows: list[deliveries.NewDelivery] = [
        (batch.send, batch.id, s, 0, people[s], deliveries.SKIPPED, HOLDOUT, None)
        if a < 0
        else (batch.send, place[a], s, a, people[s], deliveries.QUEUED, None, None)
        for s, a in zip(subscribers.tolist(), variant.tolist(), strict=True)
    ]
    rows += [(batch.send, batch.id, s, 0, b, deliveries.SKIPPED, TOO_OFTEN, None) for s, b in sorted(too_often.items())]
    turns.each(rows, deliveries.add_some)
    here = sum(r[1] == batch.id for r in rows) - len(too_often)
    with workspace.store.atomic() as db:
        is_stopped = campaigns.state_of(db, row.id) == CampaignState.STOPPED  # meanwhile
        for other in set(place) - {batch.id}:
            batch_table.set_batch(db, other, "stopped" if is_stopped else "scheduled")
        # so that it is never drawn again
        batch_table.set_batch(db, batch.id, "stopped" if is_stopped else "sending", people=here)
        name = f"{row.name}, batch {batch.n}"
        settings.log(db, workspace.now(), "worker", f"prepared {batch.kind}", name, len(subscribers))


def _clear(workspace: Workspace, turns: Turns, batch: Batch) -> None:
    """Remove what a draw that was cut off has left of a batch and of those of its variants."""
    db = workspace.store.read()
    left = [batch.id, *batch_table.of_variants(db, batch.send, batch.n)]
    for one in left:
        turns.each(deliveries.untouched(db, one), deliveries.remove)
    if left[1:]:
        with workspace.store.atomic() as w:
            batch_table.remove_empty(w, left[1:])


def engaged_meanwhile(view: View, row: Campaign) -> dict[int, str]:
    """Who among the people of a view has engaged since, so that nothing more goes to them: subscriber -> the reason."""
    rows, out = view.columns.rows, {}
    clicks_only = row.plan.resend_rule == "opened, not clicked"
    for i, s in enumerate(view.columns.people.id.tolist()):
        for r in range(int(view.columns.start[i]), int(view.columns.start[i + 1])):
            engaged = rows.reacted_at[r] if clicks_only else min(rows.opened_at[r], rows.reacted_at[r])
            if rows.message[r] == row.message and engaged <= view.now:
                out[s] = "engaged before the resend"
    return out
