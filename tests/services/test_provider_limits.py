"""A provider over a limit is a decision on Today; its daily cap holds over everything that goes out at once."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from openmeadow.core.moments import DAY
from openmeadow.demo.mail_world.habits import FAR
from openmeadow.services.campaigns import campaigns
from openmeadow.services.campaigns.last_check import CAP_FULL, TOO_MANY
from openmeadow.services.subscribers import import_events, import_subscribers
from openmeadow.services.today import overview
from openmeadow.services.workspace import Workspace
from openmeadow.store.health import providers
from tests.conftest import NOW
from tests.services.mailing import mailing, on_time, ready_campaign
from tests.services.test_bring_in import put


def test_a_provider_over_its_limit_is_said(workspace: Workspace, folder: Path) -> None:
    with workspace.store.atomic() as db:
        providers.set_domain(db, "slow.example", providers.add(db, "Slow", NOW))
    people = "".join(f"p{i}@slow.example\n" for i in range(120))
    import_subscribers.run(workspace.store, put(folder, "p.csv", "email\n" + people), NOW, "t")

    def titles(deferred: int, complained: int) -> list[str]:
        at = NOW - DAY
        rows = [
            f"{at},{event},p{i}@slow.example,Letter"
            for event, n in (("sent", 120), ("deferred", deferred), ("complained", complained))
            for i in range(n)
        ]
        text = "at,event,email,message\n" + "\n".join(r.replace(str(at), "2026-03-11T10:00:00Z") for r in rows) + "\n"
        import_events.run(workspace.store, put(folder, "e.csv", text), NOW, "t")
        return [f"{d.title} {d.detail}" for d in overview.decisions(workspace, workspace.view()) if d.kind == "Provider"]

    assert titles(13, 0) == [], "13 of 133 tries are within a tenth"
    (said,) = titles(15, 1)
    assert "Slow is over its limit." in said and "11.1% of last week's mail was deferred (limit 10%)" in said
    assert "0.83% complained in 30 days (limit 0.3%)" in said


def test_a_cap_holds_while_many_are_on_their_way(folder: Path) -> None:
    nowhere = np.where(np.arange(300) % 50 == 7, NOW - DAY, FAR)  # mailboxes that are gone: refused, so not sent to
    with mailing(folder, 300, gone=nowhere) as m:
        plan = {"pilot_share": 0.0, "batches": 1, "resend": False}
        other = ready_campaign(m.workspace, "Beside it")
        for campaign in (m.campaign, other):
            campaigns.write(m.workspace, campaign, {"plan": plan})
            campaigns.start(m.workspace, campaign, "test")
        with m.workspace.store.atomic() as db:
            db.execute("UPDATE providers SET daily_cap = 70")
        on_time(m, NOW)
        count = "SELECT d.state, d.reason, count(*) AS n FROM deliveries d JOIN subscribers s ON s.id = d.subscriber "
        for provider in (0, 1):
            rows = m.workspace.store.read().execute(f"{count} WHERE s.provider = ? GROUP BY 1, 2", (provider,)).fetchall()
            found = {r["state"]: r["n"] for r in rows}
            assert found["sent"] == 70, "over both campaigns, to the last"
            assert {r["reason"] for r in rows if r["state"] == "deferred"} <= {CAP_FULL, TOO_MANY}
            assert sum(r["n"] for r in rows) == 300, "nobody is lost"
