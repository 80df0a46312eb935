"""Tasks of an analyst, each from its goal: tidy what is known of people, draw a sample, look in from a phone, print."""

from __future__ import annotations

import re
from collections.abc import Iterator

import pytest
from playwright.sync_api import expect

from tests.browser.conftest import Visit


@pytest.fixture(autouse=True)
def wide(shared: Visit) -> Iterator[None]:
    shared.page.set_viewport_size({"width": 1280, "height": 800})
    yield
    shared.accessible()
    assert shared.said == []


def test_a_field_gets_its_type_and_a_better_name(shared: Visit) -> None:
    """Goal: the town is called place, with all that uses it; nothing is lost when it was a mistake."""
    page = shared.go("/segments/new")
    page.get_by_label("Name").fill("From the coast")
    page.get_by_label("Rule", exact=True).fill('field "town" is "Saltmere"')
    page.get_by_role("button", name="Save segment").click()
    expect(page).to_have_url(re.compile(r"/segments/\d+$"))
    segment = page.url
    page = shared.go("/settings/fields")
    expect(page.get_by_role("row", name=re.compile("town"))).to_contain_text("the segment “From the coast”")
    page.get_by_role("button", name="Delete town").click()
    page.get_by_role("button", name="Delete field").click()
    expect(page.get_by_role("alert")).to_contain_text("is used by")
    page.get_by_role("button", name="Cancel").click()
    page.get_by_role("button", name="Change town").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Type").select_option("date")
    expect(dialog.get_by_text(re.compile("^0 of 400 values are dates"))).to_be_visible()
    dialog.get_by_label("Type").select_option("text")
    dialog.get_by_label("Name").fill("home place")
    dialog.get_by_role("button", name="Save").click()
    expect(dialog.get_by_role("alert")).to_contain_text("its name can have letters, digits and _ only")
    dialog.get_by_label("Name").fill("place")
    dialog.get_by_role("button", name="Save").click()
    expect(page.get_by_role("row", name=re.compile("^place"))).to_be_visible()
    page.goto(segment)
    expect(page.get_by_label("Rule", exact=True)).to_have_value('field "place" is "Saltmere"')
    page = shared.go("/campaigns/1/message")
    expect(page.get_by_label("Show only to subscribers who match")).to_have_value('field "place" is not "Saltmere"')
    expect(page.get_by_text(re.compile(r"^Shown to \d+ of \d+ recipients\."))).to_be_visible()


def test_a_sample_of_a_segment_is_a_list_and_undone(shared: Visit) -> None:
    """Goal: fifty of the engaged, at random, to try something with."""
    page = shared.go("/segments/1")
    page.get_by_role("button", name="Random sample…").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Sample size").fill("50")
    dialog.get_by_label("New list").fill("Fifty")
    dialog.get_by_role("button", name="Put 50 on the list").click()
    expect(page.get_by_text("50 subscribers are on the list “Fifty”.")).to_be_visible()
    page = shared.go('/subscribers/table?rule=in list "Fifty"')
    expect(page.get_by_text(re.compile(r"^50 "))).to_be_visible()
    page = shared.go("/settings/activity-log")
    page.get_by_role("row", name=re.compile("Fifty")).first.get_by_role("button", name=re.compile("Undo")).click()
    page.get_by_role("dialog").get_by_role("button", name="Undo").click()
    expect(page.get_by_text(re.compile("50 entries removed"))).to_be_visible()


def test_a_phone_shows_the_day_finds_a_person_and_stops_a_plan(shared: Visit) -> None:
    """Goal: with one hand, on the way: what is up, how did it go, who is this, stop that."""
    page = shared.page
    page.set_viewport_size({"width": 390, "height": 800})
    shared.go("/today")
    expect(page.get_by_role("heading", name="Today", exact=True)).to_be_visible()
    shared.go("/campaigns/2/results")
    expect(page.get_by_role("table", name="By batch")).to_be_visible()
    page.get_by_role("button", name="Search").click()
    page.get_by_role("combobox", name=re.compile("Search")).fill("moor")
    page.get_by_role("option").first.click()
    expect(page.get_by_role("heading", name="Consent and eligibility")).to_be_visible()
    shared.go("/sequences/1")
    page.get_by_role("button", name="Pause", exact=True).click()
    page.get_by_role("button", name="Resume").click()
    page.get_by_role("dialog").get_by_role("button", name="Resume").click()
    expect(page.get_by_role("button", name="Pause", exact=True)).to_be_visible()
    assert page.evaluate("document.documentElement.scrollWidth <= 390")


def test_results_print_with_who_what_and_when(shared: Visit) -> None:
    """Goal: a sheet for the meeting that says what it is of."""
    page = shared.go("/campaigns/2/results")
    page.get_by_role("table", name="By batch").wait_for()
    head = page.get_by_text(re.compile(r"Kestrel Quay\. Subject “.+”\. .+ sent, .+ delivered"))
    expect(head).to_be_hidden()
    page.emulate_media(media="print")
    expect(head).to_be_visible()
    expect(page.get_by_role("navigation").first).to_be_hidden()
    page.emulate_media(media="screen")


def test_one_person_under_two_addresses_is_merged_and_parted_again(shared: Visit) -> None:
    """Goal: she gets our mail once, at the address that she reads; a merge by mistake is no harm."""
    page = shared.go("/subscribers/1")
    told = page.evaluate("fetch('/api/subscribers/1').then(r => r.json())")
    name, local = told["name"], told["email"].partition("@")[0]
    page = shared.go("/subscribers/import")
    rows = f"email,name,list\n{local}@second.example,{name},Autumn fair\n".encode()
    page.locator("input[type=file]").set_input_files({"name": "fair.csv", "mimeType": "text/csv", "buffer": rows})
    page.get_by_role("button", name="Preview import").click()
    page.get_by_role("button", name="Import 1 row").click()
    expect(page.get_by_role("heading", name="Done")).to_be_visible()
    page = shared.go("/subscribers/address-checks")
    row = page.get_by_role("table", name="Possible duplicates").get_by_role("row", name=re.compile("second.example"))
    row.get_by_role("button", name=re.compile("^Merge")).click()
    expect(page.get_by_role("dialog")).to_contain_text("Lists: Autumn fair")
    page.get_by_role("dialog").get_by_role("button", name="Merge", exact=True).click()
    expect(page.get_by_role("table", name="Possible duplicates")).to_have_count(0)
    page.get_by_role("button", name="Undo").click()
    expect(page.get_by_role("table", name="Possible duplicates")).to_be_visible()
    shared.go("/subscribers/1").get_by_role("button", name="Merge…").click()
    page.get_by_label("Address of the duplicate").fill("stranger@second.example")
    expect(page.get_by_role("alert")).to_contain_text("stranger@second.example is no subscriber.")
    expect(page.get_by_role("dialog").get_by_role("button", name="Merge", exact=True)).to_be_disabled()
    page.keyboard.press("Escape")
