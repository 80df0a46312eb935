"""The eligibility check at the last moment: who of those that wait is not sent to after all, and what becomes of them."""

from __future__ import annotations

import numpy as np

from openmeadow.core.consent.eligibility import Reason, next_allowed
from openmeadow.core.delivery.plan import Plan
from openmeadow.core.moments import DAY, midnight
from openmeadow.services.campaigns import resend
from openmeadow.services.campaigns.recipients import eligibility_of
from openmeadow.services.sequences import runner
from openmeadow.services.workspace import Workspace
from openmeadow.store.campaigns import deliveries as deliveries_table
from openmeadow.store.campaigns.delivery_records import Batch, QueuedDelivery
from openmeadow.store.campaigns.guardrail_counts import OWN_WAITS
from openmeadow.store.campaigns.records import Campaign
from openmeadow.store.engagement import events
from openmeadow.store.segments.permission_facts import StoreFacts

TOO_MANY, CAP_FULL = OWN_WAITS
TOO_LATE = "the end date has passed"
RESEND_WAITS = 4 * DAY


def reasons(
    workspace: Workspace, row: Campaign, batch: Batch, deliveries: list[QueuedDelivery], *, limits: bool = True
) -> tuple[dict[int, str], StoreFacts]:
    """Reasons to skip some people (by ascending id) at the last moment, by subscriber: the eligibility check, for a resend an
    answer, for a sequence having left it. And what is known of them."""
    subscribers = np.array([d.subscriber for d in deliveries], np.int64)
    gone = runner.no_more(workspace, row, batch.kind, deliveries) if row.sequence else {}
    facts = workspace.facts_of(np.unique(subscribers))
    answer = eligibility_of(facts, row, limits=limits)
    assert answer is not None
    once_more = row.sequence and batch.kind != "first"  # the same request again, to who left it ignored
    out = {}
    for i, s in enumerate(facts.ids.tolist()):
        why = [w for w in answer.why_not(i) if not (once_more and w == Reason.ALREADY_ASKED)]
        if why:
            out[s] = why[0]
    if batch.kind != "first" and not row.sequence:
        out |= resend.engaged_meanwhile(workspace.view_of(subscribers), row)
    return out | gone, facts


def over_caps(workspace: Workspace, caps: dict[int, int], facts: StoreFacts, without: dict[int, str]) -> dict[int, str]:
    """Who is over a provider's cap for today, by everything that this workspace has sent; those on their way are counted
    right before each goes."""
    had = deliveries_table.sent_by_provider(workspace.store.read(), midnight(workspace.now(), workspace.zone))
    out = {}
    for s, p in zip(facts.ids.tolist(), facts.provider.tolist(), strict=True):
        if s in without or not caps.get(p):
            continue
        had[p] = had.get(p, 0) + 1
        if had[p] > caps[p]:
            out[s] = CAP_FULL
    return out


def not_now(workspace: Workspace, row: Campaign, batch: Batch, plan: Plan, d: QueuedDelivery, reason: str) -> None:
    """Skipped with the reason. Who has only had too many messages waits: a campaign's a day, within the plan's last
    moment, a sequence's until the next allowed moment."""
    now, last, full = workspace.now(), plan.no_later_than, reason == TOO_MANY
    again = now + DAY
    if row.sequence and full:
        sent = events.sent_to(workspace.store.read(), d.subscriber, now - 7 * DAY)
        most = int(workspace.setting("most_a_day")), int(workspace.setting("most_a_week"))
        again = max(now + 60, next_allowed(sent, now, *most))
        again = again if again > now + 60 else now + DAY  # the person's own limit is by the week or month
    # a resend is never emptied by the limit of messages: it waits a few days for who has had one today
    resend_waits = batch.kind != "first" and now - batch.due_at < RESEND_WAITS
    waits = (full and (last is not None or row.sequence or resend_waits)) or reason == CAP_FULL
    with workspace.store.atomic() as db:
        if waits and (last is None or again <= last):
            deliveries_table.mark(db, d.id, deliveries_table.DEFERRED, now, reason, again)
        else:
            deliveries_table.mark(db, d.id, deliveries_table.SKIPPED, now, reason)
