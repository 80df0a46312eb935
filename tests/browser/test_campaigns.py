"""A campaign by blocks: checked, its batch moved by key, held by a guardrail, changed for the rest, judged."""

from __future__ import annotations

import json
import re
import struct
import zlib
from pathlib import Path

from playwright.sync_api import expect

from openmeadow.core.imports.dates import rfc3339
from openmeadow.store.connection import Store
from tests.browser.conftest import Visit


def png(path: Path, side: int = 40) -> Path:
    """A plain image."""

    def chunk(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    rows = (b"\0" + b"\x33\x47\x8f" * side) * side
    head = struct.pack(">IIBBBBB", side, side, 8, 2, 0, 0, 0)
    path.write_bytes(
        b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", zlib.compress(rows)) + chunk(b"IEND", b"")
    )
    return path


def complaints(visit: Visit, most: int) -> str:
    """Event lines by which some of those who got the latest message complain."""
    store = Store(visit.running.folder)
    rows = store.read().execute(
        "SELECT s.email, m.name, d.changed_at FROM deliveries d JOIN subscribers s ON s.id = d.subscriber "
        "JOIN sends q ON q.id = d.send JOIN campaigns c ON c.id = q.campaign JOIN messages m ON m.id = c.message "
        "WHERE d.state = 'sent' ORDER BY c.id DESC LIMIT ?",
        (most,),
    )
    lines = [
        {"at": rfc3339(r["changed_at"] + 60), "event": "complained", "email": r["email"], "message": r["name"]}
        for r in rows
    ]
    store.close()
    return "\n".join(json.dumps(line) for line in lines)


def test_by_blocks_held_changed_and_judged(visit: Visit, tmp_path: Path) -> None:
    page = visit.page
    if visit.url.startswith("https"):  # a page with TLS shows no images without it
        visit.public_at_its_address()
    # the frame, once for all
    visit.go("/campaigns/layout")
    page.get_by_role("textbox", name="Footer text").click()
    page.keyboard.type("Kestrel Quay, the hall on the harbour")
    page.get_by_role("button", name="Save layout", exact=True).click()
    expect(page.get_by_text("Saved and applied to drafts.")).to_be_visible()
    visit.accessible()

    # a message by blocks, with a image and a part for some
    page.keyboard.press("5")
    page.get_by_label("Name of new campaign").fill("Late seats")
    page.keyboard.press("Enter")
    page.get_by_label("Purpose").select_option("Season news")
    page.get_by_label("From", exact=True).select_option("hello@news.kestrelquay.example")
    page.get_by_label("From name").fill("Kestrel Quay")
    page.get_by_label(re.compile("^Subject")).fill("Late seats")
    page.get_by_label(re.compile("^Preview text")).fill("Forty seats for tonight came back to the box office")
    page.get_by_role("tab", name="Blocks").click()
    page.get_by_role("button", name="Text", exact=True).click()
    words = "Forty seats came back to the box office; they are yours until seven. " * 4
    page.get_by_role("textbox", name="Block 1").click()
    page.keyboard.type(words)
    page.get_by_role("button", name="Image", exact=True).click()
    page.get_by_label("Image file for block 2").set_input_files(png(tmp_path / "hall.png"))
    expect(page.get_by_label("Block 2, image").locator("img")).to_be_visible()
    page.get_by_label(re.compile("^Alternative text")).fill("The hall at night")
    page.get_by_role("button", name="Button", exact=True).click()
    page.get_by_label("Button text").fill("Take your seats")
    page.get_by_label("Block 3, button").get_by_label("Link").fill("https://www.kestrelquay.example/gone")
    shown = page.frame_locator("iframe")
    expect(shown.get_by_text("Take your seats")).to_be_visible()
    expect(shown.get_by_text("the hall on the harbour")).to_be_visible()
    expect(page.get_by_text("Saved automatically.")).to_be_visible()
    visit.accessible()

    # a list, one person left out; a dead link stops, and is mended
    page.get_by_role("link", name=re.compile("^Recipients")).click()
    page.get_by_role("combobox", name="Send to").fill("Permitted for Season news")
    page.keyboard.press("Enter")
    expect(page.get_by_text("Selected", exact=True)).to_be_visible()
    visit.accessible()
    page.get_by_role("link", name=re.compile("^Checks")).click()
    page.get_by_role("button", name="Check links", exact=True).click()
    expect(page.get_by_text("gone")).to_be_visible()
    expect(page.get_by_text("1 to fix")).to_be_visible()
    visit.accessible()
    page.get_by_role("button", name="Override…").click()
    page.get_by_label(re.compile("^Reason")).fill("The page opens at noon")
    page.get_by_role("button", name="Override blocker").click()
    expect(page.get_by_text("Overridden by demo: The page opens at noon")).to_be_visible()

    # a plan; the last batch is moved by a key; a guardrail holds it
    page.get_by_role("link", name="Schedule", exact=True).click()
    batch = page.get_by_role("button", name=re.compile("^Batch 4, "))
    expect(batch).to_have_attribute("aria-label", re.compile("Thu 12 Mar"))
    batch.focus()
    page.keyboard.press("Shift+ArrowRight")
    expect(page.get_by_text("rescheduled manually")).to_be_visible()
    expect(batch).to_have_attribute("aria-label", re.compile("Fri 13 Mar"))
    page.get_by_role("button", name="Start…").click()
    page.get_by_role("button", name=re.compile("^Start sending to")).click()
    expect(page.get_by_role("cell", name=re.compile("^sent"))).to_have_count(1, timeout=60_000)
    visit.move_clock("An hour")
    taken = page.evaluate(
        """async lines => { const me = await (await fetch('/api/me')).json();
        const headers = {'X-Meadow-CSRF': me.csrf}; return (await fetch('/api/events', {method: 'POST', headers,
        body: lines})).status }""",
        complaints(visit, 6),
    )
    assert taken == 200
    expect(page.get_by_label("Why it is paused")).to_contain_text("omplaints", timeout=20_000)
    visit.accessible()

    # what still waits is told something else
    page.get_by_role("link", name="Edit message…").click()
    page.get_by_role("button", name="Edit for remaining recipients").click()
    page.get_by_label(re.compile("^Subject")).fill("The last seats")
    page.get_by_role("button", name="Show differences").click()
    expect(page.get_by_text("− Late seats")).to_be_visible()
    page.get_by_role("button", name=re.compile(r"^Save for \d")).click()
    expect(page.get_by_role("tab", name="Version B, in use")).to_be_visible()
    page.get_by_role("button", name="Schedule").or_(page.get_by_role("link", name="Schedule", exact=True)).click()
    page.get_by_role("button", name="Resume", exact=True).click()
    visit.move_clock("Three days")
    visit.move_clock("Three days")

    # judged by what is usual here, and over all campaigns
    page.get_by_role("link", name="Results").click()
    expect(page.get_by_role("heading", name="Benchmark")).to_be_visible()
    expect(page.get_by_role("heading", name="By version")).to_be_visible()
    expect(page.get_by_text("Do not compare these")).to_be_visible()
    expect(page.get_by_role("cell", name="https://www.kestrelquay.example/gone")).to_be_visible()
    visit.accessible()
    visit.go("/campaigns/benchmarks")
    expect(page.get_by_role("cell", name="Same subject")).to_be_visible()
    visit.accessible()
    assert visit.said == []
