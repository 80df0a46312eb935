"""What holds on every page: nothing lies outside its pane, machines find it accessible, keys are listed, mistakes are
sentences. One demo serves all of it."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import expect

from tests.browser.conftest import Visit, signed_in

PAGES = {
    "/today": "Subscribers by band, 12 months",
    "/subscribers/map": "What an earlier cut-off would have done",
    "/subscribers/table": "Last 24 messages",
    "/subscribers/8": "Activity",
    "/subscribers/import": "Import",
    "/subscribers/address-checks": "Address checks",
    "/subscribers/consent": "hash chain verified",
    "/subscribers/sunset-policy": "Estimated effect",
    "/subscribers/sources": "Foyer form",
    "/subscribers/machine-activity": "How machines are detected",
    "/segments": "Season news regulars",
    "/segments/1": "Size over time, by the current rule",
    "/senders": "news.kestrelquay.example",
    "/senders/1": "Publish",
    "/campaigns": "Spring season on sale",
    "/campaigns/layout": "Footer text",
    "/campaigns/benchmarks": "What works",
    "/campaigns/1/message": "Preview as subscriber",
    "/campaigns/1/recipients": "Exclusions",
    "/campaigns/1/checks": "Passed",
    "/campaigns/1/schedule": "Batches",
    "/sequences": "Welcome to the hall",
    "/sequences/1": "Resend uplift",
    "/sequences/1/simulation": "messages",
    "/health": "Bulk-sender requirements",
    "/account": "Second factor",
    "/settings": "Postal address",
    "/settings/accounts": "Invite a person",
    "/settings/activity-log": "imported",
    "/settings/fields": "What you know of subscribers",
}
OUTSIDE = """() => {
  const d = document.documentElement, out = [];
  if (d.scrollWidth > d.clientWidth + 1) out.push(`sideways by ${d.scrollWidth - d.clientWidth}`);
  if (d.clientWidth > 900 && d.scrollHeight > d.clientHeight + 1) out.push(`down by ${d.scrollHeight - d.clientHeight}`);
  for (const e of document.querySelectorAll('main, aside'))
    if (e.scrollWidth > e.clientWidth + 1) out.push(`${e.tagName} sideways by ${e.scrollWidth - e.clientWidth}`);
  return out;
}"""


@pytest.mark.parametrize("path", PAGES)
def test_a_page_holds_what_is_in_it_at_every_width(shared: Visit, path: str) -> None:
    shared.said.clear()
    page = shared.go(path)
    expect(page.get_by_text(PAGES[path]).filter(visible=True).first).to_be_visible()
    page.wait_for_load_state("networkidle")
    try:
        for width in (1280, 1100, 2560, 390):
            page.set_viewport_size({"width": width, "height": 800})
            page.wait_for_timeout(80)
            assert page.evaluate(OUTSIDE) == [], f"at {width}"
    finally:
        page.set_viewport_size({"width": 1280, "height": 800})
    shared.accessible()
    page.keyboard.press("?")
    expect(page.get_by_role("dialog")).to_contain_text("go to a section")
    page.keyboard.press("Escape")
    expect(page.get_by_role("dialog")).to_have_count(0)
    page.keyboard.press("Escape")
    page.wait_for_timeout(50)
    assert page.url.endswith(path), "Esc closes what is open, and goes nowhere"
    assert shared.said == []


@pytest.mark.parametrize(
    ("path", "said"),
    [
        ("/nowhere", "There is no page at this address"),
        ("/campaigns/999/schedule", "This campaign does not exist"),
        ("/sequences/999", "This sequence does not exist"),
        ("/segments/999", "This segment does not exist"),
        ("/senders/999", "This domain is not set up here"),
        ("/subscribers/999999", "This subscriber does not exist"),
    ],
)
def test_what_is_not_there_is_said(shared: Visit, path: str, said: str) -> None:
    page = shared.go(path)
    expect(page.get_by_text(said).first).to_be_visible()
    page.keyboard.press("1")
    expect(page.get_by_role("heading", name="Today", exact=True)).to_be_visible()


def test_an_observer_reads_everything_and_is_told_so(shared: Visit) -> None:
    with signed_in(shared, "olga", "observer") as page:
        for path in ("/campaigns/1/schedule", "/sequences/1", "/segments/1", "/senders/1", "/subscribers/sunset-policy"):
            page.goto(shared.url + path)
            expect(page.get_by_text(PAGES[path]).filter(visible=True).first).to_be_visible()
            acts = page.get_by_role(
                "button",
                name=re.compile(r"^(Start…|Pause|End…|Add subscribers|Save|Delete|Run this week|Turn on|Check again)"),
            )
            for i in range(acts.count()):
                expect(acts.nth(i)).to_be_disabled()
        refused = page.evaluate(
            """async () => { const me = await (await fetch('/api/me')).json();
            const r = await fetch('/api/sequences/1/pause', {method: 'POST', headers: {'X-Meadow-CSRF': me.csrf}});
            return [r.status, (await r.json()).error] }"""
        )
        assert refused[0] == 403 and "observer" in refused[1]


TWO_CHANGES = """async () => {
  const search = document.querySelector('input[type=search]');
  Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, 'value').set.call(search, 'news');
  search.dispatchEvent(new Event('input', { bubbles: true }));
  for (let i = 0; i < 50; i++) await null;  // the page is not drawn again yet
  document.querySelector('th button').click();  // sorted by name
}"""


def test_a_list_follows_its_address_and_loses_no_change(shared: Visit) -> None:
    page = shared.go("/segments")
    page.get_by_role("link", name="Season news regulars").wait_for()
    page.evaluate(TWO_CHANGES)
    expect(page).to_have_url(re.compile("sort=.*text=news|text=news.*sort="))
    page.get_by_label("Search segments").press("End")
    page.get_by_label("Search segments").press("ArrowLeft")
    page.get_by_label("Search segments").press_sequentially("ab", delay=5)  # where the cursor is, not at the end
    expect(page).to_have_url(re.compile("text=newabs"))
    page.get_by_role("link", name="Segments", exact=True).click()
    expect(page).to_have_url(re.compile("/segments$"))
    expect(page.get_by_label("Search segments")).to_have_value("")

    page = shared.go("/subscribers/table")
    page.get_by_label("Search name or address").fill("a")
    page.get_by_label("Filter by a rule").fill("band is Strong")
    page.get_by_label("Strong", exact=True).check()
    for part in ("text=a", "rule=band", "band=Strong"):
        expect(page).to_have_url(re.compile(part))
    page.get_by_role("navigation").get_by_role("link", name="Table", exact=True).first.click()
    expect(page.get_by_label("Search name or address")).to_have_value("")
    expect(page.get_by_label("Filter by a rule")).to_have_value("")
    assert shared.said == []


def test_a_writer_writes_and_does_not_decide(shared: Visit) -> None:
    with signed_in(shared, "wim", "writer") as page:
        page.goto(shared.url + "/campaigns/1/message")
        page.get_by_label(re.compile("^Subject")).fill("The spring season, at last")
        expect(page.get_by_text("Saved automatically.")).to_be_visible()
        page.get_by_role("link", name="Schedule", exact=True).click()
        expect(page.get_by_role("button", name=re.compile("^Batch 2, "))).to_be_visible()
        expect(page.get_by_role("button", name="Start…")).to_be_disabled()
        page.get_by_label("every").fill("6")
        page.goto(shared.url + "/sequences/1")
        for name in ("Pause", "End…", "Add subscribers…"):
            expect(page.get_by_role("button", name=name)).to_be_disabled()
        page.get_by_role("button", name=re.compile("Your first evening with us")).first.click()
        page.get_by_label("Internal name").fill("Your first evening here")
        page.get_by_role("button", name="Save step").click()
        expect(page.get_by_role("button", name=re.compile("^Your first evening here")).first).to_be_visible()
        page.get_by_role("button", name="Undo the change").click()
        expect(page.get_by_role("button", name=re.compile("^Your first evening with us")).first).to_be_visible()


def test_a_server_that_is_away_is_said_and_nothing_is_lost(visit: Visit) -> None:
    """What was typed stays on the page; when the server is there again, it goes on."""
    page = visit.go("/segments/new")
    page.get_by_label("Rule", exact=True).fill("band is Strong")
    expect(page.get_by_text(re.compile(r"\d+ people, "))).to_be_visible()
    server = visit.running._children[-1]
    server.terminate()
    server.wait(10)
    server.kill()
    page.get_by_label("Name", exact=True).fill("Kept all the same")
    page.get_by_role("button", name="Save segment").click()
    expect(page.get_by_text("The server is not responding. Nothing was lost").first).to_be_visible()
    expect(page.get_by_label("Name", exact=True)).to_have_value("Kept all the same")
    visit.running._children[-1] = visit.running._begin(server.args)
    visit.running.wait_ready()
    page.get_by_role("button", name="Save segment").click()
    expect(page.get_by_role("heading", name="Kept all the same")).to_be_visible()
