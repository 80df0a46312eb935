"""Campaigns: write, choose, check, plan, start, hold, go on, stop."""

from __future__ import annotations

import json
import secrets
import sqlite3
from dataclasses import dataclass
from typing import cast

from openmeadow.core.addresses.syntax import address_key, syntax_problem
from openmeadow.core.consent.eligibility import SUPPRESSION_REASONS
from openmeadow.core.delivery.plan import Plan
from openmeadow.core.delivery.schedule import Schedule, allowed_from
from openmeadow.core.errors import Missing, Refused
from openmeadow.core.ids import NOBODY, BatchId, CampaignId, MessageId, SubscriberId
from openmeadow.core.message.personalisation import links, one_line, plain_text_of
from openmeadow.core.moments import HOUR
from openmeadow.core.states import CampaignState
from openmeadow.services import models
from openmeadow.services.campaigns import (
    ab_test,
    approval,
    findings,
    first_send,
    preflight_recipients,
    recipients,
    resend,
    templates,
    waits,
)
from openmeadow.services.campaigns.schedule import NO_ROOM, ONCE, draw_schedule, start_problem
from openmeadow.services.segments import segments
from openmeadow.services.senders import domains
from openmeadow.services.subscribers import reconsent
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.campaigns import batches as batch_table
from openmeadow.store.campaigns import campaigns, content, deliveries
from openmeadow.store.campaigns import unconfirmed as unconfirmed_table
from openmeadow.store.campaigns.records import Campaign, Texts, Version
from openmeadow.store.rows import SqlValue
from openmeadow.store.senders import senders as from_addresses
from openmeadow.store.subscribers import consent, subscribers
from openmeadow.store.turns import Turns

TRAP_PATH = "/trap"
ONE_LINE = ("name", "subject", "preview", "from_name")
AS_JSON = ("segments_in", "segments_out", "lists_in", "lists_out")
TESTS_TO_ONE, TESTS_BY_ONE = 6, 40  # test messages within an hour
NO_TESTS = ("complaint", "hard bounce", "bad address")  # suppressed for these, nobody gets one


def row_of(workspace: Workspace, row_id: int) -> Campaign:
    """The campaign; Missing where there is none."""
    row = campaigns.one(workspace.store.read(), row_id)
    if row is None:
        raise Missing("This campaign does not exist.")
    return row


def message_of(db: sqlite3.Connection, row_id: int) -> int:
    """The message of a campaign that has started."""
    row = campaigns.one(db, row_id)
    if row is None or not row.message:
        raise Missing("This campaign has not started.")
    return row.message


def add(workspace: Workspace, name: str, who: str, *, template: int = 0, other: int = 0) -> CampaignId:
    """Begin a draft, empty or with the message of a template or of another campaign; its id."""
    name = name.strip()
    if not name:
        raise Refused("A campaign needs a name.")
    wait = waits.usual_wait(workspace, workspace.view())
    with workspace.store.atomic() as db:
        if campaigns.named(db, name):
            raise Refused(f"There is already a campaign “{name}”.")
        row_id = campaigns.add(db, name, secrets.randbits(48), workspace.now())
        campaigns.update(db, row_id, {"plan": Plan(wait=wait).model_dump_json()})
        settings.log(db, workspace.now(), who, "created campaign", name)
    if template or other:
        templates.begin_from(workspace, row_id, template=template, other=other)
    return row_id


def for_segment(workspace: Workspace, name: str, rule: str, who: str) -> int:
    """Keep a rule as a segment and begin a draft that mails its people; the campaign's id."""
    segment = segments.save(workspace, name, rule, who)
    row_id = add(workspace, f"Win back: {name.strip()}", who)
    write(workspace, row_id, {"segments_in": [segment.id]})
    return row_id


def write(workspace: Workspace, row_id: int, values: models.CampaignChanges) -> None:
    """Change a draft. The plain-text version follows the HTML until it is edited by hand."""
    row = row_of(workspace, row_id)
    if row.state != CampaignState.DRAFT:
        raise Refused(f"“{row.name}” has started. Its content and recipients can no longer be changed.")
    columns: dict[str, SqlValue] = {
        k: one_line(str(v)) if k in ONE_LINE else json.dumps(v) if k in AS_JSON else cast(SqlValue, v)
        for k, v in values.items()
        if k not in ("plan", "blocks", "html", "plain", "reply_to")
    }
    columns |= _texts(workspace, row, values)
    reply_to = (values.get("reply_to") or "").strip()
    if reply_to and (problem := syntax_problem(reply_to)):
        raise Refused(f"“{reply_to[:80]}” cannot be the reply-to address: {problem}.")
    if "reply_to" in values:
        columns["reply_to"] = reply_to
    if "plan" in values:
        plan = row.plan.changed(**(values["plan"] | {"suppressed_at": row.plan.suppressed_at} | ONCE[row.kind]))
        plan.check()
        columns["plan"] = plan.model_dump_json()
    purpose, address = values.get("purpose"), values.get("from_address")
    with workspace.store.atomic() as db:
        if purpose is not None and consent.purpose(db, purpose) is None:
            raise Missing("This purpose does not exist.")
        if address is not None and not from_addresses.has_address(db, address):
            raise Missing("This from address does not exist.")
        if "name" in values and (other := campaigns.named(db, str(columns["name"]))) and other.id != row_id:
            raise Refused(f"There is already a campaign “{values['name']}”.")
        campaigns.update(db, row_id, columns)


def _texts(workspace: Workspace, row: Campaign, values: models.CampaignChanges) -> dict[str, SqlValue]:
    """What the message says after a change: blocks become HTML, and HTML that is written puts an end to blocks."""
    out: dict[str, SqlValue] = {}
    if "plain" in values:
        out["plain"] = values["plain"]
    blocks = values.get("blocks")
    if blocks is not None:
        out = {**templates.rendered(workspace, blocks, row.plain_edited and "plain" not in values), **out}
    elif "html" in values:
        out |= {"html": values["html"], "blocks": None}
    elif "blocks" in values:
        out["blocks"] = None
    html, edited = str(out.get("html", row.html)), row.plain_edited
    if "plain" in values:
        edited = bool(values["plain"].strip()) and values["plain"] != plain_text_of(html)
        out["plain_edited"] = edited
    if "html" in out and not edited:
        out["plain"] = plain_text_of(html)
    return out


def choose(workspace: Workspace, row_id: CampaignId, email: str, side: str) -> None:
    """Take one subscriber into a draft by their address, leave them out, or forget them (side "")."""
    row, key = row_of(workspace, row_id), address_key(email.strip())
    if row.state != "draft":
        raise Refused(f"“{row.name}” has started. Its recipients can no longer be changed.")
    found = subscribers.ids_of(workspace.store.read(), [key])
    if key not in found:
        raise Missing(f"There is no subscriber with the address {email.strip()[:80]}.")
    with workspace.store.atomic() as db:
        campaigns.choose_person(db, row_id, found[key], side)


# what keeps a campaign from starting that another program sends: its sender and its message are that program's
THERE_TOO = ("Purpose", "Recipients", "Consent", "Approval")


def _ready_to_start(workspace: Workspace, row: Campaign, external: bool) -> tuple[Campaign, Plan]:
    """A draft that nothing keeps from starting, looked up again, and its plan; Refused with what is in the way."""
    if row.state != "draft":
        raise Refused(f"“{row.name}” has already started.")
    if row.sequence:
        raise Refused("It is part of a sequence. Start the sequence instead.")
    if row.domain_id:
        domains.fresh_check(workspace, row.domain_id)
        row = row_of(workspace, row.id)
    stops = findings.stops(preflight_recipients.thorough(workspace, row))
    if external:
        stops = [s for s in stops if s.check in THERE_TOO]
    if stops:
        raise Refused(f"It cannot start yet. {stops[0].check}: {stops[0].finding}")
    p = row.plan
    p.check()
    if problem := start_problem(workspace, p):
        raise Refused(f"It cannot start: {problem}")
    return row, p


@dataclass(frozen=True)
class Started:
    """How many people a campaign goes to, in how many batches."""

    people: int
    batches: int


def start(workspace: Workspace, row_id: CampaignId, who: str, *, external: bool = False) -> Started:
    """Draw the batches and let the plan run. Everyone who may be mailed gets exactly one delivery. ``external``:
    another system sends it, and its event log reports."""
    row = row_of(workspace, row_id)
    row, p = _ready_to_start(workspace, row, external)
    chosen = recipients.work_out(workspace, row)
    if not len(chosen.index):
        reason = next((words for words, n in chosen.exclusions if n < 0), "the segments are empty")
        raise Refused(f"No recipients: {reason.lower()}.")
    other = content.version(workspace.store.read(), row_id, ab_test.VERSIONS)
    drawn, scores = draw_schedule(workspace, row, chosen), chosen.view.scores
    band, chance = scores.band[chosen.index], scores.chance[chosen.index]
    if not drawn.moments:
        raise Refused(f"It cannot start. {NO_ROOM}")
    subscriber = chosen.subscriber  # looked up once: it is as long as the campaign is large
    with workspace.store.roomy(), first_send.one_start(workspace):
        first_send.clear(workspace, row_id)
        first = first_send.write(workspace, row_id, drawn, subscriber, band, chance)
        try:
            _started(workspace, row, p, chosen, drawn, other, first, who, external)
        except Refused:
            first_send.clear(workspace, row_id)
            raise
    return Started(len(chosen.index), len(drawn.moments))


def _started(
    workspace: Workspace,
    row: Campaign,
    p: Plan,
    chosen: recipients.Recipients,
    drawn: Schedule,
    other: Version | None,
    first: int,
    who: str,
    external: bool,
) -> None:
    """A draft whose deliveries are written becomes a campaign that runs; Refused where it has changed meanwhile."""
    row_id, subscriber = row.id, chosen.subscriber
    with workspace.store.atomic() as db:
        if (again := campaigns.one(db, row_id)) is None or again.state != "draft":
            raise Refused(f"“{row.name}” has already started.")
        if row.changed_in(again):
            raise Refused(f"“{row.name}” was changed while it was being started. Check it and start it again.")
        message = campaigns.add_message(db, row.name, row.purpose)
        on_start(workspace, db, row, MessageId(message), who)
        texts = [Texts.of(row)] if other is None else [Texts.of(row), Texts.of(other)]
        for url in dict.fromkeys(u for t in texts for u in links(t.html, t.plain)):
            campaigns.add_link(db, MessageId(message), url)
        campaigns.add_link(db, MessageId(message), str(workspace.setting("public_url")) + TRAP_PATH, trap=True)
        content.add_version(db, row_id, 1, Texts.of(row), who, workspace.now())
        if p.resend:
            resend.plan_passes(db, row_id, p, drawn.moments, workspace.zone)
        if p.test and other is not None:
            random = ab_test.divide(row, subscriber, drawn.batch == 0)
            deliveries.set_versions(db, ((int(v), first, int(s)) for v, s in zip(random, subscriber, strict=True) if v))
        campaigns.update(
            db,
            row_id,
            {
                "state": "scheduled",
                "message": message,
                "started_at": workspace.now(),
                "exclusions": json.dumps(chosen.exclusions),
                "external": int(external),
            },
        )
        act = "scheduled, to be sent with another system" if external else "started campaign"
        settings.log(db, workspace.now(), who, act, row.name, len(chosen.index))


def on_start(workspace: Workspace, db: sqlite3.Connection, row: Campaign, message: MessageId, who: str) -> None:
    """A consent request keeps the segments of who agreed and who did not reply."""
    if row.kind == "consent request":
        reconsent.save_segments(workspace, db, row, message, who)


def pause(workspace: Workspace, row_id: int, who: str) -> None:
    """Nothing more goes out until somebody goes on; what is being sent at this moment is finished."""
    _move(workspace, row_id, who, ("scheduled", "sending"), "paused", "paused campaign")


def resume(workspace: Workspace, row_id: CampaignId, who: str) -> None:
    """Go on with a paused campaign; guardrails count anew from here."""
    row = row_of(workspace, row_id)
    if approval.needed(workspace) and row.asked_by == who and row.paused_why.startswith(f"{who} changed"):
        raise Refused("You changed the message yourself. Someone else must approve it and resume.")
    with workspace.store.atomic() as db:
        _move(workspace, row_id, who, ("paused",), "sending", "resumed campaign")
        campaigns.update(db, row_id, {"guard_from": workspace.now() + 1, "paused_why": "", "paused_evidence": "[]"})
        unconfirmed_table.requeue_blocked(db, row_id)


def stop(workspace: Workspace, row_id: CampaignId, who: str) -> int:
    """For good: everybody still waiting is skipped. Returns how many."""
    if row_of(workspace, row_id).sequence:
        raise Refused("It is part of a sequence. Disable the step there, or end the sequence.")
    with workspace.store.atomic() as db:
        _move(workspace, row_id, who, ("scheduled", "sending", "paused"), "stopped", "stopped campaign")
        batch_table.set_batches(db, row_id, ("scheduled", "sending", "paused"), "stopped")
    return skip_waiting(workspace, row_id)


def skip_waiting(workspace: Workspace, row_id: CampaignId) -> int:
    """Skip everybody of a stopped campaign who still waits, some at a time; how many."""
    now = workspace.now()
    return Turns(workspace.store).while_any(lambda db, most: deliveries.stop_waiting(db, row_id, now, most))


def finish_stops(workspace: Workspace) -> None:
    """What a stop that was cut off has left waiting is skipped."""
    for row_id in deliveries.stopped_and_waiting(workspace.store.read()):
        skip_waiting(workspace, row_id)


def move(workspace: Workspace, row_id: CampaignId, batch: BatchId, due_at: int, who: str) -> int:
    """Another moment for a batch that still waits: never before now nor outside the allowed hours; its resend moves
    along. The moment it got."""
    row, db = row_of(workspace, row_id), workspace.store.read()
    found = batch_table.batch(db, batch)
    if found is None or found.campaign != row_id:
        raise Missing("This batch does not exist.")
    if row.state not in ("scheduled", "sending", "paused") or found.state != "scheduled":
        raise Refused("Only a scheduled batch can be moved.")
    p, zone = row.plan, workspace.zone
    at = allowed_from(max(due_at, workspace.now()), p.windows, zone)
    if p.no_later_than and at > p.no_later_than:
        raise Refused("That is after the campaign's end date.")
    with workspace.store.atomic() as w:
        if found.kind == "first" and found.n > 1 and p.pilot_share:
            lead = deliveries.first_moment(w, row_id)
            at = max(at, lead)
        for b in batch_table.batches(w, row_id):
            same = b.id == batch or (found.kind == "first" and b.n == found.n)
            if same and b.state == "scheduled":
                batch_table.move_batch(w, b.id, b.due_at + at - found.due_at)
        settings.log(w, workspace.now(), who, f"moved batch {found.n}", row.name)
    return at


def _move(workspace: Workspace, row_id: int, who: str, states: tuple[str, ...], to: str, act: str) -> None:
    with workspace.store.atomic() as db:
        row = campaigns.one(db, row_id)
        if row is None:
            raise Missing("This campaign does not exist.")
        if row.state not in states:
            raise Refused(f"“{row.name}” is {row.state}, so this is not possible.")
        campaigns.update(db, row_id, {"state": to})
        settings.log(db, workspace.now(), who, act, row.name)


def test_message(workspace: Workspace, row_id: int, to: str, who: str, subscriber: SubscriberId = NOBODY) -> int:
    """One copy to a colleague as a chosen person would get it, marked as a test and never counted. The number of its
    kept source."""
    from openmeadow.services.campaigns.renderer import test_copy

    if problem := syntax_problem(to.strip()):
        raise Refused(f"“{to.strip()[:80]}” is not a valid address: {problem}.")
    _may_get_tests(workspace, to.strip(), who)
    return test_copy(workspace, row_of(workspace, row_id), to.strip(), who, subscriber=subscriber)


def _may_get_tests(workspace: Workspace, to: str, who: str) -> None:
    """A few test messages an hour to one address, more by one person; none to who complained or cannot be reached."""
    db, since, key = workspace.store.read(), workspace.now() - HOUR, address_key(to)
    if content.tests_since(db, since, recipient=to) >= TESTS_TO_ONE:
        raise Refused(f"{to} got {TESTS_TO_ONE} test messages within the hour. Wait a little, or use another address.")
    if content.tests_since(db, since, who=who) >= TESTS_BY_ONE:
        raise Refused(f"You sent {TESTS_BY_ONE} test messages within the hour. Wait a little.")
    ids = subscribers.ids_of(db, [key])
    reasons = consent.suppressions_of(db, ids[key]) if key in ids else []
    against = [SUPPRESSION_REASONS[r - 1] for r in reasons if SUPPRESSION_REASONS[r - 1] in NO_TESTS]
    if against:
        raise Refused(f"{to} is suppressed ({', '.join(against)}), so no test is sent there.")
