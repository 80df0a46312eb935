"""Takes every picture of docs/screenshots anew, from the demo at fixed moments of its clock."""

from __future__ import annotations

import re
import tempfile
from pathlib import Path

from playwright.sync_api import Page, expect, sync_playwright

from openmeadow.demo import build, ports, run

SHOTS = build.ROOT / "docs" / "screenshots"
FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]
CSV = (
    "email;full name;joined;consent:Season news;town;shoe size\n"
    "mira.amber@lanternmail.example;Mira Amber;2026-02-27;given;Saltmere;39\n"
    "otto.tarn@postern.example;Otto Tarn;2026-02-27;given;Northwick;44\n"
    "ines.vane@brinebox.example;Ines Vane;27.02.2026;given;Quaymouth;38\n"
    "selma.rook(at)postern.example;Selma Rook;2026-02-28;given;Saltmere;41\n"
)


class Camera:
    def __init__(self, page: Page, running: run.Demo, folder: Path) -> None:
        self.page, self.running, self.folder = page, running, folder

    def shoot(self, name: str, path: str | None = None, wait: str = "") -> None:
        if path:
            self.page.goto(self.running.url + path)
        if wait:
            self.page.get_by_text(wait).first.wait_for(timeout=60_000)
        self.page.wait_for_load_state("networkidle")
        self.page.wait_for_timeout(700)
        self.page.screenshot(path=SHOTS / f"{name}.png")
        print(name)

    def move(self, words: str) -> None:
        self.page.get_by_role("button", name="Demo clock").click()
        self.page.get_by_role("menuitem", name=words).click()
        self.page.get_by_text("· moving").wait_for()
        self.page.get_by_role("button", name="Demo clock").wait_for(timeout=900_000)


def take(camera: Camera) -> None:
    page = camera.page
    page.goto(camera.running.url + "/subscribers/table?sort=-last_engaged&band=Steady,Fading,Inactive,Masked")
    page.get_by_text("match.").wait_for()
    for key in ("ArrowDown", "ArrowDown", "Space", "Shift+ArrowDown", "Shift+ArrowDown"):
        page.keyboard.press(key)
    camera.shoot("subscribers-table", wait="selected")
    camera.shoot("person", "/subscribers/8", "Activity")
    page.goto(camera.running.url + "/segments")
    page.get_by_role("link", name="Season news regulars").click()
    page.get_by_label("Compare with a segment").select_option(label="Engaged")
    camera.shoot("segment", wait="Size over time")
    camera.shoot("consent", "/subscribers/consent", "hash chain verified")
    page.goto(camera.running.url + "/subscribers/sunset-policy")
    page.get_by_role("button", name="Turn on policy").click()
    page.get_by_role("button", name="Run this week…").wait_for()
    page.locator("summary").first.click()
    camera.shoot("sunset-policy")
    camera.shoot("score-check", "/subscribers/score-check", "By tenths of the score")
    camera.shoot("health", "/health", "Bounce reasons")
    camera.shoot("sender", "/senders/2", "Publish this")
    camera.shoot("campaign-message", "/campaigns/1/message", "Send a test")
    page.goto(camera.running.url + "/subscribers/map")
    page.get_by_text("What an earlier cut-off would have done").wait_for()
    page.get_by_role("button", name="Show subscribers beyond it").click()
    camera.shoot("subscribers-map", wait="Replay without them")
    page.goto(camera.running.url + "/subscribers/import")
    page.locator("input[type=file]").set_input_files(
        {"name": "spring-fair.csv", "mimeType": "text/csv", "buffer": CSV.encode()}
    )
    page.get_by_label("Source: where they agreed").fill("spring fair, paper form 2026")
    page.get_by_role("button", name="Preview import").click()
    camera.shoot("import", wait="Rejected rows")
    camera.shoot("campaign-recipients", "/campaigns/1/recipients", "By provider")
    page.goto(camera.running.url + "/campaigns/1/checks")
    page.get_by_role("button", name="Check links", exact=True).click()
    page.get_by_text("3 of 3 links have not been checked").wait_for(state="detached")
    camera.shoot("campaign-checks", wait="Passed")
    camera.shoot("sequence-simulation", "/sequences/1/simulation", "to someone, who")
    page.goto(camera.running.url + "/campaigns/1/schedule")
    within(page, "09:00", "19:00", False, "2800")
    page.locator('[aria-label^="Batch 4, Fri"]').wait_for()
    camera.shoot("campaign-schedule")
    within(page, "00:00", "24:00", True, "")
    page.locator('[aria-label^="Batch 4, Thu"]').wait_for()
    page.get_by_role("button", name="Start…").click()
    page.get_by_role("button", name=re.compile("^Start sending to")).click()
    page.get_by_role("button", name="Pause").wait_for()
    camera.move("An hour")
    camera.shoot("today", "/today", "Sending today")
    camera.move("A day")
    camera.move("Three days")
    camera.move("Three days")
    page.goto(camera.running.url + "/campaigns/1/results")
    expect(page.get_by_text("Did the resend work?")).to_be_visible(timeout=60_000)
    camera.shoot("campaign-results")
    camera.shoot("what-works", "/campaigns/benchmarks", "What works")
    page.goto(camera.running.url + "/sequences")
    page.get_by_role("link", name="Welcome to the hall").click()
    page.get_by_text("Resend uplift").wait_for()
    camera.shoot("sequence")


def within(page: Page, begin: str, end: str, weekends: bool, largest: str) -> None:
    """The sending hours, weekends in or out, the maximum batch size."""
    page.get_by_label("Until", exact=True).select_option(end)
    page.get_by_label("From", exact=True).select_option(begin)
    for day in ("Sat", "Sun"):
        page.get_by_label(day, exact=True).set_checked(weekends)
    page.get_by_label("Maximum batch size").fill(largest)
    page.get_by_label("Maximum batch size").blur()


def main() -> None:
    SHOTS.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as name, sync_playwright() as p:
        folder = Path(name) / "demo"
        build.unpack(folder)
        running = run.Demo(folder, ports.free_port())
        browser = p.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        try:
            running.wait_ready()
            page = browser.new_context(viewport={"width": 1280, "height": 800}).new_page()
            page.set_default_timeout(60_000)
            page.goto(running.entry)
            page.get_by_role("heading", name="Today", exact=True).wait_for()
            take(Camera(page, running, folder))
        finally:
            browser.close()
            running.stop()


if __name__ == "__main__":
    main()
