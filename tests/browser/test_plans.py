"""A plan in every detail on its page, two versions tried by lot, and a second pair of eyes."""

from __future__ import annotations

import csv
import io
import json
import re
import zipfile

from playwright.sync_api import Page, expect

from openmeadow.desk.desk import Desk
from openmeadow.store import workspace
from tests.browser.conftest import Visit, signed_in


def batches(page: Page) -> list[str]:
    """What the timeline's batches say of themselves, in order."""
    return [b.get_attribute("aria-label") or "" for b in page.get_by_role("button", name=re.compile("^Batch ")).all()]


def test_a_plan_in_every_detail(visit: Visit) -> None:
    page = visit.go("/campaigns/1/plan")
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
    page.get_by_text("The batches as a table").click()
    table = page.get_by_role("row", name=re.compile("again|Resend", re.I))
    for i in range(table.count()):
        assert not re.search(r"(Sat|Sun) \d", table.nth(i).inner_text())

    # a cap moves people to a later slot, and says so; taken away it is forgotten
    page.get_by_label("Postern", exact=True).fill("10")
    expect(page.get_by_text(re.compile(r"\d+ people move to a later slot"))).to_be_visible()
    page.get_by_label("Postern", exact=True).fill("")
    expect(page.get_by_text(re.compile("people move to a later slot"))).to_have_count(0)

    # what the team can take, from history
    page.get_by_role("button", name="What can our team take?").click()
    page.get_by_label("Answered an hour").fill("1")
    page.get_by_role("button", name="Work it out").click()
    told = page.get_by_role("status").filter(has_text="fits")
    expect(told).to_contain_text(re.compile(r"A batch of \d+ fits: [\d.]+% of [\d,]+ delivered gave clicks"))
    fits = int(re.search(r"A batch of ([\d,]+) fits", told.inner_text()).group(1).replace(",", ""))  # type: ignore[union-attr]
    page.get_by_role("button", name="Use it as the largest batch").click()
    expect(page.get_by_label("Largest batch")).to_have_value(str(fits))
    page.get_by_label("Largest batch").fill("")

    # a last moment before the first batch is said, and keeps it from starting
    page.get_by_label("No later than").fill("2026-03-12T09:43")
    expect(page.get_by_text("The plan's last moment comes before its first batch").or_(
        page.get_by_text(re.compile("find no room before the last moment")))).to_be_visible()  # fmt: skip
    page.get_by_label("No later than").fill("")

    # a wish that cannot be is refused in a sentence, and the plan stays as it was
    page.get_by_label("From", exact=True).select_option("14:00")
    page.get_by_label("Until", exact=True).select_option("10:00")
    expect(page.get_by_role("alert")).to_contain_text("The hours begin before they end")
    page.reload()
    expect(page.get_by_label("From", exact=True)).not_to_have_value("")

    # four arms at most, each by lot, with how much could be told
    page.get_by_role("button", name="Another arm").click()
    page.get_by_label("Subject of arm 3").fill("The last forty-one seats")
    page.get_by_role("button", name="Another arm").click()
    page.get_by_label("Opening lines of arm 4").fill("In case it slipped by")
    expect(page.get_by_role("button", name="Another arm")).to_have_count(0)
    expect(page.get_by_role("cell", name=re.compile("New opening lines"))).to_be_visible()
    expect(page.get_by_text(re.compile(r"About \d+ will be due: \d+ held back, \d+ in each arm"))).to_be_visible()
    page.get_by_role("button", name="Take arm 3 away").click()
    expect(page.get_by_label("Subject of arm 4")).to_have_count(0)
    page.get_by_label("held back by lot").fill("0")
    expect(page.get_by_text("what the resend adds cannot be told from chance")).to_be_visible()
    visit.accessible()

    # by their own clocks, and a ramp without a lead batch
    page.get_by_label("At the same hour in each person's own time zone").check()
    expect(page.get_by_text("By their own clocks")).to_be_visible()
    page.get_by_label("At the same hour in each person's own time zone").uncheck()
    page.get_by_label("People on the first day of the ramp").fill("10")
    expect(page.get_by_text(re.compile(r"The ramp takes \d+ days"))).to_be_visible()
    assert visit.said == []


def asked_and_approved(visit: Visit, ada: Page) -> None:
    """Ada writes a second version, asks for eyes, gets them, changes something, asks again, and starts."""
    page = visit.page
    ada.goto(visit.running.url + "/campaigns/1/message")
    ada.get_by_role("button", name="Try another version against this…").click()
    ada.get_by_role("tab", name="Version B").click()
    ada.get_by_label(re.compile("^Subject")).fill("Forty-one evenings by the water")
    expect(ada.get_by_text("Kept as you write.")).to_be_visible()
    ada.get_by_role("link", name="Plan", exact=True).click()
    ada.get_by_label("Try version A against B in the lead batch").check()
    ada.get_by_label("The rest gets").select_option("by hand")
    ada.get_by_label("Hours until they are judged").fill("2")
    expect(ada.get_by_role("button", name="Start…")).to_be_disabled()
    expect(ada.get_by_text("Nobody else has approved it yet")).to_be_visible()
    ada.get_by_role("button", name="Ask for approval").click()
    expect(ada.get_by_role("button", name="Asked for approval")).to_be_visible()

    visit.go("/today")
    page.get_by_role("link", name="Look at it").click()
    page.get_by_role("button", name="Approve…").click()
    page.get_by_role("button", name="Approve it").click()
    expect(page.get_by_text("approved by demo")).to_be_visible()

    # a change ends the approval, until it is asked for and given again
    ada.get_by_label("apart by").fill("3")
    expect(ada.get_by_text("It was changed after it was approved")).to_be_visible()
    ada.get_by_role("button", name="Ask for approval again").click()
    page.reload()
    page.get_by_role("button", name="Approve…").click()
    page.get_by_role("button", name="Approve it").click()
    expect(page.get_by_text("approved by demo")).to_be_visible()
    ada.reload()
    ada.get_by_role("button", name="Start…").click()
    ada.get_by_role("button", name=re.compile("^Start, ")).click()
    expect(ada.get_by_role("cell", name=re.compile("^gone"))).to_have_count(1, timeout=60_000)


def test_two_versions_and_a_second_pair_of_eyes(visit: Visit) -> None:
    """Ada asks, somebody else approves; a change ends that; then the lead batch tries both versions and the plan waits
    for a pick."""
    desk = Desk(visit.running.folder)
    with desk.store.atomic() as db:
        workspace.set_setting(db, "second_pair", True)
    desk.close()
    with signed_in(visit, "ada", "analyst") as ada:
        asked_and_approved(visit, ada)
    page = visit.page

    # the lead batch had both; the plan waits for a pick
    visit.go("/campaigns/1/plan")
    for _ in range(4):
        visit.move_clock("An hour")
    page.reload()
    expect(page.get_by_label("Why it is held")).to_contain_text("ersion", timeout=30_000)
    page.get_by_role("link", name="Results").click()
    expect(page.get_by_role("heading", name="By version")).to_be_visible()
    rows = page.get_by_role("row", name=re.compile("^Version [AB]"))
    expect(rows.first).to_be_visible()
    assert {r.inner_text()[:9] for r in rows.all()} == {"Version A", "Version B"}
    visit.accessible()
    assert visit.said == []


def test_a_plan_that_another_program_sends(visit: Visit) -> None:
    """Drawn, saved as files, told back by the event log; nothing goes out from here."""
    page = visit.go("/campaigns/1/plan")
    page.get_by_role("button", name="Send it elsewhere…").click()
    expect(page.get_by_role("dialog")).to_contain_text("Bring its event log back under the message name")
    page.get_by_role("button", name=re.compile(r"^Draw the batches, \d+ people")).click()
    expect(page.get_by_text("Another program sends it.")).to_be_visible()
    expect(page.get_by_text("so far it told of 0")).to_be_visible()
    page.get_by_role("button", name="its log calls it otherwise…").click()
    page.get_by_label("Message name in the log").fill("spring-2026")
    visit.accessible()
    page.get_by_role("button", name="Keep the name").click()
    expect(page.get_by_text("under the message name “spring-2026”")).to_be_visible()
    with page.expect_download() as got:
        page.get_by_role("link", name="Save the batches as files").click()
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
    expect(page.get_by_text(f"so far it told of {len(lead)}.")).to_be_visible(timeout=20_000)
    expect(page.get_by_role("row", name=re.compile("^lead")).first).to_contain_text("gone")
    visit.accessible()
    assert visit.said == []


def test_html_from_a_file_and_back(visit: Visit) -> None:
    page = visit.go("/campaigns/1/message")
    body, file = page.get_by_label("HTML body"), page.get_by_label("HTML from a file")
    before = body.input_value()
    file.set_input_files({"name": "people.csv", "mimeType": "text/csv", "buffer": b"email,name\n"})
    expect(page.get_by_role("alert").first).to_contain_text("people.csv holds no HTML.")
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
