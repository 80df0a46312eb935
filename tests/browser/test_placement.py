"""A provider starts to put mail into the spam folder: the plan pauses for it, the analyst sees why and decides."""

from __future__ import annotations

import re
import urllib.request

from playwright.sync_api import expect

from openmeadow.services.campaigns import campaigns
from openmeadow.services.workspace import Workspace
from tests.browser.conftest import Visit

DOMAIN = "lanternmail.example"


def test_the_spam_folder_is_seen_and_decided_on(visit: Visit) -> None:
    urllib.request.urlopen(f"{visit.running.world}/placement/spam/{DOMAIN}", data=b"").read()
    workspace = Workspace(visit.running.folder)
    campaigns.write(workspace, 1, {"plan": {"pilot_share": 0.4, "batches": 2, "interval": 12 * 3600, "resend": False}})
    campaigns.start(workspace, 1, "test")
    workspace.close()
    page = visit.go("/campaigns/1/schedule")
    why = page.get_by_role("region", name="Why it is paused")
    for _ in range(40):
        visit.move_clock("To the next event")
        if why.is_visible():
            break
    expect(why).to_contain_text(
        re.compile(r"Lanternmail: \d+ of \d+ expected have engaged, while the others engage as usual")
    )
    expect(why).to_contain_text("inbox placement at Lanternmail")
    visit.accessible()
    visit.go("/today")
    expect(page.get_by_text(re.compile("Lanternmail most likely put .* into the spam folder"))).to_be_visible()
    visit.go("/health")
    row = page.get_by_role("table", name="Providers").get_by_role("row", name=re.compile("^Lanternmail"))
    expect(row).to_contain_text(re.compile(r"spam folder\? \d+ of \d+ expected"))
    visit.accessible()
    visit.go("/campaigns/1/schedule")
    why.get_by_role("button", name="Resume without Lanternmail…").click()
    page.get_by_role("button", name="Resume without Lanternmail", exact=True).click()
    expect(why).to_be_hidden()
    visit.go("/campaigns/1/results")
    expect(page.get_by_text(re.compile(r"engaged; .* expected"))).to_be_visible()
    visit.accessible()
    assert not visit.said


def test_the_score_is_explained_and_checked(visit: Visit) -> None:
    page = visit.go("/subscribers/7")
    side = page.get_by_role("complementary")
    expect(side.get_by_role("heading", name=re.compile("A score of|A chance to click"))).to_be_visible()
    expect(side).to_contain_text("likely still active")
    visit.accessible()
    visit.go("/subscribers/score-check")
    expect(page.get_by_role("table", name="Expected and observed engagement by tenths").get_by_role("row")).to_have_count(
        11
    )
    expect(page.get_by_role("table", name="Parameters")).to_contain_text("alpha")
    visit.accessible()
    assert not visit.said
