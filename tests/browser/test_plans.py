"""A plan in every detail on its page, two versions tried at random, and a second pair of eyes."""

from __future__ import annotations

import csv
import io
import json
import re
import zipfile

from playwright.sync_api import Page, expect

from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from tests.browser.conftest import Visit, signed_in


def batches(page: Page) -> list[str]:
    """What the timeline's batches say of themselves, in order."""
    return [b.get_attribute("aria-label") or "" for b in page.get_by_role("button", name=re.compile("^Batch ")).all()]


def test_a_plan_in_every_detail(visit: Visit) -> None:
    page = visit.go("/campaigns/1/schedule")
    expect(page.get_by_role("button", name=re.compile("^Batch 4, "))).to_be_visible()
    assert len(batches(page)) == 4

    # hours and weekdays: what lies outside moves, the resend with it
    page.get_by_label("From", exact=True).select_option("09:00")
    page.get_by_label("Until", exact=True).select_option("15:00")
    for day in ("Sat", "Sun"):
        page.get_by_label(day, exact=True).uncheck()
    last = page.get_by_role("button", name=re.compile("^Batch 4, "))
    expect(last).to_have_attribute("aria-label", re.compile("Fri 13 Mar"))
    assert not any(re.search(r"(Sat|Sun) \d|1[6-9]:|2\d:", b) for b in batches(page)), batches(page)
    page.get_by_text("Batches as a table").click()
    table = page.get_by_role("row", name=re.compile("again|Resend", re.I))
    for i in range(table.count()):
        assert not re.search(r"(Sat|Sun) \d", table.nth(i).inner_text())

    # a cap moves people to a later slot, and says so; taken away it is forgotten
    page.get_by_label("Postern", exact=True).fill("10")
    expect(page.get_by_text(re.compile(r"\d+ recipients move to a later slot"))).to_be_visible()
    page.get_by_label("Postern", exact=True).fill("")
    expect(page.get_by_text(re.compile("recipients move to a later slot"))).to_have_count(0)

    # what the team can take, from history
    page.get_by_role("button", name="Limit by team capacity").click()
    page.get_by_label("Contacts handled per hour").fill("1")
    page.get_by_role("button", name="Calculate").click()
    told = page.get_by_role("status").filter(has_text="fits")
    expect(told).to_contain_text(re.compile(r"A batch of \d+ fits: [\d.]+% of [\d,]+ delivered gave clicks"))
    fits = int(re.search(r"A batch of ([\d,]+) fits", told.inner_text()).group(1).replace(",", ""))  # type: ignore[union-attr]
    page.get_by_role("button", name="Use as maximum batch size").click()
    expect(page.get_by_label("Maximum batch size")).to_have_value(str(fits))
    page.get_by_label("Maximum batch size").fill("")

    # a last moment before the first batch is said, and keeps it from starting
    page.get_by_label("End date").fill("2026-03-12T09:43")
    expect(page.get_by_text("The end date is before the first batch").or_(
        page.get_by_text(re.compile("do not fit before the end date")))).to_be_visible()  # fmt: skip
    page.get_by_label("End date").fill("")

    # a wish that cannot be is refused in a sentence, and the plan stays as it was
    page.get_by_label("From", exact=True).select_option("14:00")
    page.get_by_label("Until", exact=True).select_option("10:00")
    expect(page.get_by_role("alert")).to_contain_text("The sending hours start before they end")
    page.reload()
    expect(page.get_by_label("From", exact=True)).not_to_have_value("")

    # four variants at most, each at random, with how much could be told
    page.get_by_role("button", name="Add variant").click()
    page.get_by_label("Subject of variant 3").fill("The last forty-one seats")
    page.get_by_role("button", name="Add variant").click()
    page.get_by_label("Preview text of variant 4").fill("In case it slipped by")
    expect(page.get_by_role("button", name="Add variant")).to_have_count(0)
    expect(page.get_by_role("cell", name=re.compile("New preview text"))).to_be_visible()
    expect(
        page.get_by_text(re.compile(r"About \d+ will be due: \d+ in the holdout group, \d+ in each variant"))
    ).to_be_visible()
    page.get_by_role("button", name="Remove variant 3").click()
    expect(page.get_by_label("Subject of variant 4")).to_have_count(0)
    page.get_by_label("holdout group").fill("0")
    expect(page.get_by_text("Without a holdout group the uplift cannot be measured")).to_be_visible()
    visit.accessible()

    # by their own clocks, and a ramp without a pilot batch
    page.get_by_label("Send at the same local hour in each recipient's time zone").check()
    expect(page.get_by_text("In recipients' time zones")).to_be_visible()
    page.get_by_label("Send at the same local hour in each recipient's time zone").uncheck()
    page.get_by_label("Recipients on the first day of the warm-up").fill("10")
    expect(page.get_by_text(re.compile(r"The warm-up takes \d+ days"))).to_be_visible()
    assert visit.said == []


def asked_and_approved(visit: Visit, ada: Page) -> None:
    """Ada writes a second version, asks for eyes, gets them, changes something, asks again, and starts."""
    page = visit.page
    ada.goto(visit.url + "/campaigns/1/message")
    ada.get_by_role("button", name="A/B test…").click()
    ada.get_by_role("tab", name="Version B").click()
    ada.get_by_label(re.compile("^Subject")).fill("Forty-one evenings by the water")
    expect(ada.get_by_text("Saved automatically.")).to_be_visible()
    ada.get_by_role("link", name="Schedule", exact=True).click()
    ada.get_by_label("A/B test in the pilot batch").check()
    ada.get_by_label("Then send the rest").select_option("by hand")
    ada.get_by_label("Hours until the decision").fill("2")
    expect(ada.get_by_role("button", name="Start…")).to_be_disabled()
    expect(ada.get_by_text("Not approved yet")).to_be_visible()
    ada.get_by_role("button", name="Request approval").click()
    expect(ada.get_by_role("button", name="Approval requested")).to_be_visible()

    visit.go("/today")
    page.get_by_role("link", name="Review").click()
    page.get_by_role("button", name="Approve…").click()
    page.get_by_role("button", name="Approve campaign").click()
    expect(page.get_by_text("approved by demo")).to_be_visible()

    # a change ends the approval, until it is asked for and given again
    ada.get_by_label("every").fill("3")
    expect(ada.get_by_text("It was changed after the approval")).to_be_visible()
    ada.get_by_role("button", name="Request approval again").click()
    page.reload()
    page.get_by_role("button", name="Approve…").click()
    page.get_by_role("button", name="Approve campaign").click()
    expect(page.get_by_text("approved by demo")).to_be_visible()
    ada.reload()
    ada.get_by_role("button", name="Start…").click()
    ada.get_by_role("button", name=re.compile("^Start sending to")).click()
    expect(ada.get_by_role("cell", name=re.compile("^sent"))).to_have_count(1, timeout=60_000)


def test_two_versions_and_a_second_pair_of_eyes(visit: Visit) -> None:
    """Ada asks, somebody else approves; a change ends that; then the pilot batch tries both versions and the plan waits
    for a pick."""
    workspace = Workspace(visit.running.folder)
    with workspace.store.atomic() as db:
        settings.set_setting(db, "require_approval", True)
    workspace.close()
    with signed_in(visit, "ada", "analyst") as ada:
        asked_and_approved(visit, ada)
    page = visit.page

    # the pilot batch had both; the plan waits for a pick
    visit.go("/campaigns/1/schedule")
    for _ in range(4):
        visit.move_clock("An hour")
    page.reload()
    expect(page.get_by_label("Why it is paused")).to_contain_text("ersion", timeout=30_000)
    page.get_by_role("link", name="Results").click()
    expect(page.get_by_role("heading", name="By version")).to_be_visible()
    rows = page.get_by_role("row", name=re.compile("^Version [AB]"))
    expect(rows.first).to_be_visible()
    assert {r.inner_text()[:9] for r in rows.all()} == {"Version A", "Version B"}
    visit.accessible()
    assert visit.said == []


def test_a_plan_that_another_program_sends(visit: Visit) -> None:
    """Drawn, saved as files, told back by the event log; nothing goes out from here."""
    page = visit.go("/campaigns/1/schedule")
    page.get_by_role("button", name="Send with another system…").click()
    expect(page.get_by_role("dialog")).to_contain_text("Import its event log with the message name")
    page.get_by_role("button", name=re.compile(r"^Create batches for \d+ people")).click()
    expect(page.get_by_text("Sent with another system.")).to_be_visible()
    expect(page.get_by_text("so far it reports 0 sent")).to_be_visible()
    page.get_by_role("button", name="different name in the log…").click()
    page.get_by_label("Message name in the log").fill("spring-2026")
    visit.accessible()
    page.get_by_role("button", name="Save name").click()
    expect(page.get_by_text("with the message name “spring-2026”")).to_be_visible()
    with page.expect_download() as got:
        page.get_by_role("link", name="Download batch files").click()
    with zipfile.ZipFile(got.value.path()) as z:
        assert sorted(z.namelist()) == [*(f"batch-0{i}.csv" for i in (1, 2, 3, 4)), "plan.ics"]
        lead = list(csv.DictReader(io.StringIO(z.read("batch-01.csv").decode())))
    lines = "\n".join(
        json.dumps({"at": "2026-03-12T09:42:00Z", "event": "sent", "email": r["email"], "message": "spring-2026"})
        for r in lead
    )
    taken = page.evaluate(
        """async lines => { const me = await (await fetch('/api/me')).json();
        return (await fetch('/api/events', {method: 'POST', headers: {'X-Meadow-CSRF': me.csrf}, body: lines})).status }""",
        lines,
    )
    assert taken == 200
    visit.move_clock("An hour")
    expect(page.get_by_text(f"so far it reports {len(lead)} sent.")).to_be_visible(timeout=20_000)
    expect(page.get_by_role("row", name=re.compile("^pilot")).first).to_contain_text("sent")
    visit.accessible()
    assert visit.said == []


def test_html_from_a_file_and_back(visit: Visit) -> None:
    page = visit.go("/campaigns/1/message")
    page.get_by_role("button", name="Convert to HTML").click()
    page.get_by_role("tab", name="HTML").click()
    body, file = page.get_by_label("HTML body"), page.get_by_label("HTML from a file")
    before = body.input_value()
    file.set_input_files({"name": "people.csv", "mimeType": "text/csv", "buffer": b"email,name\n"})
    expect(page.get_by_role("alert").first).to_contain_text("people.csv contains no HTML.")
    expect(body).to_have_value(before)
    letter = b"<html><body><h1>The last ferry</h1><p>Dear {{ first_name or 'friend' }}</p></body></html>"
    file.set_input_files({"name": "ferry.html", "mimeType": "text/html", "buffer": letter})
    expect(body).to_have_value(letter.decode())
    expect(page.frame_locator("iframe").get_by_text("The last ferry")).to_be_visible()
    expect(page.get_by_role("status").filter(has_text="ferry.html")).to_be_visible()
    page.get_by_role("button", name="Undo").click()
    expect(body).to_have_value(before)
    expect(page.frame_locator("iframe").get_by_text("The spring season is on sale")).to_be_visible()
    visit.accessible()
    assert visit.said == []
