"""The demo's finished campaigns: some of its past mailings went out by a plan, in batches by lot, and once more to those who
left them unanswered, with two subjects and some held back; drawn by the same code, answered by people's hidden habits."""

from __future__ import annotations

import json
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np

from openmeadow.clock import DemoClock
from openmeadow.core.columns import Kind
from openmeadow.core.engagement.score import score
from openmeadow.desk import campaigns, resending
from openmeadow.desk.desk import Desk
from openmeadow.desk.planning import plan_of
from openmeadow.standins.habits import DAY, Habits, chance_to_open
from openmeadow.standins.history import PERSON_AGENTS, PERSON_IP, SITE, mailings
from openmeadow.store import campaigns as campaign_table
from openmeadow.store import events, ledger, segments, subscribers, workspace, writing
from openmeadow.store import senders as sender_table

# weeks ago: subject, the resend's new subject, how much better that one does, preview, text
TOLD = {
    12: ("The winter organ plays again", "Four hundred pipes, one evening", 1.3, "Warm coats are welcome.",
         "the hall is cold in December and the organ does not mind. Bring a coat, stay for the long chord."),
    9: ("Open rehearsal, Thursdays at four", "Come in while they practise", 1.0, "The side door is open.",
        "on Thursdays the orchestra rehearses with the doors open. Sit where you like, leave when you must."),
    6: ("Late hours: music until the last ferry", "The last ferry waits for you", 1.4, "The bar stays open too.",
        "from nine to the last ferry, small rooms and long songs. The ferry leaves ten minutes after the last note."),
    3: ("New voices, three evenings in March", "Three voices you have not heard yet", 1.15, "Nobody knows them. Yet.",
        "three singers, three evenings, and a hall that has never heard them."),
}  # fmt: skip
BATCHES, APART = 3, 600
WAIT, HELD = 2 * DAY, 0.15
AGAIN = 0.3  # of the chance to open the first


def make(desk: Desk, habits: Habits, now: int) -> None:
    assert isinstance(desk.clock, DemoClock)
    weekly = [(at, name) for at, name, purpose in mailings(now) if purpose == "Season news"]
    for weeks, (subject, new_subject, better, preview, words) in TOLD.items():
        at, name = weekly[-weeks]
        desk.clock.set(at - DAY)
        html = (
            f"<h1>{subject}</h1><p>Dear {{{{ first_name or 'friend' }}}},</p><p>{words}</p>"
            f'<p><a href="{SITE}/programme">The programme</a>, <a href="{SITE}/tickets">tickets</a>, '
            f'<a href="{SITE}/visit">how to get here</a></p>'
        )
        plan = {
            **{"lead_share": 0.0, "batches": BATCHES, "interval": APART, "order": "by lot"},
            **{"wait": WAIT, "held_share": HELD, "new_subject": new_subject},
        }
        id = _draft(desk, name, weeks, {"subject": subject, "preview": preview, "html": html, "plan": plan})
        desk.clock.set(at)
        message = _sent(desk, id, name, at)
        _again(desk, id, habits, better, message)
    desk.clock.set(now)


def _draft(desk: Desk, name: str, seed: int, written: dict[str, Any]) -> int:
    db = desk.store.read()
    id = campaigns.add(desk, name, "demo")
    with desk.store.atomic() as w:
        campaign_table.update(w, id, {"seed": seed})  # the same lots in every demo
    purpose = next(p["id"] for p in subscribers.names(db, "purposes") if p["name"] == "Season news")
    address = next(a["id"] for a in sender_table.addresses(db) if a["address"].startswith("hello@"))
    everybody = segments.named(db, "Permitted for Season news")
    assert everybody is not None
    sent_by = {"purpose": purpose, "from_address": address, "from_name": "Kestrel Quay"}
    campaigns.write(desk, id, {**sent_by, "segments_in": [everybody["id"]], **written})
    return id


def _sent(desk: Desk, id: int, name: str, at: int) -> int:
    """The ledger of the first pass, as the history has it; the id of its message."""
    with desk.store.atomic() as db:
        message = events.Names(db).messages([name])[0]
        sent = db.execute(
            "SELECT subscriber, min(at) AS at FROM events WHERE message = ? AND kind = ? GROUP BY 1 ORDER BY 1",
            (message, int(Kind.SENT)),
        ).fetchall()
        view = desk.view()
        band = score(view.columns, at).band[np.searchsorted(view.columns.people.id, [r["subscriber"] for r in sent])]
        row = campaigns.row_of(desk, id)
        writing.add_version(db, id, 1, dict(row), "demo", at)
        first = ledger.add_pass(db, id, "first")
        batch = np.minimum([(r["at"] - at) // APART for r in sent], BATCHES - 1)
        sizes = np.bincount(batch, minlength=BATCHES).tolist()
        batches = [ledger.add_batch(db, first, i + 1, at + i * APART, n) for i, n in enumerate(sizes)]
        rows = zip(sent, batch.tolist(), band.tolist(), strict=True)
        ledger.add_deliveries(db, [(first, batches[n], r["subscriber"], 0, b, ledger.WAITING, None) for r, n, b in rows])
        ledger.told_elsewhere(db, id, message)
        for i, b in enumerate(batches):
            ledger.set_batch(db, b, "gone", gone_at=at + (i + 1) * APART)
        sieve = json.dumps([("Chosen", len(sent)), ("Permitted", len(sent))])
        campaign_table.update(db, id, {"state": "sending", "message": message, "started_at": at, "sieve": sieve})
        workspace.log(db, at, "demo", "started plan", name, len(sent))
        moments = [at + i * APART for i in range(BATCHES)]
        resending.plan_passes(db, id, plan_of(row), moments, ZoneInfo("UTC"))
    return message


def _again(desk: Desk, id: int, h: Habits, better: float, message: int) -> None:
    """Each batch's resend, drawn when its wait was over, with what came of it."""
    assert isinstance(desk.clock, DemoClock)
    row, r = campaigns.row_of(desk, id), np.random.default_rng(id)
    place = {s: i for i, s in enumerate(_ids(desk, h))}
    for b in [b for b in ledger.batches(desk.store.read(), id) if b["kind"] == "resend"]:
        at = int(b["due_at"])
        desk.clock.set(at)
        resending.draw(desk, row, ledger.batch(desk.store.read(), b["id"]))
        chance = chance_to_open(h, at) * AGAIN
        with desk.store.atomic() as db:
            agent = events.Names(db).agents([PERSON_AGENTS[1]], [PERSON_IP.format(3)])[0]
            link = events.Names(db).links([message], [f"{SITE}/tickets"])[0]
            raw: list[Any] = []
            for d in ledger.waiting_of(db, b["id"], 10**9):
                i, s = place[d["subscriber"]], d["subscriber"]
                went = at + int(r.integers(0, APART))
                raw.append((went, int(Kind.SENT), s, message, 0, 0, 0.0, None, None, None))
                if r.random() < chance[i] * (better if d["arm"] else 1.0):
                    seen = went + int(r.lognormal(9.1, 1.2)) + 15
                    raw.append((seen, int(Kind.OPENED), s, message, 0, agent, 0.0, None, None, None))
                    if r.random() < h.click[i]:
                        raw.append((seen + 40, int(Kind.CLICKED), s, message, link, agent, 0.0, None, None, None))
            events.add(db, raw)
            ledger.told_elsewhere(db, id, message)
            ledger.set_batch(db, b["id"], "gone", gone_at=at + APART)
    with desk.store.atomic() as db:
        campaign_table.update(db, id, {"state": "finished"})


def _ids(desk: Desk, h: Habits) -> list[int]:
    """The store's id of each of the hidden people."""
    found = subscribers.ids_of(desk.store.read(), [str(e) for e in h.email])
    return [found.get(str(e), 0) for e in h.email]
