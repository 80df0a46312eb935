"""When the main views show their content in a browser at 1,000,000 people, the first time and again:
``python -m bench.paint``."""

from __future__ import annotations

import sys
import time

from playwright.sync_api import Page, sync_playwright

from bench import large, screens
from tests.browser.conftest import FLAGS

# by its address: what the view asks the server for, and when it is painted
VIEWS = {
    "Today": ("/today", "/api/today"),
    "Map": ("/subscribers/map", "/api/subscribers/map"),
    "Table": ("/subscribers/table", "/api/subscribers?"),
    "Segments": ("/segments", "/api/segments"),
    "Results": ("/campaigns/1/results", "/api/campaigns/1/results"),
}
PAINTED = "() => new Promise(done => requestAnimationFrame(() => requestAnimationFrame(done)))"


def shown(page: Page, url: str, path: str, asked: str) -> float:
    """Seconds until the answer is there and painted."""
    begun = time.perf_counter()
    with page.expect_response(lambda r: asked in r.url and r.ok, timeout=120_000):
        page.goto(url + path, wait_until="commit")
    page.evaluate(PAINTED)
    return time.perf_counter() - begun


def main(people: int = 1_000_000, deliveries: int = 14_000_000) -> None:
    folder = large.workspace(people, deliveries)
    print(f"\nViews in a browser at {people:,} people (seconds until their content is painted)")
    with screens.served(folder) as served, sync_playwright() as p:
        browser = p.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        page, url = browser.new_page(), f"http://127.0.0.1:{served.port}"
        page.goto(f"{url}/sign-in")
        page.get_by_label("Name").fill("bench")
        page.get_by_label("Password").fill(screens.PASSWORD)
        page.get_by_role("button", name="Sign in").click()
        page.get_by_role("heading", name="Today", exact=True).wait_for(timeout=120_000)
        for name, (path, asked) in VIEWS.items():
            first, again = (shown(page, url, path, asked) for _ in range(2))
            print(f"  {name:<10} first {first:5.2f}  again {again:5.2f}")
        browser.close()


if __name__ == "__main__":
    main(*(int(n.replace("_", "")) for n in sys.argv[1:]))
