"""A demo of 400 people with everything running, and headless Chromium signed in to it."""

from __future__ import annotations

import atexit
import shutil
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from functools import cache
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect, sync_playwright

from openmeadow.demo import build, ports, run
from openmeadow.services import accounts
from openmeadow.services.workspace import Workspace
from openmeadow.store import users as account_table

FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]
AXE = Path(__file__).parents[2] / "frontend/node_modules/axe-core/axe.min.js"


expect.set_options(timeout=15_000)  # two cores do everything at once, the browser too


@dataclass
class Visit:
    """An open page of the running demo. ``said`` gathers errors of the console and requests that leave the machine."""

    page: Page
    running: run.Demo
    said: list[str]

    def go(self, path: str) -> Page:
        self.page.goto(self.running.url + path)
        return self.page

    def accessible(self) -> None:
        """WCAG 2.2 AA, checked by machine."""
        self.page.evaluate(AXE.read_text(encoding="utf-8"))
        found = self.page.evaluate(
            "axe.run({runOnly: ['wcag2a', 'wcag2aa', 'wcag21aa', 'wcag22aa']})"
            ".then(r => r.violations.map(v => v.id + ': ' + v.nodes.slice(0, 3).map(n => n.target + ' '"
            " + n.failureSummary).join(' | ')))"
        )
        assert not found, chr(10).join(found)

    def move_clock(self, words: str) -> None:
        """Choose from the clock's menu and wait until it stands again."""
        self.page.get_by_role("button", name="Demo clock").click()
        self.page.get_by_role("menuitem", name=words, exact=False).click()
        self.page.get_by_text("· moving").wait_for(timeout=20_000)
        self.page.get_by_role("button", name="Demo clock").wait_for(timeout=180_000)


PASSWORD = "evenings by the water"


@contextmanager
def signed_in(visit: Visit, name: str, role: str) -> Iterator[Page]:
    """Somebody else's browser, signed in to the same demo; they are made if they are not there."""
    workspace = Workspace(visit.running.folder)
    if account_table.user_named(workspace.store.read(), name) is None:
        accounts.add(workspace, name, role, PASSWORD)
    workspace.close()
    assert visit.page.context.browser is not None
    context = visit.page.context.browser.new_context(viewport={"width": 1280, "height": 800})
    page = context.new_page()
    try:
        page.goto(visit.running.url + "/today")
        page.get_by_label("Name").fill(name)
        page.get_by_label("Password").fill(PASSWORD)
        page.get_by_role("button", name="Sign in").click()
        page.get_by_role("heading", name="Today", exact=True).wait_for()
        yield page
    finally:
        context.close()


@pytest.fixture(scope="session")
def browser() -> Iterator[Browser]:
    with sync_playwright() as p:
        opened = p.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        yield opened
        opened.close()


@cache
def built() -> Path:
    """The demo of 400 people, made once in each process of the tests."""
    folder = Path(tempfile.mkdtemp()) / "demo"
    build.build(folder, 400)
    atexit.register(shutil.rmtree, folder.parent, ignore_errors=True)
    return folder


@contextmanager
def visiting(browser: Browser, folder: Path) -> Iterator[Visit]:
    """A demo of its own, signed in to as the demo analyst."""
    shutil.copytree(built(), folder)
    running = run.Demo(folder, ports.free_port())
    context = browser.new_context(viewport={"width": 1280, "height": 800})
    said: list[str] = []
    try:
        running.wait_ready()
        page = context.new_page()
        page.set_default_timeout(20_000)
        page.on("pageerror", lambda e: said.append(str(e)))
        page.on(
            "request",
            lambda r: (
                None
                if r.url.startswith((running.url, "data:", "about:", "blob:"))
                else said.append(f"left the machine: {r.url}")
            ),
        )
        page.goto(running.entry)
        page.get_by_role("heading", name="Today", exact=True).wait_for()
        yield Visit(page, running, said)
    finally:
        context.close()
        running.stop()


@pytest.fixture
def visit(browser: Browser, tmp_path: Path) -> Iterator[Visit]:
    with visiting(browser, tmp_path / "demo") as found:
        yield found


@pytest.fixture(scope="module")
def shared(browser: Browser, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Visit]:
    """One demo for all tests of a file that leave it as it was, or do not mind."""
    with visiting(browser, tmp_path_factory.mktemp("shared") / "demo") as found:
        yield found
