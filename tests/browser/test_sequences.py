"""A welcome with a repeat, built on the screen, ten days on by the clock, read on its definition."""

from __future__ import annotations

import re

from playwright.sync_api import Page, expect

from tests.browser.conftest import Visit


def test_a_welcome_is_built_runs_ten_days_and_is_read(visit: Visit) -> None:
    page = visit.page
    page.keyboard.press("6")
    page.get_by_role("heading", name="Sequences").wait_for()
    page.keyboard.press("+")
    page.keyboard.type("First evenings")
    page.keyboard.press("Enter")
    page.get_by_role("heading", name="First evenings").wait_for()
    expect(page.get_by_role("button", name="Start…")).to_be_disabled()
    expect(page.get_by_text("Add a message.")).to_be_visible()

    # how it begins, what it is about, whom it comes from
    page.get_by_role("button", name="Change…").click()
    page.get_by_label(re.compile("^Purpose")).select_option("Season news")
    page.get_by_label(re.compile("^From(?! name)")).select_option("hello@news.kestrelquay.example")
    page.get_by_label("From name").fill("Kestrel Quay")
    page.get_by_label("Daily limit").fill("150")
    page.get_by_role("button", name="Save sequence").click()
    expect(page.get_by_text("At most 150 per day, first come, first served.")).to_be_visible()

    # a message, written on its own page as in campaigns
    page.get_by_label("Add a step").select_option("Message")
    page.get_by_label("Internal name").fill("Your first evening")
    page.get_by_role("button", name="Save step").click()
    page.get_by_role("button", name=re.compile("Your first evening")).first.wait_for()
    page.get_by_role("link", name="Write the message").click()
    page.get_by_label(re.compile("^Subject")).fill("Your first evening with us")
    page.get_by_role("tab", name="HTML").click()
    page.get_by_label("HTML body").fill('<p>Dear {{ first_name or "friend" }}, this is the hall.</p>')
    expect(page.frame_locator("iframe").get_by_text("Dear ")).to_be_visible()
    expect(page.get_by_role("link", name="Recipients")).to_have_count(0)
    page.get_by_role("link", name="Back to First evenings").click()

    # a question that leads to a repeat on the follow-up path, a wait where both meet, a label
    page.get_by_role("heading", name="First evenings").wait_for()
    page.get_by_label("Add a step").select_option("Condition")
    page.get_by_role("heading", name="Condition", exact=True).wait_for()
    page.get_by_label(re.compile("^no")).select_option("follow-up path")
    page.get_by_role("button", name="Save step").click()
    expect(page.get_by_text("The follow-up path is empty from here.").first).to_be_visible()
    page.get_by_label("Add a step").select_option("Resend")
    page.get_by_role("heading", name="Resend", exact=True).wait_for()
    expect(page.get_by_label("on the follow-up path")).to_be_checked()
    page.get_by_label("Another subject").fill("Once more: your first evening")
    page.get_by_label("How long").fill("0")
    page.get_by_role("button", name="Save step").click()
    expect(page.get_by_text("no: follow-up path →")).to_be_visible()
    page.get_by_label("Add a step").select_option("Label")
    page.get_by_role("heading", name="Label", exact=True).wait_for()
    page.get_by_label("on the follow-up path").uncheck()
    page.get_by_label(re.compile("^Label$")).fill("welcomed")
    page.get_by_role("button", name="Save step").click()
    expect(page.get_by_text("← paths join")).to_be_visible()
    # one step too far up, and taken back
    page.keyboard.press("Escape")
    page.get_by_role("button", name="Label “welcomed”").click()
    page.get_by_role("button", name="Move up").click()
    expect(page.get_by_text("← paths join")).to_have_count(0)
    page.get_by_role("button", name="Undo the move").click()
    expect(page.get_by_text("← paths join")).to_be_visible()
    visit.accessible()

    # walked through before it starts
    page.get_by_role("link", name="Simulate").click()
    expect(page.get_by_text("2 messages")).to_be_visible()
    page.get_by_role("button", name="opens and clicks everything").click()
    expect(page.get_by_text("1 message", exact=True)).to_be_visible()
    visit.accessible()
    page.go_back()

    # started, people put in, a mistake among their addresses
    page.get_by_role("button", name="Start…").click()
    page.get_by_role("button", name="Start sequence").click()
    expect(page.get_by_text("running · 0 active")).to_be_visible()
    expect(page.get_by_text("No one is active: people are added manually")).to_be_visible()
    page.get_by_role("button", name="Add subscribers…").click()
    page.get_by_label("Addresses, one per line").fill("nobody.here@nowhere.test")
    page.get_by_role("button", name="Add subscribers").click()
    expect(page.get_by_role("alert")).to_contain_text("There is no subscriber with the address nobody.here@nowhere.test")
    page.get_by_label("Addresses, one per line").fill("")
    page.get_by_label("Or everyone who matches").fill('permitted for "Season news" and joined more than 40 days ago')
    page.get_by_role("button", name="Add subscribers").click()
    expect(page.get_by_text(re.compile(r"running · 1\d\d active"))).to_be_visible(timeout=20_000)
    expect(page.get_by_text("Queued")).to_be_visible()

    # ten days on, and two more
    for _ in range(4):
        visit.move_clock("Three days")
    page.reload()
    expect(page.get_by_text("Resend uplift")).to_be_visible()
    expect(page.get_by_text(re.compile(r"\d+ sent · \d+% opened · \d+% clicked")).nth(1)).to_be_visible()
    row = page.get_by_role("row", name=re.compile("^Your first evening"))
    assert re.fullmatch(r"Your first evening\s+\d+\s+\d+%\s+\+\d+%\s+\d+%", row.inner_text().replace("\t", " ")), (
        row.inner_text()
    )
    page.get_by_role("button", name="Label “welcomed”").click()
    expect(page.get_by_role("row", name=re.compile("^Continued"))).to_be_visible()
    # paused, ended: everybody leaves
    page.keyboard.press("Escape")
    page.get_by_role("button", name="Pause").click()
    expect(page.get_by_text(re.compile("^paused · "))).to_be_visible()
    page.get_by_role("button", name="End…").click()
    page.get_by_role("button", name="End sequence").click()
    expect(page.get_by_text("ended", exact=True).first).to_be_visible()
    assert not visit.said


def active(page: Page) -> int:
    """How many people are in the sequence that is shown."""
    found = re.search(r"(\d+) active", page.get_by_text(re.compile("^(running|paused) · ")).inner_text())
    assert found
    return int(found.group(1))


def test_one_that_runs_is_changed_and_its_people_moved(visit: Visit) -> None:
    """The demo's sequence, in its third week: who stands where, moved on, taken out; a step taken away and another put
    in while it runs; paused and gone on; looked at as one of its people."""
    page = visit.page
    page.keyboard.press("6")
    page.get_by_role("link", name="Welcome to the hall").click()
    expect(page.get_by_role("heading", name="Resend uplift")).to_be_visible()
    expect(page.get_by_role("row", name="Queued 0")).to_be_visible()  # the worker has been here
    assert active(page) > 3

    # the step with most people: one moved on, one taken out after being asked
    step = page.get_by_role("button", name=re.compile(r"^Engaged with .*\d here")).last
    step.click()
    expect(page.get_by_role("heading", name=re.compile(r"^\d+ here$"))).to_be_visible()
    first = page.get_by_role("listitem").filter(has_text="remove").first
    name, who = first.get_by_role("link").inner_text(), first.get_by_role("link").get_attribute("title") or ""
    first.get_by_role("button", name="remove").click()
    expect(page.get_by_role("dialog")).to_contain_text(f"Remove {name} from the sequence?")
    page.get_by_role("button", name="Cancel").click()
    first.get_by_role("button", name="remove").click()
    page.get_by_role("button", name="Remove", exact=True).click()
    expect(page.get_by_title(who, exact=True)).to_have_count(0)
    expect(page.get_by_role("dialog")).to_have_count(0)
    page.keyboard.press("Escape")
    expect(page.get_by_text("Exited: removed by demo")).to_be_visible()

    # a wait where people stand is taken away: where do they go?
    wait = page.get_by_role("button", name=re.compile(r"^Wait .*\d here")).first
    waits = page.get_by_role("button", name=re.compile("^Wait ")).count()
    wait.click()
    page.get_by_role("button", name="Delete…").click()
    expect(page.get_by_role("dialog")).to_contain_text("Move them to:")
    page.get_by_role("dialog").get_by_role("combobox").select_option(label="to “Rehearsals you can sit in on”")
    page.get_by_role("button", name="Delete step").click()
    expect(page.get_by_role("button", name=re.compile("^Wait "))).to_have_count(waits - 1)
    expect(page.get_by_text("Version 2")).to_be_visible()

    # a message put in while it runs is off until it is written
    page.get_by_label("Add a step").select_option("Message")
    page.get_by_label("Internal name").fill("The way home by ferry")
    page.get_by_role("button", name="Save step").click()
    expect(page.get_by_text("Disabled: people skip it.")).to_be_visible()
    page.get_by_label("disabled").uncheck()
    page.get_by_role("button", name="Save step").click()
    expect(page.get_by_role("alert").first).to_contain_text("Write a subject")
    page.get_by_role("link", name="View or edit the message").click()
    page.get_by_label(re.compile("^Subject")).fill("The way home by ferry")
    page.get_by_role("tab", name="HTML").click()
    page.get_by_label("HTML body").fill("<p>The last ferry waits for the last note.</p>")
    expect(page.get_by_text("Saved automatically.")).to_be_visible()
    page.get_by_role("link", name="Back to Welcome to the hall").click()
    page.get_by_role("button", name=re.compile("The way home by ferry")).first.click()
    page.get_by_label("disabled").uncheck()
    page.get_by_role("button", name="Save step").click()
    expect(page.get_by_role("button", name=re.compile("disabled"))).to_have_count(0)
    visit.accessible()

    # as one of its people: their rule is asked, their clock counts
    page.keyboard.press("Escape")
    page.keyboard.press("w")
    page.get_by_label("Who", exact=True).fill(who)
    page.keyboard.press("Enter")
    expect(page.get_by_text(f"messages to {who}, who never opens anything")).to_be_visible()
    expect(page.get_by_text("Label “no early engagement”")).to_be_visible()
    page.get_by_role("button", name="opens and clicks everything").click()
    expect(page.get_by_text("The way home by ferry").first).to_be_visible()
    page.go_back()

    # paused, nobody moves; gone on, what piled up is spread
    page.get_by_role("button", name="Pause").click()
    expect(page.get_by_text(re.compile("^paused · "))).to_be_visible()
    inside = active(page)
    visit.move_clock("Three days")
    page.reload()
    expect(page.get_by_text(f"paused · {inside} active")).to_be_visible()
    page.get_by_role("button", name="Resume").click()
    expect(page.get_by_role("dialog")).to_contain_text("at most 400 per day")
    page.get_by_role("dialog").get_by_role("button", name="Resume").click()
    expect(page.get_by_text(re.compile("^running · "))).to_be_visible()
    page.keyboard.press("1")
    expect(page.get_by_role("link", name="Welcome to the hall")).to_be_visible()
    assert not visit.said
