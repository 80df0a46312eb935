"""The weekly report: once a week, from Monday morning on, to those who are to have it."""

from __future__ import annotations

from pathlib import Path

from openmeadow.core.moments import DAY, HOUR
from openmeadow.services import settings as settings_service
from openmeadow.services.campaigns import campaigns
from openmeadow.services.today import weekly_report
from tests.conftest import NOW, set_clock
from tests.services.mailing import mailing, on_time

THURSDAY = NOW - NOW % DAY  # 12 March 2026
MONDAY = THURSDAY + 4 * DAY


def test_the_week_s_campaigns_come_once_on_monday(folder: Path) -> None:
    with mailing(folder, 20) as m:
        w, to = m.workspace, "p1@postern.example"
        assert weekly_report.tend(w) == 0, "no one wished it"
        settings_service.change(w, {"report_to": [to]}, "ann")
        campaigns.start(w, m.campaign, "ann")
        on_time(m, NOW + DAY)
        got = []
        for at in (NOW + DAY, MONDAY + 7 * HOUR, MONDAY + 9 * HOUR, MONDAY + 30 * HOUR, MONDAY + 7 * DAY + 9 * HOUR):
            set_clock(w, at)
            got.append(weekly_report.tend(w))
        assert got == [0, 0, 1, 0, 1]
        first, second = [x for x in m.world.mailboxes[to] if "Campaigns of the week" in x["subject"]]
        assert "Harbour nights" in first["plain"] and "20 delivered, opened by" in first["plain"]
        assert "No campaign was started." in second["plain"]
