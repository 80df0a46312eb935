"""Senders and Health in a real browser: a domain from its claim to its first confirmed address, figures, words, placement."""

from __future__ import annotations

import json
import re
import urllib.request
from typing import Any

from playwright.sync_api import expect

from tests.browser.conftest import Visit
from tests.browser.test_subscribers import count_of


def mail_to(visit: Visit, address: str, word: str) -> dict[str, Any]:
    """The mail to an address whose subject has a word, waiting for it to arrive."""
    for _ in range(80):
        box = json.load(urllib.request.urlopen(f"{visit.running.world}/mailbox/{address}"))
        for message in reversed(box):
            if word in message["subject"]:
                return dict(message)
        visit.page.wait_for_timeout(250)
    raise AssertionError(f"no “{word}” came to {address}")


def test_a_domain_from_its_claim_to_a_confirmed_address(visit: Visit) -> None:
    page = visit.go("/senders")
    expect(page.get_by_role("table", name="Sending domains")).to_contain_text("news.kestrelquay.example")
    visit.accessible()
    page.keyboard.press("+")
    for typed, said in (
        ("the ticket office", "is not a domain name"),
        ("postern.example", "is a free mailbox provider"),
        ("news.kestrelquay.example", "is already set up"),
    ):
        page.get_by_label("Domain to add").fill(typed)
        page.keyboard.press("Enter")
        expect(page.get_by_role("alert")).to_contain_text(said)
        assert page.get_by_label("Domain to add").input_value() == typed, "nothing typed is lost"
    # one letter from our own: taken, and said
    page.get_by_label("Domain to add").fill("newz.kestrelquay.example")
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name=re.compile("^newz.kestrelquay.example"))).to_be_visible()
    expect(page.get_by_text("one letter from news.kestrelquay.example")).to_be_visible()

    # it was a mistake: removed, and nothing of it is left in the list
    page.get_by_role("button", name="Remove domain…").click()
    page.get_by_role("button", name="Remove domain", exact=True).click()
    expect(page.get_by_role("heading", name="Senders")).to_be_visible()
    expect(page.get_by_role("link", name="newz.kestrelquay.example")).to_have_count(0)
    page.get_by_label("Domain to add").fill("Foyer.KestrelQuay.example.")
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name=re.compile("^foyer.kestrelquay.example"))).to_be_visible()
    records = page.get_by_role("table").first
    expect(records.get_by_role("row", name=re.compile("^DKIM"))).to_contain_text("fail")
    visit.accessible()
    with page.expect_download() as saved:
        page.get_by_role("link", name="Download zone file").click()
    zone = saved.value.path().read_text()
    assert "._domainkey" in zone and "v=DKIM1" in zone
    page.get_by_label("Record to publish").select_option("all")
    assert page.locator("pre").inner_text().count(" TXT ") == zone.count(" TXT "), "what one copies is what one saves"
    page.get_by_role("button", name="Publish by dynamic update…").click()
    page.get_by_role("button", name="Publish", exact=True).click()
    expect(page.get_by_text("All records are correct.")).to_be_visible(timeout=30_000)
    expect(records.get_by_role("row", name=re.compile("^DKIM"))).to_contain_text("pass")
    expect(page.get_by_role("heading", name="Change history")).to_be_visible()
    visit.accessible()

    # an address of another domain is refused with the reason; one of this domain has to be confirmed from its mailbox
    add = page.get_by_label("From address to add")
    add.fill("hello@elsewhere.example")
    page.keyboard.press("Enter")
    expect(page.get_by_role("alert")).to_contain_text("foyer.kestrelquay.example")
    add.fill("box@foyer.kestrelquay.example")
    page.keyboard.press("Enter")
    row = page.get_by_role("row", name=re.compile("box@foyer"))
    expect(row).to_contain_text("unconfirmed")
    link = re.search(r"https?://\S+", mail_to(visit, "box@foyer.kestrelquay.example", "onfirm")["plain"])
    assert link
    visit.fetch(link.group())  # a machine that follows links confirms nothing
    page.reload()
    expect(row).to_contain_text("unconfirmed")
    page.goto(link.group())
    page.get_by_role("button").click()
    expect(page.get_by_role("button")).to_have_count(0)
    visit.go("/senders")
    page.get_by_role("link", name="foyer.kestrelquay.example").click()
    expect(row).to_contain_text("confirmed")

    # it can be chosen for a campaign now, the one that waits or is broken cannot
    visit.go("/campaigns")
    page.get_by_role("link", name="Spring season on sale").first.click()
    page.get_by_role("link", name="Message").click()
    expect(page.get_by_label("From", exact=True)).to_contain_text("box@foyer.kestrelquay.example")
    assert visit.said == []


def test_figures_words_and_where_mail_lands(visit: Visit) -> None:
    page = visit.go("/health")
    page.get_by_role("heading", name="Bulk-sender requirements").wait_for()

    def bring(text: str) -> None:
        file = {"name": "figures.csv", "mimeType": "text/csv", "buffer": text.encode()}
        page.get_by_label("Provider statistics").set_input_files(file)

    bring("what,ever\n1,2\n")
    expect(page.get_by_text("The first line must name the columns")).to_be_visible()
    bring(
        "date,provider,complaint_rate,standing\n2026-03-01,Postern,0.45%,low\n2026-03-02,Nobody,0.1%,\nno,Postern,1%,\n"
    )
    expect(page.get_by_text("1 row", exact=False).first).to_be_visible()
    expect(page.get_by_text(re.compile("line 3.*Nobody|Nobody.*known", re.I))).to_be_visible()
    expect(page.get_by_text("spam 0.45%")).to_be_visible()
    visit.accessible()

    # bounces of one provider undone in one act, and done again
    suppressed = count_of(visit, "suppressed")
    page.get_by_role("button", name="Reverse false bounces…").click()
    dialog = page.get_by_role("dialog")
    expect(dialog.get_by_role("button", name="Reverse bounces")).to_be_disabled()
    dialog.get_by_label("Provider").select_option("Postern")
    dialog.get_by_label("From").fill("2024-01-01T00:00")
    dialog.get_by_label("Reason (logged)").fill("their filter was wrong")
    visit.accessible()
    dialog.get_by_role("button", name="Reverse bounces").click()
    expect(page.get_by_text(re.compile(r"may be mailed again\."))).to_be_visible()
    assert count_of(visit, "suppressed") < suppressed
    page.get_by_role("button", name="Undo", exact=True).click()
    expect(page.get_by_role("button", name="Undo", exact=True)).to_have_count(0)
    assert count_of(visit, "suppressed") == suppressed

    # word when nobody is looking: mistakes first, then a test that arrives
    page.get_by_label("Quiet hours").fill("late")
    page.get_by_role("button", name="Save alerts").click()
    expect(page.get_by_role("alert")).to_contain_text("22-7")
    page.get_by_label("Quiet hours").fill("22 - 7")
    page.get_by_label("Email to").fill("not an address")
    page.get_by_role("button", name="Save alerts").click()
    expect(page.get_by_role("alert")).to_be_visible()
    page.get_by_label("Email to").fill("mira@kestrelquay.example")
    page.get_by_role("button", name="Send test alert").click()
    expect(page.get_by_role("status").filter(has_text="Sent to 1 recipient.")).to_be_visible()
    assert "http" in mail_to(visit, "mira@kestrelquay.example", "Open Meadow")["plain"]

    # copies of a campaign to the test mailboxes, read back
    page.get_by_label("Campaign").select_option("Spring season on sale")
    page.get_by_role("button", name="Run placement test").click()
    placed = page.get_by_role("table", name=re.compile("^Spring season on sale"))
    expect(placed).to_be_visible()
    expect(placed.get_by_text("waiting")).to_have_count(0, timeout=60_000)
    assert placed.get_by_role("row").count() >= 3
    assert all(re.search("inbox|spam|missing|refused", r) for r in placed.get_by_role("row").all_inner_texts())
    assert visit.said == []
