"""Mail as it arrives, in a browser; the relay, unconfirmed deliveries, providers, and a plan of 500 batches."""

from __future__ import annotations

import re
from pathlib import Path

from playwright.sync_api import Browser, Page, expect

from openmeadow.net.signed_tokens import Tokens
from openmeadow.services.campaigns import campaigns, dispatcher, outgoing
from openmeadow.services.workspace import Workspace
from openmeadow.store.campaigns import deliveries
from tests.browser.conftest import Visit
from tests.services.mailing import deliveries_of, mailing

COLUMNS = [
    {"kind": "text", "html": "<p>Above</p>"},
    {
        "kind": "columns",
        "left": [{"kind": "text", "html": "<p>On the left</p>"}],
        "right": [{"kind": "text", "html": "<p>On the right</p>"}],
    },
]
DARK = (
    "<html><head><style>p{color:#112233}@media (prefers-color-scheme:dark){p{color:#ddeeff!important}}</style></head>"
    "<body><p>Evening</p></body></html>"
)


def arrived(folder: Path, message: dict[str, object]) -> str:
    """The HTML of a message as it came to a mailbox."""
    with mailing(folder, 2) as m:
        plan = {"pilot_share": 0.0, "batches": 1, "resend": False}
        campaigns.write(m.workspace, m.campaign, message | {"plan": plan})
        campaigns.start(m.workspace, m.campaign, "test")
        dispatcher.send_due(m.workspace, m.tokens)
        return str(m.world.mailboxes["p1@postern.example"][-1]["html"])


def test_columns_stack_on_a_phone_and_dark_rules_arrive(browser: Browser, folder: Path, tmp_path: Path) -> None:
    page = browser.new_page()
    try:
        page.set_content(arrived(folder, {"blocks": COLUMNS}))
        for width, stacked in ((1280, False), (390, True)):
            page.set_viewport_size({"width": width, "height": 800})
            left, right = (page.get_by_text(f"On the {side}").bounding_box() for side in ("left", "right"))
            assert left is not None and right is not None
            assert (right["y"] > left["y"] + 10) == stacked and (right["x"] > left["x"] + 100) != stacked, width
        other = tmp_path / "other"
        other.mkdir()
        (other / "clock").write_text((folder / "clock").read_text())
        page.set_content(arrived(other, {"html": DARK}))
        for scheme, colour in (("light", "rgb(17, 34, 51)"), ("dark", "rgb(221, 238, 255)")):
            page.emulate_media(color_scheme=scheme)  # type: ignore[arg-type]
            assert page.get_by_text("Evening").evaluate("e => getComputedStyle(e).color") == colour
    finally:
        page.close()


def test_the_relay_and_the_providers(visit: Visit) -> None:
    page = visit.go("/senders")
    page.get_by_role("link", name="Relay").click()
    expect(page.get_by_role("heading", name="Relay", exact=True)).to_be_visible()
    page.get_by_label("Send a test message to").fill("demo@kestrelquay.example")
    page.get_by_role("button", name="Check relay").click()
    expect(page.get_by_role("status").filter(has_text="pass")).to_contain_text(
        "It accepted a message for demo@kestrelquay"
    )
    page.get_by_label("Send a test message to").fill("nowhere")
    page.get_by_role("button", name="Check relay").click()
    expect(page.get_by_role("alert")).to_contain_text("“nowhere” is not a valid address")
    visit.accessible()
    page = visit.go("/health/providers")
    row = page.get_by_role("row", name=re.compile("^Postern"))
    row.get_by_role("button", name="change…").click()
    page.get_by_label("Name", exact=True).fill("The Postern")
    page.get_by_label("Daily limit, over all campaigns").fill("50")
    page.get_by_label("deferrals").fill("25")
    page.get_by_label("Colour").fill("#3a55a4")
    page.get_by_role("button", name="Save provider").click()
    expect(page.get_by_role("row", name=re.compile("^The Postern"))).to_contain_text("own limits: deferrals 25%")
    visit.accessible()
    page = visit.go("/health")
    expect(page.get_by_role("cell", name=re.compile("^The Postern")).locator("[data-provider-colour]")).to_have_css(
        "background-color", "rgb(58, 85, 164)"
    )
    assert not visit.said


def started(visit: Visit) -> int:
    """The demo's campaign under way, two of its deliveries unconfirmed and two refused."""
    workspace = Workspace(visit.running.folder)
    campaigns.start(workspace, 1, "test")
    workspace.close()
    page = visit.go("/campaigns/1/schedule")
    visit.move_clock("To the next event")
    expect(page.get_by_role("row", name=re.compile("^pilot Thu .* sent"))).to_be_visible()
    workspace = Workspace(visit.running.folder)
    with workspace.store.atomic() as db:
        rows = [d for d in deliveries_of(db, 1, "first") if d.state == "sent"][:4]
        for d in rows[:2]:
            deliveries.mark(db, d.id, deliveries.UNCONFIRMED, workspace.now() + 60, "the connection broke")
        for d in rows[2:]:
            deliveries.mark(db, d.id, deliveries.FAILED, workspace.now(), "hard: 550 5.1.1 no such user")
    workspace.close()
    return len(rows)


def test_unconfirmed_and_refused_are_settled_on_the_plan(visit: Visit) -> None:
    assert started(visit) == 4
    page = visit.go("/campaigns/1/schedule")
    section = page.get_by_role("region", name="Unconfirmed deliveries")
    expect(section).to_contain_text("2 unconfirmed.")
    section.get_by_role("button", name="Show").click()
    rows = section.get_by_role("row").filter(has_text="@news.kestrelquay.example")
    expect(rows).to_have_count(2)
    visit.accessible()
    ids = re.findall(r"<(d\d+\.c1\.[0-9a-f]{12}@[^>]+)>", section.inner_text())
    rows.filter(has_text=ids[0]).get_by_role("button", name="mark as sent").click()
    expect(section).to_contain_text("1 unconfirmed.")
    section.get_by_role("button", name="Use the relay log…").click()
    page.get_by_label("Relay log lines").fill(f"queued <{ids[1]}>")
    page.get_by_role("button", name="Read the log").click()
    expect(page.get_by_text("1 person received it, 0 people will be sent it again, 0 remain.")).to_be_visible()
    page.get_by_role("button", name="queue again…").click()
    expect(page.get_by_role("dialog")).to_contain_text("Queue 2 people again?")
    page.get_by_role("button", name="Queue again", exact=True).click()
    expect(page.get_by_text("Rejected by the relay")).to_have_count(0)
    workspace = Workspace(visit.running.folder)
    assert deliveries.state_counts(workspace.store.read(), 1).get("failed", 0) == 0
    with workspace.store.atomic() as db:  # as after a restore
        outgoing.pause_all(db, workspace.now(), workspace.now(), "restored from a backup")
    sent = next(d for d in deliveries_of(workspace.store.read(), 1, "first") if d.state == "queued")
    mark = Tokens(workspace.folder).message_id(sent.id, 1, "news.kestrelquay.example")
    workspace.close()
    page = visit.go("/today")
    page.get_by_role("link", name="Restored: all sending is paused").click()
    page.get_by_label("Relay log lines").fill(mark)
    page.get_by_role("button", name="Read the log").click()
    expect(page.get_by_text("1 had already been sent")).to_be_visible()
    visit.accessible()
    page.get_by_role("button", name="Resume sending…").click()
    page.get_by_role("button", name="Resume sending", exact=True).click()
    expect(page.get_by_text("Nothing is paused")).to_be_visible()
    assert not visit.said


def bars(page: Page) -> int:
    return page.get_by_role("button", name=re.compile("^Batch ")).count()


def test_a_plan_that_is_too_long_is_said_and_one_of_many_batches_is_drawn(visit: Visit) -> None:
    page = visit.go("/campaigns/1/schedule")
    page.get_by_label(re.compile("^every")).fill("720")
    page.get_by_label("Maximum batch size").fill("1")
    expect(
        page.get_by_text(re.compile(r"This would take \d+ batches until \d{4}; the limit is 500 batches"))
    ).to_be_visible()
    page.get_by_label(re.compile("^every")).fill("1")
    expect(page.get_by_text(re.compile("This would take"))).to_have_count(0)
    expect(page.locator("svg [role=button]").nth(60)).to_be_attached()
    assert 60 < bars(page) <= 500
    page.get_by_label("Maximum batch size").fill("")
    expect(page.get_by_role("button", name=re.compile("^Batch 4, "))).to_be_visible()
    # a bar is dragged to the end, and nothing is selected on the way
    bar = page.get_by_role("button", name=re.compile("^Batch 4, "))
    before = bar.get_attribute("aria-label")
    box = bar.bounding_box()
    assert box is not None
    page.mouse.move(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
    page.mouse.down()
    for step in range(1, 9):
        page.mouse.move(box["x"] + box["width"] / 2 + 12 * step, box["y"] + box["height"] / 2)
    page.mouse.up()
    expect(page.get_by_role("button", name=re.compile("^Batch 4, "))).not_to_have_attribute("aria-label", before or "")
    assert page.evaluate("getSelection().toString()") == ""
    expect(page.get_by_text("Times are in UTC.").first).to_be_visible()
    assert not visit.said
