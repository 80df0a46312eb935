"""A demo of 400 people with everything running, and headless Chromium signed in to it."""

from __future__ import annotations

import os
import shutil
import ssl
import time
import urllib.request
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Browser, Page, expect, sync_playwright

from openmeadow.demo import ports, run
from openmeadow.services import accounts
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store import users as account_table
from tests import proxy
from tests.processes import Begun

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
    """An open page of the running demo at ``url``. ``said`` gathers errors of the console and requests that leave the
    machine."""

    page: Page
    running: run.Demo
    url: str
    said: list[str]

    def go(self, path: str) -> Page:
        self.page.goto(self.url + path)
        return self.page

    def public_at_its_address(self) -> None:
        """What the workspace calls its public address is that of this visit: behind the proxy, with TLS. The readers of
        the mail world do not trust its certificate, so they open nothing from then on."""
        workspace = Workspace(self.running.folder)
        with workspace.store.atomic() as db:
            settings.set_setting(db, "public_url", self.url)
        workspace.close()

    def fetch(self, url: str) -> bytes:
        """What a machine that follows a link gets; the proxy's certificate is one of the tests."""
        with urllib.request.urlopen(url, context=ssl._create_unverified_context()) as answer:
            body: bytes = answer.read()
            return body

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
        """Choose from the clock's menu and wait until it stands again, however short the way was."""
        self.page.get_by_role("button", name="Demo clock").click()
        with self.page.expect_response(lambda r: r.url.endswith("/api/clock")):
            self.page.get_by_role("menuitem", name=words, exact=False).click()
        end = time.monotonic() + 180
        while self.page.request.get(f"{self.url}/api/status").json()["moving"] and time.monotonic() < end:
            time.sleep(0.2)
        with self.page.expect_response(lambda r: r.url.endswith("/api/status")):
            pass  # the page has heard of it too
        self.page.get_by_role("button", name="Demo clock").wait_for()


CONTEXT: dict[str, Any] = {"viewport": {"width": 1280, "height": 800}, "ignore_https_errors": True}
PASSWORD = "evenings by the water"


@contextmanager
def signed_in(visit: Visit, name: str, role: str) -> Iterator[Page]:
    """Somebody else's browser, signed in to the same demo; they are made if they are not there."""
    workspace = Workspace(visit.running.folder)
    if account_table.user_named(workspace.store.read(), name) is None:
        accounts.add(workspace, name, role, PASSWORD)
    workspace.close()
    assert visit.page.context.browser is not None
    context = visit.page.context.browser.new_context(**CONTEXT)
    page = context.new_page()
    try:
        page.goto(visit.url + "/today")
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


class ForkedDemo(run.Demo):
    """The demo whose processes are forked from one that has imported everything, and end at once."""

    def _begin(self, arguments: list[str]) -> Any:
        return Begun(*arguments)

    def stop(self) -> None:
        for child in self._children:
            child.kill()
        for child in self._children:
            child.wait()


@contextmanager
def visiting(browser: Browser, built: Path, folder: Path, behind_proxy: bool = False) -> Iterator[Visit]:
    """A demo of its own, signed in to as the demo analyst. With MEADOW_PROXY=1 behind the proxy of deploy/, with TLS."""
    shutil.copytree(built, folder)
    running = ForkedDemo(folder, ports.free_port())
    context = browser.new_context(**CONTEXT)
    said: list[str] = []
    with ExitStack() as stack:
        stack.callback(running.stop)
        stack.callback(context.close)
        url = running.url
        running.wait_ready()  # its ports are its own before the proxy looks for two
        if behind_proxy or os.environ.get("MEADOW_PROXY"):
            url, _ = stack.enter_context(proxy.in_front_of(running.port, folder.with_name("proxy")))
        page = context.new_page()
        page.set_default_timeout(20_000)
        page.on("pageerror", lambda e: said.append(str(e)))
        page.on(
            "request",
            lambda r: (
                None if r.url.startswith((url, "data:", "about:", "blob:")) else said.append(f"left the machine: {r.url}")
            ),
        )
        page.goto(running.entry.replace(running.url, url))
        page.get_by_role("heading", name="Today", exact=True).wait_for()
        yield Visit(page, running, url, said)


@pytest.fixture
def visit(browser: Browser, built: Path, tmp_path: Path) -> Iterator[Visit]:
    with visiting(browser, built, tmp_path / "demo") as found:
        yield found


@pytest.fixture(scope="module")
def shared(browser: Browser, built: Path, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Visit]:
    """One demo for all tests of a file that leave it as it was, or do not mind."""
    with visiting(browser, built, tmp_path_factory.mktemp("shared") / "demo") as found:
        yield found
