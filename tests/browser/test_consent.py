"""Joining in a real browser: form, mail, button, preferences, one-click; and what the analyst sees of it."""

from __future__ import annotations

import json
import re
import urllib.request

from playwright.sync_api import expect

from tests.browser.conftest import Visit
from tests.browser.test_subscribers import count_of
from tests.core.test_reports import RECORD, xml


def mailed(visit: Visit, address: str) -> str:
    """The link in the latest mail to an address, waiting for the worker to send it."""
    for _ in range(60):
        box = json.load(urllib.request.urlopen(f"{visit.running.world}/mailbox/{address}"))
        if box and (found := re.search(r"http://\S+/k/\S+", box[-1]["plain"])):
            return found.group()
        visit.page.wait_for_timeout(250)
    raise AssertionError(f"no mail came to {address}")


def test_from_sign_up_to_one_click(visit: Visit) -> None:
    page = visit.go("/join/Website")
    visit.accessible()
    expect(page.get_by_role("checkbox", name=re.compile("Season news"))).not_to_be_checked()
    page.get_by_label("Address").fill("ada@postern.example")
    page.get_by_label("Name").fill("Ada Tarn")
    page.get_by_role("button", name="Join").click()
    expect(page.get_by_role("alert")).to_contain_text("Choose at least one thing")
    visit.accessible()
    page.get_by_role("checkbox", name=re.compile("Season news")).check()
    page.get_by_role("button", name="Join").click()
    expect(page.get_by_role("heading", name="Nearly there")).to_be_visible()
    assert count_of(visit, 'consent to "Season news" by email is awaiting and came by "Website"') >= 1
    link = mailed(visit, "ada@postern.example")
    urllib.request.urlopen(link).read()  # a machine follows the link
    before = count_of(visit, 'permitted for "Season news"')
    page.goto(link)
    page.get_by_role("button", name="Yes, I want to join").click()
    expect(page.get_by_role("heading", name="Confirmed")).to_be_visible()
    assert count_of(visit, 'permitted for "Season news"') == before + 1
    # what the analyst sees: the person, their evidence, the way to their own page
    visit.go("/subscribers/table?text=ada%40postern")
    page.get_by_text("ada@postern.example").click()
    page.get_by_text("Consent history, 2 entries").click()
    expect(page.get_by_role("cell", name=re.compile("^confirmation link .*join.Website"))).to_be_visible()
    expect(page.get_by_role("cell", name=re.compile("^Season news, version 1 “Once a week")).first).to_be_visible()
    page.get_by_role("button", name="Write down what they said…").click()
    page.get_by_label("Their word").select_option("withdrawn")
    page.get_by_label("How you know, for the record").fill("said so on the telephone")
    visit.accessible()
    page.get_by_role("button", name="Keep it as evidence").click()
    expect(page.get_by_text("Consent history, 3 entries")).to_be_visible()


def test_purposes_forms_and_suppressions(visit: Visit) -> None:
    page = visit.go("/subscribers/consent")
    expect(page.get_by_text(re.compile("The chain holds"))).to_be_visible()
    visit.accessible()
    page.keyboard.press("+")
    page.keyboard.type("Exhibition news")
    page.keyboard.press("Enter")
    page.get_by_role("button", name="Change Exhibition news").click()
    page.get_by_label("What people agree to, in the words they see").fill("Four times a year, what hangs in the foyer.")
    visit.accessible()
    page.get_by_role("button", name="Save purpose").click()
    expect(page.get_by_text("(version 1)").nth(0)).to_be_visible()
    page.get_by_role("button", name="New form…").click()
    page.get_by_label("List that people join").fill("Foyer wall")
    page.get_by_role("checkbox", name="Exhibition news").check()
    page.get_by_role("button", name="Keep this form").click()
    expect(page.get_by_role("link", name="Foyer wall")).to_be_visible()
    page.get_by_text("“Foyer wall” on your own page").click()
    expect(page.get_by_text("/join/Foyer%20wall").first).to_be_visible()
    bounced = count_of(visit, "suppressed")
    page.get_by_role("button", name=re.compile("^Lift hard bounce")).first.click()
    expect(page.get_by_role("button", name="Lift it")).to_be_disabled()
    page.get_by_label("Why, for the record").fill("the mailbox works again")
    page.get_by_role("button", name="Lift it").click()
    expect(page.get_by_text(re.compile("is not suppressed for a hard bounce any more"))).to_be_visible()
    assert count_of(visit, "suppressed") == bounced - 1
    page.get_by_role("button", name="Undo").click()
    expect(page.get_by_role("button", name="Undo")).to_have_count(0)
    assert count_of(visit, "suppressed") == bounced
    with page.expect_download() as saved:
        page.get_by_role("link", name="Save all of it").click()
    assert "email,purpose,channel,state,door" in saved.value.path().read_text()
    assert visit.said == []


def test_asking_again_and_cleaning_up(visit: Visit) -> None:
    page = visit.go("/subscribers/consent")
    page.get_by_role("button", name="Prepare a request…").click()
    expect(page.get_by_role("row", name=re.compile("May be asked now"))).to_be_visible()
    page.get_by_label(re.compile("What people without a booking")).fill("Bought tickets at the box office")
    visit.accessible()
    page.get_by_role("button", name=re.compile("Write the draft for")).click()
    expect(page.get_by_role("heading", name=re.compile("Asking again, 2026"))).to_be_visible()
    page.get_by_role("link", name="Recipients").click()
    expect(page.get_by_text("A consent request about Season news: allowed once")).to_be_visible()
    page.get_by_label("Address to ask about").fill("nobody@here.example")
    page.get_by_role("button", name="Ask", exact=True).click()
    expect(page.get_by_role("alert")).to_contain_text("no subscriber with the address")
    visit.go("/subscribers/clean-up")
    expect(page.get_by_text("Nothing is agreed yet.")).to_be_visible()
    page.get_by_label(re.compile("^After")).fill("181")
    page.get_by_role("button", name="Agree to this").click()
    expect(page.get_by_role("alert")).to_contain_text("in steps of five")
    page.get_by_label(re.compile("^After")).fill("180")
    page.get_by_role("button", name="Agree to this").click()
    expect(page.get_by_text("Agreed: after 180 days without an answer")).to_be_visible()
    visit.accessible()
    page.get_by_role("button", name="Do this week…").click()
    expect(page.get_by_role("dialog")).to_contain_text("get the win-back, at once")
    page.get_by_role("button", name="Do it").click()
    expect(page.get_by_text("Inside, not due yet.")).to_be_visible()
    expect(page.get_by_role("button", name="Do this week…")).to_be_disabled()


def test_health_senders_and_addresses(visit: Visit) -> None:
    page = visit.go("/health")
    expect(page.get_by_role("heading", name="What bulk senders must have, measured")).to_be_visible()
    expect(page.get_by_role("row", name=re.compile("DKIM passes"))).to_contain_text("broken")
    visit.accessible()
    page.get_by_label("Report to bring in").set_input_files(
        {"name": "r.xml", "mimeType": "text/xml", "buffer": xml(RECORD.format(ip="198.51.100.77", n=9, dkim="fail"))}
    )
    expect(page.get_by_role("status")).to_contain_text("9 messages of q.example")
    page.get_by_role("button", name="Name 198.51.100.77").click()
    page.get_by_label("What it is").fill("The ticket printer")
    page.get_by_role("button", name="Keep the name").click()
    expect(page.get_by_role("cell", name="The ticket printer")).to_be_visible()
    visit.go("/subscribers/address-checks")
    page.get_by_role("button", name=re.compile("^Check .* people$")).click()
    slips = page.get_by_role("button", name=re.compile("^Correct .* to "))
    expect(slips.first).to_be_visible(timeout=60_000)
    visit.accessible()
    before = slips.count()
    slips.first.click()
    expect(slips).to_have_count(before - 1)
    visit.go("/senders")
    expect(page.get_by_role("heading", name="SPF look-ups")).to_be_visible()
    page.get_by_role("button", name="Make the next key…").click()
    page.get_by_label("Kind").select_option("ed25519")
    page.get_by_role("button", name="Make the key").click()
    expect(page.get_by_text("waits to be published and proved")).to_be_visible()
    visit.accessible()
