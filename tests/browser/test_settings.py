"""A workspace of one's own, from nothing, with a clock that runs: what is missing, settings, accounts, an idle tab."""

from __future__ import annotations

import re
import time
import urllib.request
from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect

from openmeadow.demo import ports
from openmeadow.services import accounts
from openmeadow.services.subscribers import import_subscribers
from openmeadow.services.workspace import Workspace
from tests.browser.conftest import AXE, PASSWORD
from tests.processes import Begun
from tests.services.test_acts import put


@pytest.fixture(scope="module")
def own(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[str, Path]]:
    """``meadow serve`` over an empty workspace, without demo, worker or stand-ins."""
    folder, port = tmp_path_factory.mktemp("own") / "data", ports.free_port()
    workspace = Workspace(folder)
    accounts.add(workspace, "wren", "analyst", PASSWORD)
    workspace.close()
    process = Begun("--data", str(folder), "serve", "--port", str(port))
    url = f"http://127.0.0.1:{port}"
    for _ in range(200):
        try:
            urllib.request.urlopen(f"{url}/healthz", timeout=5).read()
            break
        except OSError:
            time.sleep(0.1)
    yield url, folder
    process.kill()
    process.wait()


@pytest.fixture
def page(browser: Browser, own: tuple[str, Path]) -> Iterator[Page]:
    context = browser.new_context(viewport={"width": 1280, "height": 800})
    opened = context.new_page()
    opened.goto(f"{own[0]}/today")
    opened.get_by_label("Name").fill("wren")
    opened.get_by_label("Password").fill(PASSWORD)
    opened.get_by_role("button", name="Sign in").click()
    expect(opened.get_by_role("heading", name="Today")).to_be_visible()
    yield opened
    context.close()


def test_from_nothing_to_set_up(page: Page, own: tuple[str, Path]) -> None:
    first = page.get_by_label("First steps")
    for words in ("Name and addresses", "Sending domain", "Relay", "Subscribers", "Consent", "First campaign"):
        expect(first.get_by_text(words, exact=True).first).to_be_visible()
    first.get_by_role("button", name="Skip History").click()
    expect(first.get_by_role("button", name="Take up again History")).to_be_visible()
    page.get_by_role("link", name="Set up Name and addresses").click()
    save = page.get_by_role("button", name="Save setting")
    expect(save).to_be_disabled()
    page.get_by_label("Postal address").fill("Kestrel Quay, 1 Harbour Steps, Saltmere")
    page.get_by_label("Time zone").fill("Europe/Nowhere")
    page.get_by_role("button", name="Save 2 settings").click()
    expect(page.get_by_role("alert")).to_contain_text("not a time zone")
    (
        expect(page.get_by_label("Postal address")).to_have_value("Kestrel Quay, 1 Harbour Steps, Saltmere"),
        "nothing is lost",
    )
    page.get_by_label("Time zone").fill("Europe/Lisbon")
    page.get_by_role("button", name="Save 2 settings").click()
    expect(page.get_by_text(re.compile(r"Saved \d\d:\d\d"))).to_be_visible()
    page.get_by_role("link", name="Relay", exact=True).click()
    page.get_by_label("TLS").select_option("none")
    page.get_by_label("Password").fill("hush")
    page.get_by_role("button", name="Save 2 settings").click()
    expect(page.get_by_text(re.compile(r"Saved \d\d:\d\d"))).to_be_visible()  # signed in a moment ago: proved
    page.reload()
    expect(page.get_by_label("TLS")).to_have_value("none")
    expect(page.get_by_label("Password")).to_have_value("")
    page.get_by_role("link", name="Activity log").click()
    expect(page.get_by_text('postal_address: "" →', exact=False)).to_be_visible()
    expect(page.get_by_text("relay_password: changed")).to_be_visible()
    assert "hush" not in page.content()
    page.evaluate(AXE.read_text(encoding="utf-8"))
    assert page.evaluate("axe.run({runOnly: ['wcag2a', 'wcag2aa']}).then(r => r.violations.map(v => v.id))") == []


def test_somebody_is_invited_and_the_password_is_asked_again(page: Page, browser: Browser, own: tuple[str, Path]) -> None:
    url, folder = own
    page.goto(f"{url}/settings/accounts")
    page.get_by_label("Sign-in name").fill("teal")
    page.get_by_role("button", name="Create invitation").click()
    link = page.get_by_text("/set-password/").inner_text()
    context = browser.new_context()
    theirs = context.new_page()
    theirs.goto(url + "/" + link.split("/", 3)[3])
    theirs.get_by_label("New password").fill(PASSWORD)
    theirs.get_by_label("Repeat the password").fill(PASSWORD)
    theirs.get_by_role("button", name="Set password").click()
    expect(theirs.get_by_role("heading", name="Today")).to_be_visible()
    workspace = Workspace(folder)
    with workspace.store.atomic() as db:
        db.execute("UPDATE sessions SET proved_at = 0")
    page.get_by_label("Role of teal").select_option("observer")
    asked = page.get_by_role("dialog", name="Confirm it is you")
    asked.get_by_label("Password").fill("wrong")
    asked.get_by_role("button", name="Confirm").click()
    expect(asked.get_by_role("alert")).to_contain_text("Wrong password")
    asked.get_by_label("Password").fill(PASSWORD)
    asked.get_by_role("button", name="Confirm").click()
    expect(page.get_by_label("Role of teal")).to_have_value("observer")
    theirs.reload()
    expect(theirs.get_by_role("button", name="Sign in")).to_be_visible(), "another role ends the sessions"
    context.close()
    workspace.close()


def _others(urls: list[str]) -> list[str]:
    return [a for a in urls if "/api/status" not in a]


def _wait_until_quiet(page: Page, asked: dict[str, list[str]]) -> None:
    """Until no page has asked for anything but the heartbeat for three seconds, however long a page takes to begin."""
    before = -1
    for _ in range(20):
        now = sum(len(_others(urls)) for urls in asked.values())
        if now == before:
            return
        before = now
        page.wait_for_timeout(3_000)


def test_an_idle_tab_asks_for_nothing_but_the_heartbeat(page: Page, own: tuple[str, Path]) -> None:
    """With a clock that runs; and something that came is shown without being asked for."""
    url, folder = own
    workspace = Workspace(folder)
    import_subscribers.run(workspace.store, put(folder, "p.csv", "email\na@x.example\n"), workspace.now(), "t")
    asked: dict[str, list[str]] = {}
    tabs = []
    for path in ("/subscribers/map", "/segments", "/campaigns", "/health", "/today"):
        tab = page.context.new_page()
        kept = asked[path] = []
        tab.on("request", lambda r, kept=kept: kept.append(r.url))
        tab.goto(url + path)
        expect(tab.get_by_role("heading", level=1)).to_be_visible()
        tabs.append(tab)
    _wait_until_quiet(page, asked)
    for kept in asked.values():
        kept.clear()
    page.wait_for_timeout(11_500)  # two heartbeats, and the clock goes on
    for path, urls in asked.items():
        assert not _others(urls) and len(urls) >= 2, (path, urls)
    for tab in tabs:
        tab.close()
    page.goto(f"{url}/subscribers/table")
    expect(page.get_by_text("a@x.example")).to_be_visible()
    import_subscribers.run(workspace.store, put(folder, "q.csv", "email\nb@x.example\n"), workspace.now(), "t")
    expect(page.get_by_text("b@x.example")).to_be_visible(timeout=20_000)
    workspace.close()
