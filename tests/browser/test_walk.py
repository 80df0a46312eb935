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
    expect(page.get_by_role("alert")).to_contain_text("what would fit: days")
    rule.fill('permitted for "Season news" and joined more than 40 days ago')
    expect(page.get_by_role("heading", name=re.compile(r"\d+ people"))).to_be_visible()
    visit.accessible()
    page.get_by_role("button", name="Keep this rule").click()
    expect(page.get_by_role("heading", name="Readers")).to_be_visible()

    # a sender: refused freemail, then a domain of one's own, published and confirmed by mail
    page.keyboard.press("4")
    page.get_by_label("Domain to add").fill("lanternmail.example")
    page.get_by_role("button", name="Add domain").click()
    expect(page.get_by_role("alert")).to_contain_text("freemail domains")
    page.get_by_label("Domain to add").fill("family.kestrelquay.example")
    page.get_by_role("button", name="Add domain").click()
    expect(page.get_by_role("heading", name="family.kestrelquay.example")).to_be_visible()
    expect(page.locator("pre.code")).to_contain_text("_meadow.family.kestrelquay.example")
    page.get_by_role("button", name="Send to the name server…").click()
    page.get_by_role("button", name="Publish", exact=True).click()
    expect(page.get_by_text("Every record holds.")).to_be_visible()
    visit.accessible()
    page.get_by_label("From-address to add").fill("hello")
    page.get_by_role("button", name="Add", exact=True).click()
    expect(page.get_by_text("waiting", exact=True)).to_be_visible()
    box = json.load(urllib.request.urlopen(f"{visit.running.world}/mailbox/hello@family.kestrelquay.example"))
    link = re.search(r"http://\S+/k/\S+", box[-1]["plain"])
    assert link
    with page.context.expect_page() as opened:
        page.evaluate(f"window.open('{link.group()}')")
    opened.value.get_by_role("button", name="Yes, confirm it").click()
    expect(opened.value.get_by_role("heading", name="Confirmed")).to_be_visible()
    opened.value.close()
    page.reload()
    expect(page.get_by_text("confirmed", exact=True)).to_be_visible()

    # a campaign, written and tested
    page.keyboard.press("5")
    page.get_by_role("heading", name="Campaigns").wait_for()
    page.keyboard.press("+")
    expect(page.get_by_label("Name of a new campaign")).to_be_focused()
    page.keyboard.type("Family day")
    page.keyboard.press("Enter")
    page.get_by_label("Purpose").select_option("Season news")
    page.get_by_label("From", exact=True).select_option("hello@family.kestrelquay.example")
    page.get_by_label("From-name").fill("Kestrel Quay")
    page.get_by_label(re.compile("^Subject")).fill("A day for families")
    page.get_by_label("HTML body").fill(
        '<p>Dear {{ first_name or "friend" }},</p><p><a href="https://www.kestrelquay.example/day">Come</a></p>'
    )
    expect(page.frame_locator("iframe").get_by_text("Dear ")).to_be_visible()
    page.get_by_role("tab", name="Phone").click()
    expect(page.get_by_text("1 link, followed")).to_be_visible()
    page.get_by_role("button", name="Send", exact=True).click()
    expect(page.get_by_text("marked as a test")).to_be_visible()
    visit.accessible()
    page.get_by_role("link", name=re.compile("^Checks")).click()
    expect(page.get_by_text("Nobody is chosen: take a segment or a list.")).to_be_visible()
    page.get_by_role("link", name=re.compile("^Recipients")).first.click()
    page.get_by_label("Readers in this campaign").select_option("in")
    expect(page.get_by_text("Chosen", exact=True)).to_be_visible()

    # a plan with a lead batch and a resend in two arms; start
    page.get_by_role("link", name="Plan", exact=True).click()
    page.get_by_role("button", name="Another arm").click()
    page.get_by_label("Subject of arm 2").fill("Bring the children")
    expect(page.get_by_role("group", name=re.compile("^Timeline: lead"))).to_be_visible()
    expect(page.get_by_role("cell", name=re.compile("^New subject"))).to_be_visible()
    visit.accessible()
    page.get_by_role("button", name="Start…").click()
    page.get_by_role("button", name=re.compile("^Start, ")).click()
    expect(page.get_by_role("button", name="Hold")).to_be_visible()
    visit.move_clock("A day")
    expect(page.get_by_role("cell", name="gone")).to_have_count(4)
    page.get_by_role("button", name="Hold").click()
    page.get_by_role("button", name="Hold it").click()
    expect(page.get_by_role("button", name="Go on")).to_be_visible()
    expect(page.get_by_role("dialog")).to_have_count(0)
    page.keyboard.press("1")
    expect(page.get_by_text("Family day is held.")).to_be_visible()
    page.get_by_role("link", name="Look and decide").click()
    page.get_by_role("button", name="Go on").click()
    visit.move_clock("Three days")
    visit.move_clock("Three days")

    # everything that was done is on the record
    visit.go("/settings/activity-log")
    expect(page.get_by_role("cell", name="held plan")).to_be_visible()
    visit.accessible()
    page.go_back()

    # the results: people and machines apart, the lift per arm with its interval
    page.get_by_role("link", name="Results").click()
    expect(page.get_by_text("Did the resend earn its place?")).to_be_visible()
    expect(page.get_by_role("img", name=re.compile("^New subject: .* between"))).to_be_visible()
    expect(page.get_by_text("were held back by lot")).to_be_visible()
    expect(page.get_by_text(re.compile("^(Yes|Not shown|Harm)\\."))).to_be_visible()
    visit.accessible()
    with page.expect_download() as saved:
        page.get_by_role("link", name="Save figures").click()
    assert "Held back" in saved.value.path().read_text()
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
    page.get_by_role("button", name="Keep this rule").click()
    expect(page.get_by_role("heading", name=re.compile(f"^{shown:,} people"))).to_be_visible()
    assert page.get_by_label("Rule", exact=True).input_value() == "not (no answer in 31 days) and unanswered at most 2"

    page.locator("body").click(position={"x": 5, "y": 400})
    page.keyboard.press("f")
    page.keyboard.type("mira")
    expect(page.get_by_role("dialog").get_by_text("subscriber").first).to_be_visible()
    page.keyboard.press("Escape")
    visit.go("/subscribers/table")
    page.get_by_text(re.compile(r"^400 people")).wait_for()
    expect(page.get_by_text("Strong").nth(3)).to_be_visible()
    visit.accessible()
    page.get_by_role("checkbox", name="Silent").click()
    expect(page.get_by_role("checkbox", name="Silent")).to_be_checked()
    expect(page.get_by_text(re.compile(r"^\d+ match\."))).to_be_visible()
    page.get_by_role("checkbox", name="Silent").blur()
    page.keyboard.press("ArrowDown")
    page.keyboard.press("Enter")
    expect(page.get_by_text("May we mail them?")).to_be_visible()
    expect(page.get_by_text("100 × E / (N + 1)")).to_be_visible()
    visit.accessible()
    page.keyboard.press("?")
    expect(page.get_by_role("heading", name="Keys on this page")).to_be_visible()
    page.keyboard.press("Escape")
    page.keyboard.press("5")
    page.get_by_role("cell", name="Spring season on sale").wait_for()
    page.keyboard.press("=")
    page.get_by_role("dialog").get_by_role("button", name="Checks").click()
    expect(page.get_by_text("Every check holds.").or_(page.get_by_text("What was found"))).to_be_visible()
    page.keyboard.press("3")
    page.get_by_role("cell", name="Answered lately", exact=True).wait_for()
    page.keyboard.press("ArrowDown")
    page.keyboard.press("F2")
    expect(page.get_by_role("heading", name="Answered lately")).to_be_visible()
    page.locator("body").click(position={"x": 5, "y": 400})
    for key, words in (("1", "Today"), ("6", "Sequences"), ("7", "Health")):
        page.keyboard.press(key)
        expect(page.get_by_role("heading", name=words, exact=True)).to_be_visible()
        visit.accessible()
    assert visit.said == []


def test_bring_in_shows_what_is_wrong_first(visit: Visit) -> None:
    page = visit.go("/subscribers/bring-in")
    text = "E-Mail;Name;Shoe\nfresh@x.example;Fresh;40\nbroken;B;41\n"
    page.locator("input[type=file]").set_input_files(
        {"name": "fair.csv", "mimeType": "text/csv", "buffer": text.encode()}
    )
    page.get_by_label("Column Shoe is").select_option("leave out")
    page.get_by_label("Put them into the list").fill("Fair")
    visit.accessible()
    page.get_by_role("button", name="Look through it").click()
    expect(page.get_by_role("cell", name="“broken” is not an address")).to_be_visible()
    page.get_by_role("button", name="Bring in 1 rows").click()
    expect(page.get_by_role("heading", name="Done")).to_be_visible()
    expect(page.get_by_role("link", name="Save them as CSV")).to_be_visible()
    visit.go("/subscribers/table?text=fresh%40x")
    expect(page.get_by_text("1 match.")).to_be_visible()
    page.get_by_text("fresh@x.example").click()
    expect(page.get_by_text("joined 12 Mar 2026 by Fair")).to_be_visible()
    expect(page.get_by_text("Shoe")).to_have_count(0)
    assert visit.said == []
