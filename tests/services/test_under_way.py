"""A campaign under way: changed for those who wait, tried in versions, moved, resent by variants; a second pair of eyes."""

from __future__ import annotations

from collections import Counter
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np
import pytest

from openmeadow.core.errors import MeadowError, Refused
from openmeadow.core.moments import DAY
from openmeadow.services.campaigns import (
    ab_test,
    approval,
    campaigns,
    last_check,
    preflight,
    recipients,
    renderer,
    resend,
    results,
    schedule,
    tracking,
)
from openmeadow.services.models import ChangeIn
from openmeadow.store import settings
from openmeadow.store.campaigns import batches as batch_table
from openmeadow.store.campaigns import campaigns as campaign_table
from openmeadow.store.campaigns import content, deliveries
from openmeadow.store.subscribers.subscribers import people_changed
from tests.conftest import NOW
from tests.services.mailing import HTML, Mailing, deliveries_of, mailing, on_time, ready_campaign
from tests.services.test_sending import open_by

HOUR = 3600


def go(m: Mailing, at: int) -> None:
    on_time(m, at)


def row(m: Mailing) -> Any:
    return campaigns.row_of(m.workspace, m.campaign)


def of(m: Mailing, kind: str = "first") -> list[Any]:
    return deliveries_of(m.workspace.store.read(), m.campaign, kind)


def sent(m: Mailing, kind: str = "first") -> list[Any]:
    return [d for d in of(m, kind) if d.state == "sent"]


def batches(m: Mailing, kind: str = "first") -> list[Any]:
    return [b for b in batch_table.batches(m.workspace.store.read(), m.campaign) if b.kind == kind]


def test_what_still_waits_is_changed(folder: Path) -> None:
    with mailing(folder, 30) as m:
        campaigns.start(m.workspace, m.campaign, "ann")
        go(m, NOW)
        with pytest.raises(Refused, match="Nothing was changed"):
            ab_test.change(m.workspace, row(m), ChangeIn(subject="Harbour nights"), "ann")
        with pytest.raises(Refused, match="There is no field"):
            ab_test.change(m.workspace, row(m), ChangeIn(html=HTML + "{{ nonsense }}"), "ann")
        new = HTML.replace("</p>", "</p><p><a href='https://www.kestrelquay.example/late'>Late seats</a></p>", 1)
        shown = ab_test.change(m.workspace, row(m), ChangeIn(subject="Late seats", html=new, only_show=True), "ann")
        assert (shown.sent, shown.waiting, [d.part for d in shown.differs]) == (3, 27, ["subject", "html", "plain"])
        assert row(m).version == 1, "to show changes nothing"
        assert ab_test.change(m.workspace, row(m), ChangeIn(subject="Late seats", html=new), "ann").version == "B"
        go(m, NOW + 2 * HOUR)
        assert Counter(d.version for d in sent(m)) == {1: 3, 2: 27}
        subjects = Counter(v[-1]["subject"] for k, v in m.world.mailboxes.items() if k.startswith("p"))
        assert subjects == {"Harbour nights": 3, "Late seats": 27}
        old = next(d for d in sent(m) if d.version == 1)
        assert "Late seats" not in renderer.in_browser(m.workspace, m.tokens, old.id).html, "as it was sent"
        assert [v.sent for v in content.versions(m.workspace.store.read(), m.campaign)] == [3, 27]
        with pytest.raises(Refused, match="can no longer be changed"):
            campaigns.write(m.workspace, m.campaign, {"subject": "x"})


@pytest.mark.parametrize(("pick", "answered", "used"), [("better", 25, 2), ("better", 0, 1), ("by hand", 25, 0)])
def test_versions_are_tried_by_lot(folder: Path, pick: str, answered: int, used: int) -> None:
    with mailing(folder, 120) as m:
        ab_test.keep_other(m.workspace, row(m), ChangeIn(subject="Away with it"), "ann")
        ab_test.keep_other(m.workspace, row(m), ChangeIn(forget=True), "ann")
        assert content.version(m.workspace.store.read(), m.campaign, 2) is None
        ab_test.keep_other(m.workspace, row(m), ChangeIn(subject="By the water"), "ann")
        trial = {"figure": "opened", "wait": 6 * HOUR, "pick": pick}
        campaigns.write(
            m.workspace, m.campaign, {"plan": {"pilot_share": 0.5, "batches": 1, "resend": False, "test": trial}}
        )
        campaigns.start(m.workspace, m.campaign, "ann")
        assert batches(m)[1].due_at == NOW + 6 * HOUR, "the rest waits until the versions are judged"
        go(m, NOW)
        by = {v: [d.subscriber for d in sent(m) if d.version == v] for v in (1, 2)}
        assert (len(by[1]), len(by[2])) == (30, 30)
        open_by(m, by[2][:answered])
        go(m, NOW + 6 * HOUR)
        if not used:
            assert row(m).state == "paused" and "waits for your choice" in row(m).paused_why
            ab_test.use(m.workspace, row(m), 1, "ann", "it reads better")
            campaigns.resume(m.workspace, m.campaign, "ann")
            go(m, NOW + 6 * HOUR)
            used = 1
        rest = Counter(d.version for d in sent(m) if d.batch_n == 2)
        assert rest == {used: 60}
        if pick == "better":
            ended = "B did better" if answered else "no significant difference"
            assert row(m).plan.test.why == f"Version A 0 of 30, Version B {answered} of 30; {ended}"
        seen = ab_test.judged(m.workspace, row(m))
        assert seen is not None and seen[1].verdict == ("yes" if answered else "not significant")


def test_a_resend_by_arms_and_once_more(folder: Path) -> None:
    with mailing(folder, 80) as m:
        variants = [{}, {"preview": "Two evenings"}, {"subject": "By the water", "wait": 5 * DAY}]
        plan = {
            "pilot_share": 0.0,
            "batches": 1,
            "holdout_share": 0.25,
            "variants": variants,
            "second": True,
            "wait": 3 * DAY,
        }
        campaigns.write(m.workspace, m.campaign, {"plan": plan})
        campaigns.start(m.workspace, m.campaign, "ann")
        go(m, NOW)
        rule, message = row(m).plan.resend_rule, row(m).message
        assert len(resend.ignored(m.workspace.view(), message, rule)) == 80, "at the very moment too"
        open_by(m, list(range(1, 41)))
        assert len(resend.ignored(m.workspace.view(), message, rule)) == 40
        go(m, NOW + 3 * DAY)
        assert Counter(d.variant for d in sent(m, "resend")) == {0: 10, 1: 10}
        assert [b.n % 1000 for b in batches(m, "resend")] == [1, 1], "the variant that waits longer has its own batch"
        late = [d.subscriber for d in of(m, "resend") if d.variant == 2 and d.state == "queued"]
        open_by(m, late[:4])
        go(m, NOW + 5 * DAY)
        assert len(sent(m, "resend")) == 26, "who answered meanwhile gets nothing more"
        arms_seen = {a.variant: (a.people, a.engaged) for a in results.results(m.workspace, m.campaign).variants}
        assert arms_seen["New subject, after 5 days"] == (10, 4), "who answered before it came counts in the variant"
        assert arms_seen["Holdout"] == (10, 0)
        go(m, NOW + 12 * DAY)
        again = of(m, "second resend")
        assert Counter(d.state for d in again) == {"sent": 20, "skipped": 6}
        assert {d.subscriber for d in again} == {d.subscriber for d in sent(m, "resend")}
        assert not deliveries.resent_often(m.workspace.store.read(), NOW, 3)
        assert len(deliveries.resent_often(m.workspace.store.read(), NOW, 2)) == 20
        m.campaign = ready_campaign(m.workspace, "One more")
        plan = {"pilot_share": 0.0, "batches": 1, "holdout_share": 0.0, "wait": 3 * DAY, "start": m.workspace.now()}
        campaigns.write(m.workspace, m.campaign, {"plan": plan})
        campaigns.start(m.workspace, m.campaign, "ann")
        assert results.results(m.workspace, m.campaign).hours == [0] * 48
        go(m, NOW + 16 * DAY)
        left_out = {d.subscriber for d in of(m, "resend") if d.reason == resend.TOO_OFTEN}
        assert left_out == {d.subscriber for d in again if d.state == "sent"}, "no third resend in 30 days"
        assert len(sent(m, "resend")) == 80 - 20


def test_opened_and_not_clicked(folder: Path) -> None:
    with mailing(folder, 20) as m:
        plan = {
            "pilot_share": 0.0,
            "batches": 1,
            "holdout_share": 0.0,
            "resend_rule": "opened, not clicked",
            "variants": [{}],
        }
        campaigns.write(m.workspace, m.campaign, {"plan": plan})
        campaigns.start(m.workspace, m.campaign, "ann")
        go(m, NOW)
        open_by(m, [1, 2, 3, 4])
        link = campaign_table.links(m.workspace.store.read(), row(m).message)[0].id
        for d in sent(m):
            if d.subscriber in (1, 2):
                tracking.clicked(m.workspace, d.id, link, "Reader", "198.51.100.1")
        go(m, NOW + 3 * DAY)
        assert {d.subscriber for d in sent(m, "resend")} == {3, 4}


def test_a_second_pair_of_eyes(folder: Path) -> None:
    with mailing(folder, 20) as m:
        with m.workspace.store.atomic() as db:
            settings.set_setting(db, "require_approval", True)
        with pytest.raises(Refused, match="Not approved yet"):
            campaigns.start(m.workspace, m.campaign, "ann")
        with pytest.raises(Refused, match="No approval was requested yet"):
            approval.approve(m.workspace, row(m), "ben")
        approval.ask(m.workspace, row(m), "ann")
        with pytest.raises(Refused, match="your own request"):
            approval.approve(m.workspace, row(m), "ann")
        approval.approve(m.workspace, row(m), "ben")
        assert approval.state(m.workspace, row(m)).approved_by == "ben"
        campaigns.write(m.workspace, m.campaign, {"preview": "One word more"})
        assert approval.state(m.workspace, row(m)).expired
        assert any("changed after" in c.finding for c in preflight.checks(m.workspace, row(m)))
        approval.approve(m.workspace, row(m), "ben")
        campaigns.start(m.workspace, m.campaign, "ann")
        go(m, NOW)
        ab_test.change(m.workspace, row(m), ChangeIn(subject="Other words"), "ann")
        assert row(m).state == "paused"
        with pytest.raises(Refused, match="Someone else must approve it"):
            campaigns.resume(m.workspace, m.campaign, "ann")
        campaigns.resume(m.workspace, m.campaign, "ben")
        go(m, NOW + 2 * HOUR)
        assert len(sent(m)) == 20


def test_batches_are_moved_and_keep_the_rules(folder: Path) -> None:
    with mailing(folder, 20) as m:
        campaigns.write(m.workspace, m.campaign, {"plan": {"hours": [9, 18], "start": NOW}})
        campaigns.start(m.workspace, m.campaign, "ann")
        last = batches(m)[2]
        at = campaigns.move(m.workspace, m.campaign, last.id, NOW + 12 * HOUR, "ann")
        assert datetime.fromtimestamp(at, UTC).hour == 9 and at > NOW + 12 * HOUR, "the next allowed hour"
        assert batches(m, "resend")[2].due_at == at + 3 * DAY, "its resend moves along"
        go(m, NOW)
        with pytest.raises(Refused, match="Only a scheduled batch can be moved"):
            campaigns.move(m.workspace, m.campaign, batches(m)[0].id, NOW + DAY, "ann")
        with pytest.raises(MeadowError, match="This batch does not exist"):
            campaigns.move(m.workspace, m.campaign, 999, NOW, "ann")
        assert campaigns.move(m.workspace, m.campaign, batches(m)[1].id, 5, "ann") == NOW


def test_by_their_own_clocks(folder: Path) -> None:
    with mailing(folder, 30) as m:
        with m.workspace.store.atomic() as db:
            db.execute("UPDATE subscribers SET time_zone = 'America/New_York' WHERE id % 3 = 0")
            db.execute("UPDATE subscribers SET time_zone = 'Asia/Tokyo' WHERE id % 3 = 1")
            people_changed(db)
        campaigns.write(
            m.workspace, m.campaign, {"plan": {"pilot_share": 0.0, "batches": 1, "zones": True, "hours": [9, 18]}}
        )
        drawn = schedule.draw_schedule(m.workspace, row(m), recipients.work_out(m.workspace, row(m)))
        zones = ("Asia/Tokyo", "UTC", "America/New_York")
        local = [
            datetime.fromtimestamp(at, UTC).astimezone(ZoneInfo(z)).strftime("%d %H:%M")
            for at, z in zip(sorted(drawn.moments), ("UTC", "America/New_York", "Asia/Tokyo"), strict=True)
        ]
        assert local == ["12 09:42", "12 09:42", "13 09:00"], "in Tokyo that hour is past, so the next morning"
        assert np.bincount(drawn.batch).tolist() == [10, 10, 10] and len(zones) == 3
        campaigns.start(m.workspace, m.campaign, "ann")
        assert [b.people for b in batches(m)] == [10, 10, 10]


def test_plans_take_turns_and_share_a_cap(folder: Path) -> None:
    with mailing(folder, 60) as m:
        other = ready_campaign(m.workspace, "Late hours")
        for id in (m.campaign, other):
            plan = {"pilot_share": 0.0, "batches": 1, "resend": False, "caps": {"Postern": 20}}
            campaigns.write(m.workspace, id, {"plan": plan})
            campaigns.start(m.workspace, id, "ann")
        go(m, NOW)
        db = m.workspace.store.read()
        gone = [d for id in (m.campaign, other) for d in deliveries_of(db, id, "first") if d.state == "sent"]
        assert len({d.subscriber for d in gone}) == len(gone) == 50, "at most one a day, over both"
        assert sum(1 for d in gone if d.subscriber % 2 == 0) == 20, "Postern's cap counts both plans"
        assert {d.reason for d in of(m) if d.state == "deferred"} <= {last_check.CAP_FULL}
