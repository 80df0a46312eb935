"""The way of an analyst, in a real browser, through the real processes."""

from __future__ import annotations

import json
import re
import urllib.request

from playwright.sync_api import expect

from tests.browser.conftest import Visit


def test_from_a_rule_to_the_measured_resend(visit: Visit) -> None:
    page = visit.page
    # a segment, counted while it is typed; a mistake points
    page.keyboard.press("3")
    page.get_by_role("heading", name="Segments").wait_for()
    page.keyboard.press("+")
    page.get_by_role("heading", name="New segment").wait_for()
    page.get_by_label("Name").fill("Readers")
    rule = page.get_by_label("Rule", exact=True)
    rule.fill("opened at least 1 in 400")
    expect(page.get_by_role("alert")).to_contain_text("What fits next: days")
    rule.fill('permitted for "Season news" and joined more than 40 days ago')
    expect(page.get_by_role("heading", name=re.compile(r"\d+ people"))).to_be_visible()
    visit.accessible()
    page.get_by_role("button", name="Save segment").click()
    expect(page.get_by_role("heading", name="Readers")).to_be_visible()

    # a sender: refused freemail, then a domain of one's own, published and confirmed by mail
    page.keyboard.press("4")
    page.get_by_label("Domain to add").fill("lanternmail.example")
    page.get_by_role("button", name="Add domain").click()
    expect(page.get_by_role("alert")).to_contain_text("free mailbox provider")
    page.get_by_label("Domain to add").fill("family.kestrelquay.example")
    page.get_by_role("button", name="Add domain").click()
    expect(page.get_by_role("heading", name="family.kestrelquay.example")).to_be_visible()
    expect(page.locator("pre.code")).to_contain_text("_meadow.family.kestrelquay.example")
    page.get_by_role("button", name="Publish by dynamic update…").click()
    page.get_by_role("button", name="Publish", exact=True).click()
    expect(page.get_by_text("All records are correct.")).to_be_visible()
    visit.accessible()
    page.get_by_label("From address to add").fill("hello")
    page.get_by_role("button", name="Add", exact=True).click()
    expect(page.get_by_text("unconfirmed", exact=True)).to_be_visible()
    box = json.load(urllib.request.urlopen(f"{visit.running.world}/mailbox/hello@family.kestrelquay.example"))
    link = re.search(r"https?://\S+/k/\S+", box[-1]["plain"])
    assert link
    with page.context.expect_page() as opened:
        page.evaluate(f"window.open('{link.group()}')")
    opened.value.get_by_role("button", name="Confirm address").click()
    expect(opened.value.get_by_role("heading", name="Confirmed")).to_be_visible()
    opened.value.close()
    page.reload()
    expect(page.get_by_text("confirmed", exact=True)).to_be_visible()

    # a campaign, written and tested
    page.keyboard.press("5")
    page.get_by_role("heading", name="Campaigns").wait_for()
    page.keyboard.press("+")
    expect(page.get_by_label("Name of new campaign")).to_be_focused()
    page.keyboard.type("Family day")
    page.keyboard.press("Enter")
    page.get_by_label("Purpose").select_option("Season news")
    page.get_by_label("From", exact=True).select_option("hello@family.kestrelquay.example")
    page.get_by_label("From name").fill("Kestrel Quay")
    page.get_by_label(re.compile("^Subject")).fill("A day for families")
    page.get_by_role("tab", name="HTML").click()
    page.get_by_label("HTML body").fill(
        '<p>Dear {{ first_name or "friend" }},</p><p><a href="https://www.kestrelquay.example/day">Come</a></p>'
    )
    expect(page.frame_locator("iframe").get_by_text("Dear ")).to_be_visible()
    page.get_by_role("tab", name="Phone").click()
    expect(page.get_by_text("1 link, tracked")).to_be_visible()
    page.get_by_role("button", name="Send", exact=True).click()
    expect(page.get_by_text("Not counted in results.")).to_be_visible()
    visit.accessible()
    page.get_by_role("link", name=re.compile("^Checks")).click()
    expect(page.get_by_text("No recipients selected. Choose a segment or a list.")).to_be_visible()
    page.get_by_role("link", name=re.compile("^Recipients")).first.click()
    page.get_by_role("combobox", name="Send to").fill("Readers")
    page.keyboard.press("Enter")
    expect(page.get_by_text("Selected", exact=True)).to_be_visible()

    # a plan with a pilot batch and a resend in two variants; start
    page.get_by_role("link", name="Schedule", exact=True).click()
    page.get_by_role("button", name="Add variant").click()
    page.get_by_label("Subject of variant 2").fill("Bring the children")
    expect(page.get_by_role("group", name=re.compile("^Timeline: pilot"))).to_be_visible()
    expect(page.get_by_role("cell", name=re.compile("^New subject"))).to_be_visible()
    visit.accessible()
    page.get_by_role("button", name="Start…").click()
    page.get_by_role("button", name=re.compile("^Start sending to")).click()
    expect(page.get_by_role("button", name="Pause")).to_be_visible()
    visit.move_clock("A day")
    expect(page.get_by_role("cell", name="sent")).to_have_count(4)
    page.get_by_role("button", name="Pause").click()
    page.get_by_role("button", name="Pause campaign").click()
    expect(page.get_by_role("button", name="Resume")).to_be_visible()
    expect(page.get_by_role("dialog")).to_have_count(0)
    page.keyboard.press("1")
    expect(page.get_by_text("Family day is paused.")).to_be_visible()
    page.get_by_role("link", name="Review").click()
    page.get_by_role("button", name="Resume").click()
    visit.move_clock("Three days")
    visit.move_clock("Three days")

    # everything that was done is on the record
    visit.go("/settings/activity-log")
    expect(page.get_by_role("cell", name="paused campaign")).to_be_visible()
    visit.accessible()
    page.go_back()

    # the results: people and machines apart, the lift per variant with its interval
    page.get_by_role("link", name="Results").click()
    expect(page.get_by_text("Did the resend work?")).to_be_visible()
    expect(page.get_by_role("img", name=re.compile("^New subject: .* between"))).to_be_visible()
    expect(page.get_by_text("in a random holdout group")).to_be_visible()
    expect(page.get_by_text(re.compile("^(Yes|Not significant|Negative effect)\\."))).to_be_visible()
    visit.accessible()
    with page.expect_download() as saved:
        page.get_by_role("link", name="Variants as CSV").click()
    assert "Holdout" in saved.value.path().read_text()
    assert visit.said == []


def test_the_map_the_table_and_a_person_by_keyboard(visit: Visit) -> None:
    page = visit.page
    page.keyboard.press("2")
    first = page.get_by_role("gridcell").and_(page.locator("[data-cell='0:0']"))
    first.focus()
    page.keyboard.press("Shift+ArrowRight")
    page.keyboard.press("Shift+ArrowUp")
    expect(page.get_by_role("gridcell", selected=True)).to_have_count(4)
    shown = sum(
        int(re.sub(r"\D", "", c.get_attribute("aria-label").split(": ")[1]))  # type: ignore[union-attr]
        for c in page.get_by_role("gridcell", selected=True).all()
    )
    assert shown > 0
    expect(page.get_by_role("heading", name=f"The {shown:,} in your selection")).to_be_visible()
    visit.accessible()
    page.get_by_role("button", name="Save as segment").click()
    expect(page.get_by_role("heading", name=re.compile(f"^{shown:,} people"))).to_be_visible()
    assert (
        page.get_by_label("Rule", exact=True).input_value()
        == "not (not engaged in 31 days) and ignored at most 2 in a row"
    )

    page.locator("body").click(position={"x": 5, "y": 400})
    page.keyboard.press("f")
    page.keyboard.type("mira")
    expect(page.get_by_role("dialog").get_by_text("subscriber").first).to_be_visible()
    page.keyboard.press("Escape")
    visit.go("/subscribers/table")
    page.get_by_text(re.compile(r"^400 people")).wait_for()
    expect(page.get_by_text("Strong").nth(3)).to_be_visible()
    visit.accessible()
    page.get_by_role("checkbox", name="Inactive").click()
    expect(page.get_by_role("checkbox", name="Inactive")).to_be_checked()
    expect(page.get_by_text(re.compile(r"^\d+ match\."))).to_be_visible()
    page.get_by_role("checkbox", name="Inactive").blur()
    page.keyboard.press("Space")
    for key in ("Space", "Enter"):  # a focused button is pressed; the row stays as it is
        page.get_by_role("button", name="Label…", exact=True).focus()
        page.keyboard.press(key)
        expect(page.get_by_role("dialog").get_by_role("heading", name="Add a label")).to_be_visible()
        page.keyboard.press("Escape")
    expect(page.get_by_text(re.compile(r"^1 of \d+ selected"))).to_be_visible()
    page.locator("body").click(position={"x": 5, "y": 400})
    page.keyboard.press("ArrowDown")
    page.keyboard.press("Enter")
    expect(page.get_by_text("Consent and eligibility")).to_be_visible()
    expect(page.get_by_text("likely still active")).to_be_visible()
    visit.accessible()
    page.keyboard.press("?")
    expect(page.get_by_role("heading", name="Keyboard shortcuts")).to_be_visible()
    page.keyboard.press("Escape")
    page.keyboard.press("5")
    page.get_by_role("cell", name="Spring season on sale").wait_for()
    page.keyboard.press("=")
    page.get_by_role("dialog").get_by_role("button", name="Checks").click()
    expect(page.get_by_text("All checks passed.").or_(page.get_by_text("Finding"))).to_be_visible()
    page.keyboard.press("3")
    page.get_by_role("cell", name="Recently engaged", exact=True).wait_for()
    page.keyboard.press("ArrowDown")
    page.keyboard.press("F2")
    expect(page.get_by_role("heading", name="Snapshots")).to_be_visible()
    page.locator("body").click(position={"x": 5, "y": 400})
    for key, words in (("1", "Today"), ("6", "Sequences"), ("7", "Health")):
        page.keyboard.press(key)
        expect(page.get_by_role("heading", name=words, exact=True)).to_be_visible()
        visit.accessible()
    assert visit.said == []


def test_import_shows_what_is_wrong_first(visit: Visit) -> None:
    page = visit.go("/subscribers/import")
    text = "E-Mail;Name;Shoe\nfresh@x.example;Fresh;40\nbroken;B;41\n"
    page.locator("input[type=file]").set_input_files(
        {"name": "fair.csv", "mimeType": "text/csv", "buffer": text.encode()}
    )
    page.get_by_label("Column Shoe is").select_option("skip")
    page.get_by_label("Add to list").fill("Fair")
    visit.accessible()
    page.get_by_role("button", name="Preview import").click()
    expect(page.get_by_role("cell", name="“broken” is not an address")).to_be_visible()
    page.get_by_role("button", name="Import 1 row").click()
    expect(page.get_by_role("heading", name="Done")).to_be_visible()
    expect(page.get_by_role("link", name="Download CSV")).to_be_visible()
    visit.go("/subscribers/table?text=fresh%40x")
    expect(page.get_by_text("1 match.")).to_be_visible()
    page.get_by_text("fresh@x.example").click()
    expect(page.get_by_text("joined 12 Mar 2026 from Fair")).to_be_visible()
    expect(page.get_by_text("Shoe")).to_have_count(0)
    assert visit.said == []
