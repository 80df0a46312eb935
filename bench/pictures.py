"""Takes every picture of docs/screenshots anew, from the demo at fixed moments of its clock."""

from __future__ import annotations

import re
import shutil
import tempfile
from pathlib import Path

from playwright.sync_api import Page, expect, sync_playwright

from openmeadow import demo

SHOTS = demo.ROOT / "docs" / "screenshots"
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
    def __init__(self, page: Page, running: demo.Demo, folder: Path) -> None:
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
    page.goto(camera.running.url + "/subscribers/table?sort=-last_answer&band=Steady,Fading,Silent,Veiled")
    page.get_by_text("match.").wait_for()
    for key in ("ArrowDown", "ArrowDown", "Space", "Shift+ArrowDown", "Shift+ArrowDown"):
        page.keyboard.press(key)
    camera.shoot("subscribers-table", wait="marked")
    camera.shoot("person", "/subscribers/8", "Everything that happened")
    page.goto(camera.running.url + "/segments")
    page.get_by_role("link", name="Season news regulars").click()
    page.get_by_label("Compare with a segment").select_option(label="Engaged")
    camera.shoot("segment", wait="Growth, by today's rule")
    camera.shoot("consent", "/subscribers/consent", "The chain holds")
    page.goto(camera.running.url + "/subscribers/clean-up")
    page.get_by_role("button", name="Agree to this").click()
    page.get_by_role("button", name="Do this week…").wait_for()
    page.locator("summary").first.click()
    camera.shoot("clean-up")
    page.goto(camera.running.url + "/subscribers/address-checks")
    page.get_by_role("button", name=re.compile("^Check .* people$")).click()
    page.get_by_role("button", name="Correct all…").wait_for()
    camera.shoot("address-checks")
    camera.shoot("health", "/health", "What refusals say")
    camera.shoot("sender", "/senders/2", "Publish this")
    camera.shoot("campaign-message", "/campaigns/1/message", "Send a test")
    page.goto(camera.running.url + "/subscribers/map")
    page.get_by_text("Stopping earlier, replayed").wait_for()
    page.get_by_role("button", name="Show who is beyond it").click()
    camera.shoot("subscribers-map", wait="Without them, replayed")
    page.goto(camera.running.url + "/subscribers/bring-in")
    page.locator("input[type=file]").set_input_files(
        {"name": "spring-fair.csv", "mimeType": "text/csv", "buffer": CSV.encode()}
    )
    page.get_by_label("Where their consent comes from").fill("spring fair, paper form 2026")
    page.get_by_role("button", name="Look through it").click()
    camera.shoot("bring-in", wait="Rows that cannot be taken")
    camera.shoot("campaign-recipients", "/campaigns/1/recipients", "By provider")
    page.goto(camera.running.url + "/campaigns/1/checks")
    page.get_by_role("button", name="Ask the links", exact=True).click()
    page.get_by_text("3 of 3 have not been asked").wait_for(state="detached")
    camera.shoot("campaign-checks", wait="In order")
    camera.shoot("sequence-walk", "/sequences/1/walk", "to somebody, who")
    page.goto(camera.running.url + "/campaigns/1/plan")
    within(page, "09:00", "19:00", False, "2800")
    page.locator('[aria-label^="Batch 4, Fri"]').wait_for()
    camera.shoot("campaign-plan")
    within(page, "00:00", "24:00", True, "")
    page.locator('[aria-label^="Batch 4, Thu"]').wait_for()
    page.get_by_role("button", name="Start…").click()
    page.get_by_role("button", name=re.compile("^Start, ")).click()
    page.get_by_role("button", name="Hold").wait_for()
    camera.move("An hour")
    camera.shoot("today", "/today", "Going out today")
    camera.move("A day")
    camera.move("Three days")
    camera.move("Three days")
    page.goto(camera.running.url + "/campaigns/1/results")
    expect(page.get_by_text("Did the resend earn its place?")).to_be_visible(timeout=60_000)
    camera.shoot("campaign-results")
    camera.shoot("what-works", "/campaigns/what-works", "What works")
    page.goto(camera.running.url + "/sequences")
    page.get_by_role("link", name="Welcome to the hall").click()
    page.get_by_text("What the repeats add").wait_for()
    camera.shoot("sequence-ladder")


def within(page: Page, begin: str, end: str, weekends: bool, largest: str) -> None:
    """The plan's hours, weekends in or out, the largest batch."""
    page.get_by_label("Until", exact=True).select_option(end)
    page.get_by_label("From", exact=True).select_option(begin)
    for day in ("Sat", "Sun"):
        page.get_by_label(day, exact=True).set_checked(weekends)
    page.get_by_label("Largest batch").fill(largest)
    page.get_by_label("Largest batch").blur()


def main() -> None:
    SHOTS.mkdir(parents=True, exist_ok=True)
    prepared = demo.prepare()
    with tempfile.TemporaryDirectory() as name, sync_playwright() as p:
        folder = Path(name) / "demo"
        shutil.copytree(prepared, folder)
        running = demo.Demo(folder, demo.free_port())
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
