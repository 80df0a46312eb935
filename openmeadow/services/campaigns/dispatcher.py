"""What is due goes out, plan by plan in turns, the guardrails being read in between."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator

from openmeadow.core.errors import MeadowError, Passing
from openmeadow.core.ids import BatchId, CampaignId
from openmeadow.core.moments import DAY, HOUR
from openmeadow.core.states import BatchState
from openmeadow.net.signed_tokens import Tokens
from openmeadow.net.smtp_client import RelayAway, RelayProblem
from openmeadow.services.campaigns import ab_test, guardrails, inbox_placement, resend
from openmeadow.services.campaigns.ahead import Ahead, Together
from openmeadow.services.campaigns.renderer import Writer
from openmeadow.services.campaigns.smtp_delivery import Lines
from openmeadow.services.senders import domains
from openmeadow.services.sequences import runner
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.campaigns import batches as batch_table
from openmeadow.store.campaigns import campaigns
from openmeadow.store.campaigns import deliveries as deliveries_table
from openmeadow.store.campaigns import unconfirmed as unconfirmed_table
from openmeadow.store.campaigns.delivery_records import Batch
from openmeadow.store.campaigns.records import Campaign
from openmeadow.store.sequences import sequences
from openmeadow.store.turns import Turns

A_DAY = DAY
UNDER_WAY = ("scheduled", "sending")
GOES_ON = (*UNDER_WAY, "finished")  # finished: a second try of what was put off


def recover(workspace: Workspace) -> int:
    """After a crash: what was between DATA and its answer is unconfirmed, and shown."""
    with workspace.store.atomic() as db:
        caught = unconfirmed_table.caught_between(db, workspace.now())
        if caught:
            settings.log(db, workspace.now(), "worker", "found unconfirmed deliveries", "deliveries", caught)
    return caught


def send_due(workspace: Workspace, tokens: Tokens) -> int:
    """Send everything that is due now, campaign by campaign in turns of a chunk, so that a long batch keeps no other
    waiting. Returns how many sends were tried."""
    recover(workspace)  # while nothing is on its way, whatever is called so was left by a stop
    db, now, tried = workspace.store.read(), workspace.now(), 0
    if deliveries_table.again_due(db, now):
        Turns(workspace.store).while_any(lambda w, most: deliveries_table.requeue(w, now, most))
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
            why = {"state": "paused", "paused_why": str(e), "paused_evidence": "[]"}
            if campaigns.update_in(db, campaign, GOES_ON, why):
                settings.log(db, workspace.now(), "worker", f"paused campaign: {e}", campaigns.name_of(db, campaign))
        return None


def _begin(workspace: Workspace, row: Campaign, batch: Batch) -> bool:
    """What is done once, when a batch's moment has come; False where the plan does not go on."""
    if domains.fresh_check(workspace, row.domain_id or 0) == "fail":
        return False  # the look has held the plan, with the record that broke
    if batch.kind == "first" and batch.n > 1 and (why := ab_test.settle(workspace, row)):
        with workspace.store.atomic() as db:
            if campaigns.update_in(db, row.id, UNDER_WAY, {"state": "paused", "paused_why": why}):
                settings.log(db, workspace.now(), "worker", "paused campaign: A/B test", row.name)
        return False
    if batch.n > 1 and inbox_placement.pause_if_spam(workspace, row, workspace.view()):
        return False
    if batch.kind != "first" and not batch.variant:
        resend.draw(workspace, row, batch)
    with workspace.store.atomic() as db:
        if not campaigns.update_in(db, row.id, UNDER_WAY, {"state": "sending"}):
            return False  # somebody has paused it, or ended it, while all this was looked at
        _move_what_follows(workspace, db, row, batch)
        batch_table.set_batch(db, batch.id, "sending")
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
    if row.state not in (GOES_ON if batch.state == "sent" else UNDER_WAY):
        return
    if batch.state == "scheduled" and batch.due_at > workspace.now():
        return  # moved on by one that was late
    if _closed(workspace, row, batch):
        return
    if batch.state == "scheduled" and not _begin(workspace, row, batch):
        return
    row = campaigns.one(workspace.store.read(), batch.campaign)
    assert row is not None
    writer, out, ahead = Writer(workspace, row, tokens), Lines(workspace), Ahead(workspace, batch, together, GOES_ON)
    try:
        out.ready()
        coming = ahead.turn(writer, 0)
        while coming is not None:
            turn, last = coming
            wait = out.begin(turn)
            try:
                # the next ones are looked at while these are on their way; each is asked about again before it goes
                coming = ahead.turn(writer, last)
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
                coming = ahead.turn(writer, last)
            if coming is None:
                coming = ahead.turn(writer, 0)  # who came back to waiting
            out.ready()
    finally:
        out.close()
    _close(workspace, writer.row, row_id)


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
            campaigns.update_in(db, campaign, UNDER_WAY, {"state": "finished"})
