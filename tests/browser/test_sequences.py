"""A welcome with a repeat, built on the screen, ten days on by the clock, read on its ladder."""

from __future__ import annotations

import re

from playwright.sync_api import expect

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
    expect(page.get_by_text("It has no message: add one.")).to_be_visible()

    # how it begins, what it is about, whom it comes from
    page.get_by_role("button", name="Change…").click()
    page.get_by_label(re.compile("^Purpose")).select_option("Season news")
    page.get_by_label(re.compile("^From")).select_option("hello@news.kestrelquay.example")
    page.get_by_label("As", exact=True).fill("Kestrel Quay")
    page.get_by_label("Then a day").fill("150")
    page.get_by_role("button", name="Keep it").click()
    expect(page.get_by_text("At most 150 a day, in the order they came.")).to_be_visible()

    # a message, written on its own page as in campaigns
    page.get_by_label("Add a step").select_option("Message")
    page.get_by_label("Called here").fill("Your first evening")
    page.get_by_role("button", name="Keep this step").click()
    page.get_by_role("button", name=re.compile("Your first evening")).first.wait_for()
    page.get_by_role("link", name="Write the message").click()
    page.get_by_label(re.compile("^Subject")).fill("Your first evening with us")
    page.get_by_label("HTML body").fill('<p>Dear {{ first_name or "friend" }}, this is the hall.</p>')
    expect(page.frame_locator("iframe").get_by_text("Dear ")).to_be_visible()
    expect(page.get_by_role("link", name="Recipients")).to_have_count(0)
    page.get_by_role("link", name="Back to First evenings").click()

    # a question that leads to a repeat in the second lane, a wait where both meet, a label
    page.get_by_role("heading", name="First evenings").wait_for()
    page.get_by_label("Add a step").select_option("Question")
    page.get_by_role("heading", name="Question", exact=True).wait_for()
    page.get_by_label(re.compile("^no")).select_option("second lane")
    page.get_by_role("button", name="Keep this step").click()
    expect(page.get_by_text("It leads to the second lane, where no step follows.").first).to_be_visible()
    page.get_by_label("Add a step").select_option("Repeat")
    page.get_by_role("heading", name="Repeat", exact=True).wait_for()
    expect(page.get_by_label("in the second lane")).to_be_checked()
    page.get_by_label("Another subject").fill("Once more: your first evening")
    page.get_by_label("How long").fill("0")
    page.get_by_role("button", name="Keep this step").click()
    expect(page.get_by_text("no: second lane →")).to_be_visible()
    page.get_by_label("Add a step").select_option("Label")
    page.get_by_role("heading", name="Label", exact=True).wait_for()
    page.get_by_label("in the second lane").uncheck()
    page.get_by_label(re.compile("^Label$")).fill("welcomed")
    page.get_by_role("button", name="Keep this step").click()
    expect(page.get_by_text("← both lanes meet")).to_be_visible()
    # one step too far up, and taken back
    page.keyboard.press("Escape")
    page.get_by_role("button", name="Label “welcomed”").click()
    page.get_by_role("button", name="Move up").click()
    expect(page.get_by_text("← both lanes meet")).to_have_count(0)
    page.get_by_role("button", name="Take back the move").click()
    expect(page.get_by_text("← both lanes meet")).to_be_visible()
    visit.accessible()

    # walked through before it starts
    page.get_by_role("link", name="Walk through it").click()
    expect(page.get_by_text("2 messages")).to_be_visible()
    page.get_by_role("button", name="opens everything and clicks").click()
    expect(page.get_by_text("1 message", exact=True)).to_be_visible()
    visit.accessible()
    page.go_back()

    # started, people put in, a mistake among their addresses
    page.get_by_role("button", name="Start…").click()
    page.get_by_role("button", name="Start it").click()
    expect(page.get_by_text("running · 0 inside")).to_be_visible()
    expect(page.get_by_text("Nobody is inside: people are put in by hand")).to_be_visible()
    page.get_by_role("button", name="Put people in…").click()
    page.get_by_label("Addresses, one a line").fill("nobody.here@nowhere.test")
    page.get_by_role("button", name="Put them in").click()
    expect(page.get_by_role("alert")).to_contain_text("Nobody here has the address nobody.here@nowhere.test")
    page.get_by_label("Addresses, one a line").fill("")
    page.get_by_label("Or everybody of whom").fill('permitted for "Season news" and joined more than 40 days ago')
    page.get_by_role("button", name="Put them in").click()
    expect(page.get_by_text(re.compile(r"running · 1\d\d inside"))).to_be_visible(timeout=20_000)
    expect(page.get_by_text("Waiting to begin")).to_be_visible()

    # ten days on, and two more
    for _ in range(4):
        visit.move_clock("Three days")
    page.reload()
    expect(page.get_by_text("What the repeats add")).to_be_visible()
    expect(page.get_by_text(re.compile(r"\d+ sent · \d+% opened · \d+% clicked")).nth(1)).to_be_visible()
    row = page.get_by_role("row", name=re.compile("^Your first evening"))
    assert re.fullmatch(r"Your first evening\s+\d+\s+\d+%\s+\+\d+%\s+\d+%", row.inner_text().replace("\t", " ")), (
        row.inner_text()
    )
    page.get_by_role("button", name="Label “welcomed”").click()
    expect(page.get_by_role("row", name=re.compile("^Went on"))).to_be_visible()
    # paused, ended: everybody leaves
    page.keyboard.press("Escape")
    page.get_by_role("button", name="Pause").click()
    expect(page.get_by_text(re.compile("^paused · "))).to_be_visible()
    page.get_by_role("button", name="End…").click()
    page.get_by_role("button", name="End it").click()
    expect(page.get_by_text("ended", exact=True).first).to_be_visible()
    assert not visit.said
