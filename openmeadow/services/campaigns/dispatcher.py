"""What is due goes out, plan by plan in turns: the eligibility check and the caps at the last moment, the guardrails
in between."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator

import numpy as np

from openmeadow.core.consent.eligibility import Reason, next_allowed
from openmeadow.core.delivery.guardrails import EVERY as EVERY_LOOK
from openmeadow.core.delivery.plan import Plan
from openmeadow.core.errors import MeadowError, Passing
from openmeadow.core.ids import BatchId, CampaignId
from openmeadow.core.moments import DAY, HOUR, midnight
from openmeadow.core.states import BatchState
from openmeadow.net.signed_tokens import Tokens
from openmeadow.net.smtp_client import RelayAway, RelayProblem
from openmeadow.services.campaigns import ab_test, guardrails, inbox_placement, resend
from openmeadow.services.campaigns.composing import Composers
from openmeadow.services.campaigns.daily_caps import DailyCaps
from openmeadow.services.campaigns.recipients import eligibility_of
from openmeadow.services.campaigns.renderer import Writer, person_fields
from openmeadow.services.campaigns.schedule import caps_of
from openmeadow.services.campaigns.smtp_delivery import Item, Lines, Turn
from openmeadow.services.senders import domains
from openmeadow.services.sequences import runner
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.campaigns import batches as batch_table
from openmeadow.store.campaigns import campaigns
from openmeadow.store.campaigns import deliveries as deliveries_table
from openmeadow.store.campaigns import unconfirmed as unconfirmed_table
from openmeadow.store.campaigns.delivery_records import Batch, QueuedDelivery
from openmeadow.store.campaigns.guardrail_counts import OWN_WAITS
from openmeadow.store.campaigns.records import Campaign
from openmeadow.store.engagement import events
from openmeadow.store.segments.permission_facts import StoreFacts
from openmeadow.store.sequences import sequences
from openmeadow.store.subscribers.subscribers import facts_version

CHUNK = EVERY_LOOK  # guardrails are read between two of them
A_DAY = DAY
GOES_ON = ("scheduled", "sending", "finished")  # finished: a second try of what was put off


def recover(workspace: Workspace) -> int:
    """After a crash: what was between DATA and its answer is unconfirmed, and shown."""
    with workspace.store.atomic() as db:
        caught = unconfirmed_table.caught_between(db, workspace.now())
        if caught:
            settings.log(db, workspace.now(), "worker", "found unconfirmed deliveries", "deliveries", caught)
    return caught


class Together:
    """What everything that goes out in one go shares: the processes that write it, and what providers still take today."""

    def __init__(self, workspace: Workspace, composers: Composers | None = None) -> None:
        self.composers, self.caps = composers or Composers(), DailyCaps(workspace)


def send_due(workspace: Workspace, tokens: Tokens) -> int:
    """Send everything that is due now, campaign by campaign in turns of a chunk, so that a long batch keeps no other
    waiting. Returns how many sends were tried."""
    recover(workspace)  # while nothing is on its way, whatever is called so was left by a stop
    db, now, tried = workspace.store.read(), workspace.now(), 0
    if deliveries_table.again_due(db, now):
        with workspace.store.atomic() as w:
            deliveries_table.requeue(w, now)
    together = Together(workspace)
    under_way = [(r.campaign, turns(workspace, tokens, r.id, together)) for r in batch_table.due_batches(db, now)]
    try:
        while under_way and not workspace.stopping.is_set():
            going = []
            for campaign, turn in under_way:
                done = _take_turn(workspace, campaign, turn)
                if done is not None:
                    tried += done
                    going.append((campaign, turn))
            under_way = going
    finally:
        together.composers.close()
    return tried


def _take_turn(workspace: Workspace, campaign: CampaignId, turn: Iterator[int]) -> int | None:
    """One chunk of a campaign. What is wrong with this plan alone (a rule in its message names what is not there any more)
    holds it and no other."""
    try:
        return next(turn, None)
    except (RelayAway, Passing):
        raise  # so for everybody
    except MeadowError as e:
        row = campaigns.one(workspace.store.read(), campaign)
        if row is not None and row.sequence and isinstance(e, RelayProblem):
            sequence = sequences.one(workspace.store.read(), row.sequence)
            if sequence is not None:
                runner.pause_by_itself(workspace, sequence, str(e))
                return None
        with workspace.store.atomic() as db:
            campaigns.update(db, campaign, {"state": "paused", "paused_why": str(e), "paused_evidence": "[]"})
            settings.log(db, workspace.now(), "worker", f"paused campaign: {e}", campaigns.name_of(db, campaign))
        return None


def _begin(workspace: Workspace, row: Campaign, batch: Batch) -> bool:
    """What is done once, when a batch's moment has come; False where the plan does not go on."""
    if domains.fresh_check(workspace, row.domain_id or 0) == "fail":
        return False  # the look has held the plan, with the record that broke
    if batch.kind == "first" and batch.n > 1 and (why := ab_test.settle(workspace, row)):
        with workspace.store.atomic() as db:
            campaigns.update(db, row.id, {"state": "paused", "paused_why": why})
            settings.log(db, workspace.now(), "worker", "paused campaign: A/B test", row.name)
        return False
    if batch.n > 1 and inbox_placement.pause_if_spam(workspace, row, workspace.view()):
        return False
    if batch.kind != "first" and not batch.variant:
        resend.draw(workspace, row, batch)
    with workspace.store.atomic() as db:
        _move_what_follows(workspace, db, row, batch)
        batch_table.set_batch(db, batch.id, "sending")
        campaigns.update(db, row.id, {"state": "sending"})
    return True


LATE = 900  # seconds after which what follows a batch moves along


def _move_what_follows(workspace: Workspace, db: sqlite3.Connection, row: Campaign, batch: Batch) -> None:
    """A batch that goes out late (nobody worked, the clock was set forward, the plan was paused) moves those after it,
    and the resends, by the same delay, so that they keep their distance and people are not mailed twice in a day."""
    plan, late = row.plan, workspace.now() - batch.due_at
    if row.sequence or late < LATE:
        return
    if plan.by_own_clock:
        late = -(-late // A_DAY) * A_DAY  # so that each keeps its hour
    zone = workspace.zone
    moved = batch_table.delay_after(db, row.id, batch.kind, batch.n, late)
    for b in moved:
        at = plan.closed_until(b.due_at, zone)
        if at:
            batch_table.move_batch(db, b.id, at)
    batch_table.set_late(db, batch.id, late)
    if moved:
        hours = f"{late / HOUR:.1f}".removesuffix(".0")
        what = f"batch {batch.n} was sent {hours} h late; {len(moved)} later ones moved by the same time"
        settings.log(db, workspace.now(), "worker", what, row.name)


def _closed(workspace: Workspace, row: Campaign, batch: Batch) -> bool:
    """Whether a batch that was late must wait for the next allowed hour, which becomes its moment. A second try of what
    a provider put off goes by its own times."""
    if row.sequence or batch.state == "sent":
        return False
    at = row.plan.closed_until(workspace.now(), workspace.zone)
    if at:
        with workspace.store.atomic() as db:
            batch_table.move_batch(db, batch.id, at)
    return bool(at)


def turns(workspace: Workspace, tokens: Tokens, row_id: BatchId, together: Together) -> Iterator[int]:
    """Send a batch chunk by chunk; yields how many were tried in each."""
    batch = batch_table.batch(workspace.store.read(), row_id)
    assert batch is not None
    row = campaigns.one(workspace.store.read(), batch.campaign)
    assert row is not None
    if row.state not in (GOES_ON if batch.state == "sent" else ("scheduled", "sending")):
        return
    if batch.state == "scheduled" and batch.due_at > workspace.now():
        return  # moved on by one that was late
    if _closed(workspace, row, batch):
        return
    if batch.state == "scheduled" and not _begin(workspace, row, batch):
        return
    row = campaigns.one(workspace.store.read(), batch.campaign)
    assert row is not None
    writer, out = Writer(workspace, row, tokens), Lines(workspace)
    try:
        out.ready()
        coming = _turn(workspace, writer, batch, 0, together)
        while coming is not None:
            turn, last = coming
            wait = out.begin(turn)
            try:
                # the next ones are looked at while these are on their way; each is asked about again before it goes
                coming = _turn(workspace, writer, batch, last, together)
            finally:
                wait()
            yield len(turn.items)
            now_row = campaigns.one(workspace.store.read(), writer.row.id)
            if now_row is None or now_row.state in ("paused", "stopped") or _closed(workspace, now_row, batch):
                return
            if not guardrails.too_soon(workspace, writer.row.id) and guardrails.look(workspace, writer.row.id):
                return
            if now_row.version != writer.row.version:
                writer = Writer(workspace, now_row, tokens)  # what was changed meanwhile is said from here on
                coming = _turn(workspace, writer, batch, last, together)
            if coming is None:
                coming = _turn(workspace, writer, batch, 0, together)  # who came back to waiting
            out.ready()
    finally:
        out.close()
    _close(workspace, writer.row, row_id)


def _turn(workspace: Workspace, writer: Writer, batch: Batch, after: int, together: Together) -> tuple[Turn, int] | None:
    """The next people who wait in a batch, and the last of them; who the eligibility check leaves out is noted with the reason.
    None when nobody waits any more."""
    db, row = workspace.store.read(), writer.row
    variants = resend.arms_in(batch, writer.plan) if batch.kind != "first" else [None]
    seen, caps = (events.highest(db), facts_version(db)), caps_of(workspace, writer.plan)

    def fit(item: Item) -> bool:
        """Nothing came of them since the eligibility check was asked, or it was asked again and still says yes; and their
        provider takes one more today."""
        db, subscriber, why = workspace.store.read(), item.delivery.subscriber, ""
        if events.came_since(db, subscriber, seen[0]) or facts_version(db) != seen[1]:
            why = reasons(workspace, row, batch, [item.delivery])[0].get(subscriber, "")
        if not why and not together.caps.take(item.delivery.provider, caps.get(item.delivery.provider)):
            why = CAP_FULL
        if why:
            _not_now(workspace, row, batch, writer.plan, item.delivery, why)
        return not why

    last = writer.plan.no_later_than
    if last is not None and not row.sequence and workspace.now() > last:
        with workspace.store.atomic() as w:
            deliveries_table.skip_rest(w, batch.id, TOO_LATE, workspace.now())
        return None
    while waiting := deliveries_table.waiting_of(db, batch.id, CHUNK, after):
        after = waiting[-1].subscriber
        refused, facts = reasons(workspace, row, batch, waiting)
        if caps:
            refused |= _over_caps(workspace, caps, facts, refused)
        held: dict[int, list[set[str]]] = {}
        taken, to = [], []
        for i, d in enumerate(waiting):
            reason = refused.get(d.subscriber)
            if reason:
                _not_now(workspace, row, batch, writer.plan, d, reason)
                continue
            version = d.version or row.version
            if version not in held:
                held[version] = writer.held(version, facts.ids)
            taken.append(d)
            to.append(writer.addressee(d, d.email, person_fields(d), variants[d.variant], held[version][i]))
        if taken:
            written = together.composers.written(writer.composer, to, workspace.now())
            items = [Item(*both) for both in zip(taken, written, strict=True)]
            return Turn(writer, items, fit, together.caps.put_back, GOES_ON), after
    return None


RESEND_WAITS = 4 * A_DAY


def _not_now(workspace: Workspace, row: Campaign, batch: Batch, plan: Plan, d: QueuedDelivery, reason: str) -> None:
    """Skipped with the reason. Who has only had too many messages waits: a campaign's a day, within the plan's last
    moment, a sequence's until the next allowed moment."""
    now, last, full = workspace.now(), plan.no_later_than, reason == TOO_MANY
    again = now + A_DAY
    if row.sequence and full:
        sent = events.sent_to(workspace.store.read(), d.subscriber, now - 7 * A_DAY)
        most = int(workspace.setting("most_a_day")), int(workspace.setting("most_a_week"))
        again = max(now + 60, next_allowed(sent, now, *most))
        again = again if again > now + 60 else now + A_DAY  # the person's own limit is by the week or month
    # a resend is never emptied by the limit of messages: it waits a few days for who has had one today
    resend_waits = batch.kind != "first" and now - batch.due_at < RESEND_WAITS
    waits = (full and (last is not None or row.sequence or resend_waits)) or reason == CAP_FULL
    with workspace.store.atomic() as db:
        if waits and (last is None or again <= last):
            deliveries_table.mark(db, d.id, deliveries_table.DEFERRED, now, reason, again)
        else:
            deliveries_table.mark(db, d.id, deliveries_table.SKIPPED, now, reason)


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


TOO_MANY, CAP_FULL = OWN_WAITS
TOO_LATE = "the end date has passed"


def _over_caps(workspace: Workspace, caps: dict[int, int], facts: StoreFacts, without: dict[int, str]) -> dict[int, str]:
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


def _close(workspace: Workspace, row: Campaign, batch: BatchId) -> None:
    """A batch with nobody waiting is gone; a campaign without open batches is finished. A sequence's go on."""
    if row.sequence:
        return
    campaign = row.id
    with workspace.store.atomic() as db:
        if deliveries_table.unsettled(db, batch) == 0:
            found = batch_table.batch(db, batch)
            if found is not None and found.state != BatchState.SENT:
                batch_table.set_batch(db, batch, "sent", sent_at=workspace.now())
        if batch_table.open_batches(db, campaign) == 0:
            campaigns.update(db, campaign, {"state": "finished"})
