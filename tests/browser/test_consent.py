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
        if box and (found := re.search(r"https?://\S+/k/\S+", box[-1]["plain"])):
            return found.group()
        visit.page.wait_for_timeout(250)
    raise AssertionError(f"no mail came to {address}")


def test_from_sign_up_to_one_click(visit: Visit) -> None:
    page = visit.go("/join/Website")
    visit.accessible()
    expect(page.get_by_role("checkbox", name=re.compile("Season news"))).not_to_be_checked()
    page.get_by_label("Email address").fill("ada@postern.example")
    page.get_by_label("Name").fill("Ada Tarn")
    page.get_by_role("button", name="Sign up").click()
    expect(page.get_by_role("alert")).to_contain_text("Choose at least one topic")
    visit.accessible()
    page.get_by_role("checkbox", name=re.compile("Season news")).check()
    page.get_by_role("button", name="Sign up").click()
    expect(page.get_by_role("heading", name="Almost done")).to_be_visible()
    assert count_of(visit, 'consent to "Season news" by email is pending and source is "Website"') >= 1
    link = mailed(visit, "ada@postern.example")
    visit.fetch(link)  # a machine follows the link
    before = count_of(visit, 'permitted for "Season news"')
    page.goto(link)
    page.get_by_role("button", name="Confirm subscription").click()
    expect(page.get_by_role("heading", name="Confirmed")).to_be_visible()
    assert count_of(visit, 'permitted for "Season news"') == before + 1
    # what the analyst sees: the person, their evidence, the way to their own page
    visit.go("/subscribers/table?text=ada%40postern")
    page.get_by_text("ada@postern.example").click()
    page.get_by_text("Consent history, 2 entries").click()
    expect(page.get_by_role("cell", name=re.compile("^confirmation link .*join.Website"))).to_be_visible()
    expect(page.get_by_role("cell", name=re.compile("^Season news, version 1 “Once a week")).first).to_be_visible()
    page.get_by_role("button", name="Record consent…").click()
    page.get_by_label(re.compile("^Decisionconsent")).select_option("withdrawn")
    page.get_by_label("Evidence (required)").fill("said so on the telephone")
    visit.accessible()
    page.get_by_role("button", name="Save record").click()
    expect(page.get_by_text("Consent history, 3 entries")).to_be_visible()


def test_purposes_forms_and_suppressions(visit: Visit) -> None:
    page = visit.go("/subscribers/consent")
    expect(page.get_by_text(re.compile("hash chain verified"))).to_be_visible()
    visit.accessible()
    page.keyboard.press("+")
    page.keyboard.type("Exhibition news")
    page.keyboard.press("Enter")
    page.get_by_role("button", name="Change Exhibition news").click()
    page.get_by_label("Wording shown to subscribers").fill("Four times a year, what hangs in the foyer.")
    visit.accessible()
    page.get_by_role("button", name="Save purpose").click()
    expect(page.get_by_text("(version 1)").nth(0)).to_be_visible()
    page.get_by_role("button", name="New form…").click()
    page.get_by_label("List to join").fill("Foyer wall")
    page.get_by_role("checkbox", name="Exhibition news").check()
    page.get_by_role("button", name="Save form").click()
    expect(page.get_by_role("link", name="Foyer wall")).to_be_visible()
    page.get_by_text("“Foyer wall” on your website").click()
    expect(page.get_by_text("/join/Foyer%20wall").first).to_be_visible()
    bounced = count_of(visit, "suppressed")
    page.get_by_role("button", name=re.compile("^Remove")).first.click()
    expect(page.get_by_role("button", name="Remove suppression")).to_be_disabled()
    page.get_by_label("Reason (logged)").fill("the mailbox works again")
    page.get_by_role("button", name="Remove suppression").click()
    expect(page.get_by_text(re.compile("is no longer suppressed"))).to_be_visible()
    assert count_of(visit, "suppressed") == bounced - 1
    page.get_by_role("button", name="Undo").click()
    expect(page.get_by_role("button", name="Undo")).to_have_count(0)
    assert count_of(visit, "suppressed") == bounced
    with page.expect_download() as saved:
        page.get_by_role("link", name="Download the record").click()
    assert "email,purpose,channel,state,method" in saved.value.path().read_text()
    assert visit.said == []


def test_asking_again_and_cleaning_up(visit: Visit) -> None:
    page = visit.go("/subscribers/consent")
    page.get_by_role("button", name="New request…").click()
    expect(page.get_by_role("row", name=re.compile("Eligible now"))).to_be_visible()
    page.get_by_label(re.compile("Your existing relationship")).fill("Bought tickets at the box office")
    visit.accessible()
    page.get_by_role("button", name=re.compile("Create draft for")).click()
    expect(page.get_by_role("heading", name=re.compile("Consent request, 2026"))).to_be_visible()
    page.get_by_role("link", name="Recipients").click()
    expect(page.get_by_text("A consent request about Season news: allowed once")).to_be_visible()
    page.get_by_label("Address to check").fill("nobody@here.example")
    page.get_by_role("button", name="Check", exact=True).click()
    expect(page.get_by_role("alert")).to_contain_text("no subscriber with the address")
    visit.go("/subscribers/sunset-policy")
    expect(page.get_by_text("No policy yet.")).to_be_visible()
    page.get_by_label(re.compile("^After")).fill("181")
    page.get_by_role("button", name="Turn on policy").click()
    expect(page.get_by_role("alert")).to_contain_text("in steps of five")
    page.get_by_label(re.compile("^After")).fill("180")
    page.get_by_role("button", name="Turn on policy").click()
    expect(page.get_by_text("Policy: after 180 days without engagement")).to_be_visible()
    visit.accessible()
    page.get_by_role("button", name="Run this week…").click()
    expect(page.get_by_role("dialog")).to_contain_text("get a win-back email now")
    page.get_by_role("button", name="Run policy").click()
    expect(page.get_by_text("In progress, not due yet.")).to_be_visible()
    expect(page.get_by_role("button", name="Run this week…")).to_be_disabled()


def test_health_senders_and_addresses(visit: Visit) -> None:
    page = visit.go("/health")
    expect(page.get_by_role("heading", name="Bulk-sender requirements")).to_be_visible()
    expect(page.get_by_role("row", name=re.compile("DKIM passes"))).to_contain_text("fail")
    visit.accessible()
    page.get_by_label("Report to import").set_input_files(
        {"name": "r.xml", "mimeType": "text/xml", "buffer": xml(RECORD.format(ip="198.51.100.77", n=9, dkim="fail"))}
    )
    expect(page.get_by_role("status")).to_contain_text("9 messages of q.example")
    page.get_by_role("button", name="Name 198.51.100.77").click()
    page.get_by_role("textbox", name="Name").fill("The ticket printer")
    page.get_by_role("button", name="Save name").click()
    expect(page.get_by_role("cell", name="The ticket printer")).to_be_visible()
    visit.go("/subscribers/address-checks")
    page.get_by_role("button", name=re.compile("^Check .* people$")).click()
    slips = page.get_by_role("button", name=re.compile("^Correct .* to "))
    expect(slips.first).to_be_visible(timeout=60_000)
    visit.accessible()
    before = slips.count()
    slips.first.click()
    expect(slips).to_have_count(before - 1)
    visit.go("/senders/1")
    expect(page.get_by_role("heading", name="SPF lookups")).to_be_visible()
    page.get_by_role("button", name="Rotate key…").click()
    page.get_by_label("Kind").select_option("Both: Ed25519 beside the current key")
    page.get_by_role("button", name="Create key").click()
    expect(page.get_by_text("is waiting to be published, to sign too")).to_be_visible()
    visit.accessible()
    page.get_by_role("button", name="Publish by dynamic update…").click()
    page.get_by_role("button", name="Publish", exact=True).click()
    expect(page.get_by_text("signs too")).to_be_visible()
    page.get_by_role("button", name="Stop signing twice…").click()
    page.get_by_role("button", name="Stop signing twice", exact=True).click()
    expect(page.get_by_text("is retired, valid until")).to_be_visible()
