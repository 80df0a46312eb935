"""The demo's finished campaigns: some of its past mailings went out by a campaign, in batches at random, and once
more to those who
left them ignored, with two subjects and some in the holdout group; drawn by the same code, answered by people's hidden habits."""

from __future__ import annotations

import json
from zoneinfo import ZoneInfo

import numpy as np

from openmeadow.core.engagement.score import score
from openmeadow.core.events import Kind
from openmeadow.core.ids import CampaignId, MessageId, PurposeId
from openmeadow.core.moments import DAY
from openmeadow.demo.mail_world.habits import Habits, chance_to_open
from openmeadow.demo.mail_world.history import PERSON_AGENTS, PERSON_IP, SITE, mailings
from openmeadow.services.campaigns import campaigns, resend
from openmeadow.services.clock import DemoClock
from openmeadow.services.models import CampaignChanges
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.campaigns import batches as batch_table
from openmeadow.store.campaigns import campaigns as campaign_table
from openmeadow.store.campaigns import content, deliveries
from openmeadow.store.campaigns import external as external_table
from openmeadow.store.campaigns.records import Texts
from openmeadow.store.engagement import event_counts, events
from openmeadow.store.segments import segments
from openmeadow.store.senders import senders as sender_table
from openmeadow.store.subscribers import subscribers

# weeks ago: subject, the resend's new subject, how much better that one does, preview, text
TOLD = {
    12: ("The winter organ plays again", "Four hundred pipes, one evening", 1.3, "Warm coats are welcome.",
         "the hall is cold in December and the organ does not mind. Bring a coat, stay for the long chord."),
    9: ("Open rehearsal, Thursdays at four", "Come in while they practise", 1.0, "The side door is open.",
        "on Thursdays the orchestra rehearses with the doors open. Sit where you like, leave when you must."),
    6: ("Late hours: music until the last ferry", "The last ferry waits for you", 1.4, "The bar stays open too.",
        "from nine to the last ferry, small rooms and long songs. The ferry leaves ten minutes after the last note."),
    3: ("New voices, three evenings in March", "Three voices you have not heard yet", 1.15, "No one knows them. Yet.",
        "three singers, three evenings, and a hall that has never heard them."),
}  # fmt: skip
BATCHES, APART = 3, 600
WAIT, HELD = 2 * DAY, 0.15
AGAIN = 0.3  # of the chance to open the first


def make(workspace: Workspace, habits: Habits, now: int) -> None:
    """Make the campaigns of the demo's past, with their deliveries."""
    assert isinstance(workspace.clock, DemoClock)
    weekly = [(at, name) for at, name, purpose in mailings(now) if purpose == "Season news"]
    for weeks, (subject, new_subject, better, preview, words) in TOLD.items():
        at, name = weekly[-weeks]
        workspace.clock.set(at - DAY)
        html = (
            f"<h1>{subject}</h1><p>Dear {{{{ first_name or 'friend' }}}},</p><p>{words}</p>"
            f'<p><a href="{SITE}/programme">The programme</a>, <a href="{SITE}/tickets">tickets</a>, '
            f'<a href="{SITE}/visit">how to get here</a></p>'
        )
        plan = {
            **{"pilot_share": 0.0, "batches": BATCHES, "interval": APART, "order": "at random"},
            **{"wait": WAIT, "holdout_share": HELD, "new_subject": new_subject},
        }
        row_id = _draft(workspace, name, weeks, {"subject": subject, "preview": preview, "html": html, "plan": plan})
        workspace.clock.set(at)
        message = _sent(workspace, CampaignId(row_id), name, at)
        _again(workspace, CampaignId(row_id), habits, better, MessageId(message))
    workspace.clock.set(now)


def _draft(workspace: Workspace, name: str, seed: int, written: CampaignChanges) -> int:
    db = workspace.store.read()
    row_id = campaigns.add(workspace, name, "demo")
    with workspace.store.atomic() as w:
        campaign_table.update(w, row_id, {"seed": seed})  # the same lots in every demo
    purpose = next(PurposeId(p.id) for p in subscribers.names(db, "purposes") if p.name == "Season news")
    address = next(a.id for a in sender_table.addresses(db) if a.address.startswith("hello@"))
    everybody = segments.named(db, "Permitted for Season news")
    assert everybody is not None
    sent_by: CampaignChanges = {"purpose": purpose, "from_address": address, "from_name": "Kestrel Quay"}
    campaigns.write(workspace, row_id, {**sent_by, "segments_in": [everybody.id], **written})
    return row_id


def _sent(workspace: Workspace, row_id: CampaignId, name: str, at: int) -> int:
    """The ledger of the first send, as the history has it; the id of its message."""
    with workspace.store.atomic() as db:
        message = events.Names(db).messages([name])[0]
        sent = event_counts.first_sent(db, MessageId(message))
        view = workspace.view()
        place = np.searchsorted(view.columns.people.id, [r.subscriber for r in sent])
        then = score(view.columns, at, workspace.basis(view.columns, at))
        band, chance = then.band[place], np.round(10_000 * then.chance[place]).astype(np.int64)
        row = campaigns.row_of(workspace, row_id)
        content.add_version(db, row_id, 1, Texts.of(row), "demo", at)
        first = batch_table.add_pass(db, row_id, "first")
        batch = np.minimum([(r.at - at) // APART for r in sent], BATCHES - 1)
        sizes = np.bincount(batch, minlength=BATCHES).tolist()
        batches = [batch_table.add_batch(db, first, i + 1, at + i * APART, n) for i, n in enumerate(sizes)]
        rows = zip(sent, batch.tolist(), band.tolist(), chance.tolist(), strict=True)
        deliveries.add_deliveries(
            db, [(first, batches[n], r.subscriber, 0, b, deliveries.QUEUED, None, c) for r, n, b, c in rows]
        )
        external_table.report_external(
            db, row_id, MessageId(message), external_table.waiting_for_word(db, row_id).tolist()
        )
        for i, b in enumerate(batches):
            batch_table.set_batch(db, b, "sent", sent_at=at + (i + 1) * APART)
        exclusions = json.dumps([("Selected", len(sent)), ("May be mailed", len(sent))])
        campaign_table.update(
            db, row_id, {"state": "sending", "message": message, "started_at": at, "exclusions": exclusions}
        )
        settings.log(db, at, "demo", "started campaign", name, len(sent))
        moments = [at + i * APART for i in range(BATCHES)]
        resend.plan_passes(db, row_id, row.plan, moments, ZoneInfo("UTC"))
    return message


def _again(workspace: Workspace, row_id: CampaignId, h: Habits, better: float, message: MessageId) -> None:
    """Each batch's resend, drawn when its wait was over, with what came of it."""
    assert isinstance(workspace.clock, DemoClock)
    row, r = campaigns.row_of(workspace, row_id), np.random.default_rng(row_id)
    place = {s: i for i, s in enumerate(_ids(workspace, h))}
    for b in [b for b in batch_table.batches(workspace.store.read(), row_id) if b.kind == "resend"]:
        at = int(b.due_at)
        workspace.clock.set(at)
        resend.draw(workspace, row, b)
        chance = chance_to_open(h, at) * AGAIN
        with workspace.store.atomic() as db:
            agent = events.Names(db).agents([PERSON_AGENTS[1]], [PERSON_IP.format(3)])[0]
            link = events.Names(db).links([message], [f"{SITE}/tickets"])[0]
            raw: list[events.Row] = []
            for d in deliveries.waiting_of(db, b.id, 10**9):
                i, s = place[d.subscriber], d.subscriber
                went = at + int(r.integers(0, APART))
                raw.append((went, int(Kind.SENT), s, message, 0, 0, 0.0, None, None, None))
                if r.random() < chance[i] * (better if d.variant else 1.0):
                    seen = went + int(r.lognormal(9.1, 1.2)) + 15
                    raw.append((seen, int(Kind.OPENED), s, message, 0, agent, 0.0, None, None, None))
                    if r.random() < h.click[i]:
                        raw.append((seen + 40, int(Kind.CLICKED), s, message, link, agent, 0.0, None, None, None))
            events.add(db, raw)
            external_table.report_external(db, row_id, message, external_table.waiting_for_word(db, row_id).tolist())
            batch_table.set_batch(db, b.id, "sent", sent_at=at + APART)
    with workspace.store.atomic() as db:
        campaign_table.update(db, row_id, {"state": "finished"})


def _ids(workspace: Workspace, h: Habits) -> list[int]:
    """The store's id of each of the hidden people."""
    found = subscribers.ids_of(workspace.store.read(), [str(e) for e in h.email])
    return [found.get(str(e), 0) for e in h.email]
