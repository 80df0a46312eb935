"""A provider starts to put mail into the spam folder: the campaign pauses for it, once, and goes on as somebody decides."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from openmeadow.core.events import Kind
from openmeadow.core.moments import DAY, HOUR
from openmeadow.services.campaigns import campaigns, guardrails, inbox_placement
from openmeadow.services.campaigns.results import results
from openmeadow.services.health import provider_health
from openmeadow.services.today import overview
from openmeadow.store.engagement import events
from openmeadow.store.health import inbox_placement as table
from tests.conftest import NOW, set_clock
from tests.services.mailing import Mailing, deliveries_of, mailing, on_time

PLAN = {"pilot_share": 0.3, "batches": 2, "interval": 2 * DAY, "resend": False}


def opens(m: Mailing, share: float, at: str = "") -> None:
    """Of those who were sent it and have not opened it, a share does, of one domain only where given."""
    row, r = campaigns.row_of(m.workspace, m.campaign), np.random.default_rng(4)
    with m.workspace.store.atomic() as db:
        sent = [d for d in deliveries_of(db, m.campaign, "first") if d.state == "sent"]
        email = {i: e for i, e in db.execute("SELECT id, email FROM subscribers")}
        known = {s for (s,) in db.execute("SELECT subscriber FROM events WHERE kind = 5")}
        mine = [d for d in sent if email[d.subscriber].endswith(at) and d.subscriber not in known]
        some = [d for d in mine if r.random() < share]
        events.add(
            db,
            (
                ((d.changed_at or 0) + HOUR, int(Kind.OPENED), d.subscriber, row.message, 0, 0, 0.0, None, None, None)
                for d in some
            ),
        )


def test_a_campaign_pauses_for_the_spam_folder_once(folder: Path) -> None:
    with mailing(folder, 300) as m:
        campaigns.write(m.workspace, m.campaign, {"plan": PLAN})
        campaigns.start(m.workspace, m.campaign, "test")
        on_time(m, NOW + HOUR)
        opens(m, 0.4, "@saltmere.example")  # nobody at Postern
        on_time(m, NOW + 3 * DAY)
        row = campaigns.row_of(m.workspace, m.campaign)
        assert row.state == "paused" and row.paused_why.startswith("Postern: 0 of "), row.paused_why
        seen = guardrails.see(m.workspace, m.campaign)
        assert seen.providers == ["Postern"] and seen.evidence[0].guardrail == "inbox placement"
        found = {p.name: p.placement for p in provider_health.providers(m.workspace, m.workspace.view())}
        assert found["Postern"][0].state == "spam" and found["Other domains"][0].state != "spam"
        told = [d for d in overview.decisions(m.workspace, m.workspace.view()) if d.kind == "Spam"]
        assert len(told) == 1 and told[0].title.startswith("Postern most likely put")
        shown = results(m.workspace, m.campaign).observed
        assert shown is not None and shown.people == 90 and shown.observed < shown.expected_in_all

        campaigns.resume(m.workspace, m.campaign, "test")
        on_time(m, NOW + 9 * DAY)
        assert campaigns.row_of(m.workspace, m.campaign).state != "paused", "who resumes has decided"
        assert inbox_placement.tend(m.workspace) == []


def test_a_low_season_pauses_nothing(folder: Path) -> None:
    with mailing(folder, 300) as m:
        campaigns.write(m.workspace, m.campaign, {"plan": PLAN})
        campaigns.start(m.workspace, m.campaign, "test")
        on_time(m, NOW + HOUR)
        opens(m, 0.12)
        set_clock(m.workspace, NOW + 2 * DAY - HOUR)
        assert inbox_placement.tend(m.workspace) == []
        on_time(m, NOW + 9 * DAY)
        assert campaigns.row_of(m.workspace, m.campaign).state != "paused"
        kept = table.of_message(m.workspace.store.read(), campaigns.row_of(m.workspace, m.campaign).message or 0)
        assert len(kept) == 2 and all(k.likelihood < 20 for k in kept)
