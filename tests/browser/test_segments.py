"""The rule language on the screen: every clause that can be picked reads, a mistake shows its place, what is in use stays."""

from __future__ import annotations

import re
from typing import Any

from playwright.sync_api import expect

from tests.browser.conftest import Visit


def count(visit: Visit, rule: str) -> Any:
    """What the server says of a rule."""
    answer = visit.page.evaluate(
        """async rule => { const me = await (await fetch('/api/me')).json();
        const headers = {'X-Meadow-CSRF': me.csrf, 'Content-Type': 'application/json'};
        const r = await fetch('/api/segments/count', {method: 'POST', headers, body: JSON.stringify({rule})});
        return [r.status, await r.json()] }""",
        rule,
    )
    assert answer[0] == 200, (rule, answer)
    return answer[1]


def test_every_clause_that_can_be_picked_is_one_the_server_reads(shared: Visit) -> None:
    """What the browser writes for a clause is parsed, counted and written back the same by the server."""
    page = shared.go("/segments/new")
    rule = page.get_by_label("Rule", exact=True)
    rule.fill("joined more than 2 days ago")
    options = page.get_by_label("Add a condition").locator("option")
    expect(options.nth(1)).to_be_attached()
    picked = [(o.get_attribute("value") or "", o.inner_text()) for o in options.all()][1:]
    assert len(picked) > 30
    read = 0
    for value, words in picked[1:]:
        rule.fill("joined more than 2 days ago")
        expect(page.get_by_label("Add a condition")).to_be_visible()
        page.get_by_label("Add a condition").select_option(value)
        text = rule.input_value()
        assert text.startswith("joined more than 2 days ago and "), words
        if "…" in text or '""' in text or text.endswith("frozen on"):  # nothing of that kind is there to be named
            continue
        read += 1
        told = count(shared, text)
        assert [c["text"] for c in told["clauses"]] == text.split(" and "), words
        expect(page.get_by_role("alert")).to_have_count(0)
    assert read > 25 and shared.said == []


def test_a_mistake_shows_its_place_and_what_fits(shared: Visit) -> None:
    page = shared.go("/segments/new")
    rule = page.get_by_label("Rule", exact=True)
    for text, said in (
        ("opened at leest 4 in 120 days", "leest"),
        ('in list "Foyer from"', "nearest is “Foyer form”"),
        ("band is Strong and rejoined or never engaged", "brackets"),
        ('permitted for "Seson news"', "nearest is “Season news”"),
        ('in segment "Nobody knows"', "Nobody knows"),
        ("(band is Strong", ""),
    ):
        rule.fill(text)
        alert = page.get_by_role("alert")
        expect(alert).to_be_visible()
        expect(alert).to_contain_text(said)
    rule.fill("band is Strong")
    expect(page.get_by_role("alert")).to_have_count(0)
    expect(page.get_by_text(re.compile(r"\d+ people, [\d.]+%"))).to_be_visible()

    # kept, used by a campaign, and then not removed without a word where
    page.get_by_label("Name", exact=True).fill("The strong")
    page.get_by_role("button", name="Save segment").click()
    page.get_by_role("heading", name="The strong").wait_for()
    shared.go("/campaigns/1/recipients")
    page.get_by_role("combobox", name="Leave out").fill("The strong")
    page.keyboard.press("Enter")
    expect(page.get_by_text("Selected", exact=True)).to_be_visible()
    shared.go("/segments")
    page.get_by_role("link", name="The strong").wait_for()
    names = [r.inner_text().split("\n")[0].split("\t")[0] for r in page.locator("tbody tr").all()]
    for _ in range(names.index("The strong")):
        page.keyboard.press("ArrowDown")
    page.keyboard.press("=")
    page.get_by_role("dialog").get_by_role("button", name="Delete segment").click()
    expect(page.get_by_role("alert")).to_contain_text("is used by the campaign “Spring season on sale”")
    shared.accessible()
    assert shared.said == []


def test_a_segment_is_renamed_labelled_copied_and_never_lost_by_leaving(shared: Visit) -> None:
    page = shared.go("/segments")
    page.get_by_role("link", name="Recently engaged", exact=True).click()
    page.get_by_label("Name").fill("Engaged this month")
    page.get_by_label("Label (optional)").fill("Weekly")
    page.get_by_role("link", name="Campaigns").click()
    expect(page.get_by_role("heading", name="Leave without saving?")).to_be_visible()
    shared.accessible()
    page.get_by_role("button", name="Stay").click()
    page.get_by_role("button", name="Save segment").click()
    expect(page.get_by_role("heading", name="Engaged this month")).to_be_visible()
    expect(page.get_by_role("button", name="Save segment")).to_be_disabled()
    page.get_by_label("Tell me on Today when its size changes by more than").select_option("0.2")
    page.get_by_role("link", name="Copy").click()
    expect(page.get_by_label("Name")).to_have_value("Engaged this month copy")
    page.get_by_role("button", name="Save segment").click()
    expect(page.get_by_role("heading", name="Engaged this month copy")).to_be_visible()
    shared.go("/segments")
    page.get_by_label("Which segments").select_option("Weekly")
    expect(page.get_by_role("row")).to_have_count(2)
    page.reload()
    expect(page.get_by_role("row")).to_have_count(2)
    page.get_by_label("Which segments").select_option("all labels")
    page.get_by_label("Search segments").fill("month engaged")
    expect(page.get_by_role("row")).to_have_count(3)
    assert shared.said == []
