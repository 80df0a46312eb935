"""Subscribers and segments in a real browser: the map's cut-off, acts on many and their undo, people, sources, imports."""

from __future__ import annotations

import json
import re

from playwright.sync_api import expect

from tests.browser.conftest import Visit
from tests.processes import meadow


def count_of(visit: Visit, rule: str) -> int:
    """What the command line says of a rule on the same workspace."""
    status, out, err = meadow(visit.running.folder, "segment", "count", rule, "--json")
    assert status == 0, err
    return int(json.loads(out)["count"])


def heading_count(visit: Visit, tail: str) -> int:
    text = visit.page.get_by_role("heading", name=re.compile(tail)).first.inner_text()
    return int(re.sub(r"\D", "", text.split(" people")[0]))


def test_from_the_cut_off_to_a_segment_that_counts_the_same(visit: Visit) -> None:
    page = visit.page
    page.keyboard.press("2")
    page.get_by_text("What an earlier cut-off would have done").wait_for()
    # drag over cells with the mouse
    page.locator("[data-cell='4:3']").hover()
    page.mouse.down()
    page.locator("[data-cell='7:5']").hover()
    page.mouse.up()
    expect(page.get_by_role("gridcell", selected=True)).to_have_count(12)
    expect(page.get_by_text("not engaged in 91 days and ignored at least 6 in a row")).to_be_visible()
    # the handles, by keyboard: the replay and the rule follow
    handle = page.get_by_role("slider", name="Cut-off: days since last engagement")
    handle.focus()
    page.keyboard.press("ArrowRight")
    expect(handle).to_have_attribute("aria-valuetext", re.compile("not engaged in 9[15] days"))
    page.get_by_role("slider", name="Cut-off: messages ignored").focus()
    page.keyboard.press("ArrowDown")
    rule = re.compile(r"^not engaged in 9[15] days and ignored at least 4 in a row$")
    expect(page.get_by_text(rule)).to_be_visible()
    before, after = page.get_by_role("row", name=re.compile(r"Open rate \(human\)")).get_by_role("cell").all()[1:3]
    assert float(after.inner_text().rstrip("%")) > float(before.inner_text().rstrip("%")), "the rest open more"
    visit.accessible()
    page.get_by_role("button", name="Save as segment").click()
    expect(page.get_by_role("heading", name=re.compile(r"^\d+ people"))).to_be_visible()
    page.get_by_label("Name").fill("Beyond the cut-off")
    written = page.get_by_label("Rule", exact=True).input_value()
    shown = heading_count(visit, r"^\d+ people")
    page.get_by_role("button", name="Save segment").click()
    expect(page.get_by_role("heading", name="Beyond the cut-off")).to_be_visible()
    assert shown == count_of(visit, written) == count_of(visit, 'in segment "Beyond the cut-off"') > 0
    # rows and text stay in step; a clause is switched off to look
    page.get_by_label("number").last.fill("9")
    expect(page.get_by_label("Rule", exact=True)).to_have_value(re.compile("ignored at least 9 in a row$"))
    page.get_by_role("checkbox", name=re.compile("^Count not engaged in")).uncheck()
    expect(page.get_by_text("with 1 disabled")).to_be_visible()
    page.get_by_label("Compare with a segment").select_option(label="Engaged")
    expect(page.get_by_role("row", name=re.compile("^Engaged"))).to_be_visible()
    page.get_by_role("button", name="Take snapshot").click()
    expect(page.get_by_text(re.compile(rf"^{shown} people×$"))).to_be_visible()
    expect(page.get_by_role("img", name=re.compile("2025.*: "))).to_be_visible()
    visit.accessible()
    # the words that fit are offered, and Tab takes one
    field = page.get_by_label("Rule", exact=True)
    field.fill("")
    for typed, offered in (("ba", "band"), ("", "is"), ("Ste", "Steady")):
        field.press_sequentially(typed)
        expect(page.get_by_role("listbox").get_by_role("option", name=offered, exact=True)).to_be_visible()
        field.press("Tab")
    expect(field).to_have_value("band is Steady ")
    assert visit.said == []


def test_an_act_on_many_by_keyboard_and_its_undo(visit: Visit) -> None:
    page = visit.go("/subscribers/table?sort=email")
    page.get_by_text(re.compile("^400 people")).wait_for()
    page.keyboard.press(" ")
    page.keyboard.press("Shift+ArrowDown")
    page.keyboard.press("Shift+ArrowDown")
    expect(page.get_by_text("3 of 400 selected.")).to_be_visible()
    visit.accessible()
    page.get_by_role("button", name="Label…", exact=True).click()
    page.get_by_label("Label", exact=True).fill("to call")
    expect(page.get_by_text("Adds the label to 3 subscribers; 0 already have it.")).to_be_visible()
    page.get_by_role("button", name="Label 3").click()
    expect(page.get_by_text("3 people labelled.")).to_be_visible()
    assert count_of(visit, 'has label "to call"') == 3
    page.get_by_role("button", name="Undo").click()
    expect(page.get_by_role("button", name="Undo")).to_have_count(0)
    assert count_of(visit, 'not (has label "to call")') == 400
    # everybody who matches a rule, let go with a reason, taken back from the log
    page.get_by_label("Filter by a rule").fill("band is Inactive")
    expect(page.get_by_text(re.compile(r"^\d+ match\."))).to_be_visible()
    page.get_by_label(re.compile("^Select all")).check()
    silent = count_of(visit, "band is Inactive and not (suppressed)")
    page.get_by_role("button", name="Suppress…").click()
    expect(page.get_by_role("button", name=f"Suppress {silent}")).to_be_disabled()
    page.get_by_label("Reason (logged)").fill("no engagement in a year")
    page.get_by_role("button", name=f"Suppress {silent}").click()
    expect(page.get_by_text(f"{silent} people suppressed.")).to_be_visible()
    assert count_of(visit, "band is Inactive and not (suppressed)") == 0
    page = visit.go("/settings/activity-log")
    page.get_by_role("row", name=re.compile("suppress", re.I)).get_by_role("button", name="Undo…").click()
    visit.accessible()
    page.get_by_role("button", name="Undo").click()
    expect(page.get_by_text(f"{silent} entries removed.")).to_be_visible()
    assert count_of(visit, "band is Inactive and not (suppressed)") == silent
    # columns are chosen and kept; an export is written and saved
    page = visit.go("/subscribers/table")
    page.get_by_role("button", name="Columns…").click()
    page.get_by_role("checkbox", name="Source").check()
    page.get_by_role("button", name="Done").click()
    page.reload()
    expect(page.get_by_text("Source", exact=True)).to_be_visible()
    page.get_by_role("button", name="Export all…").click()
    page.get_by_role("checkbox", name="source").check()
    with page.expect_download() as saved:
        page.get_by_role("button", name="Export").click()
    lines = saved.value.path().read_text().splitlines()
    assert len(lines) == 401 and lines[0] == "email,name,joined_at,score,band,source"
    assert visit.said == []


def test_a_person_is_changed_noted_and_erased(visit: Visit) -> None:
    page = visit.go("/subscribers/1")
    email = page.get_by_text(re.compile(r"@\S+\.example ·")).inner_text().split(" ·")[0]
    page.get_by_role("button", name="Change language, now empty").click()
    page.get_by_label("language").fill("pt")
    page.keyboard.press("Enter")
    expect(page.get_by_text(re.compile("^language of .* updated"))).to_be_visible()
    assert count_of(visit, 'language is "pt"') == 1
    page.get_by_label("Label to add").fill("friend")
    page.keyboard.press("Enter")
    expect(page.get_by_role("button", name="Remove the label friend")).to_be_visible()
    page.get_by_role("textbox", name="Note").fill("asked for a seat by the aisle")
    page.get_by_role("button", name="Add", exact=True).click()
    expect(page.get_by_text("asked for a seat by the aisle")).to_be_visible()
    visit.accessible()
    with page.expect_download() as saved:
        page.get_by_role("link", name="Export everything", exact=True).click()
    assert f"knows about {email}" in saved.value.path().read_text()
    with page.expect_download() as saved:
        page.get_by_role("link", name="Export everything as JSON").click()
    document = json.loads(saved.value.path().read_text())
    assert (document["email"], document["language"], document["labels"]) == (email, "pt", ["friend"])
    page.get_by_role("button", name="Erase personal data…").click()
    expect(page.get_by_role("button", name="Erase permanently")).to_be_disabled()
    page.get_by_label(re.compile("^Type the address")).fill(email)
    page.get_by_role("button", name="Erase permanently").click()
    page.get_by_text(re.compile("^399 people")).wait_for()
    visit.go("/subscribers/1")
    expect(page.get_by_text("This subscriber was erased.")).to_be_visible()
    assert visit.said == []


def test_doors_machines_and_an_import_taken_back(visit: Visit) -> None:
    page = visit.go("/subscribers/sources")
    page.get_by_role("cell", name="Foyer form").wait_for()
    visit.accessible()
    page.get_by_role("tab", name="Imports").click()
    expect(page.get_by_role("cell", name=re.compile("subscribers.csv"))).to_be_visible()
    visit.go("/subscribers/machine-activity")
    expect(page.get_by_role("cell", name="Lanternmail")).to_be_visible()
    visit.accessible()
    visit.go("/subscribers/import")
    text = "Mail;Name;Signed up;Town\nzoe@x.example;Zoë;03/04/2025;Köln\nb@x.example;B;21/06/2025;X\n"
    file = {"name": "fair.csv", "mimeType": "text/csv", "buffer": text.encode("cp1252")}
    page.locator("input[type=file]").set_input_files(file)
    expect(page.get_by_label("Encoding")).to_have_value("windows-1252")
    expect(page.get_by_label("Column Signed up is")).to_have_value("joined_at")
    expect(page.get_by_label("Date format of “Signed up”")).to_have_value("day first")
    visit.accessible()
    page.get_by_role("button", name="Preview import").click()
    page.get_by_role("button", name="Import 2 rows").click()
    expect(page.get_by_role("heading", name="Done")).to_be_visible()
    assert count_of(visit, 'field "Town" is "Köln"') == 1
    page.get_by_role("button", name="Undo…").first.click()
    page.get_by_role("button", name="Undo").click()
    expect(page.get_by_text(re.compile("2 subscribers removed"))).to_be_visible()
    assert count_of(visit, 'not (field "Town" is "Köln")') == 400
    # the next file with the same headings is matched as this one was
    page.get_by_role("button", name="Import another file").click()
    page.locator("input[type=file]").set_input_files(file)
    expect(page.get_by_text("columns mapped as last time")).to_be_visible()
    assert visit.said == []
