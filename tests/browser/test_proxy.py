"""Behind the proxy that is shipped, with TLS: the same program, and the limits of its configuration."""

from __future__ import annotations

import re
import ssl
import urllib.error
import urllib.request
from pathlib import Path

from playwright.sync_api import Browser, expect

from openmeadow.services.workspace import Workspace
from openmeadow.web.app import make_app
from openmeadow.web.router import COOKIE
from tests import proxy
from tests.browser.conftest import visiting

TRUSTING = ssl.create_default_context()
TRUSTING.check_hostname, TRUSTING.verify_mode = False, ssl.CERT_NONE


class _Stays(urllib.request.HTTPRedirectHandler):
    def redirect_request(self, *_: object) -> None:
        return None


def asked(address: str, body: bytes | None = None, **headers: str) -> tuple[int, str]:
    """Status, and where it leads or what it answers."""
    opener = urllib.request.build_opener(_Stays, urllib.request.HTTPSHandler(context=TRUSTING))
    try:
        with opener.open(urllib.request.Request(address, body, headers), timeout=30) as answer:
            return answer.status, answer.read().decode(errors="replace")
    except urllib.error.HTTPError as e:
        return e.code, e.headers.get("Location") or e.read().decode(errors="replace")


def test_a_visit_through_the_shipped_proxy(browser: Browser, built: Path, tmp_path: Path) -> None:
    with visiting(browser, built, tmp_path / "demo", behind_proxy=True) as visit:
        visit.public_at_its_address()
        page = visit.page
        for path, text in (("/subscribers/table", "Last 24 messages"), ("/campaigns/1/message", "Preview as subscriber")):
            visit.go(path)
            expect(page.get_by_text(text).first).to_be_visible()
        (session,) = [c for c in page.context.cookies() if c["name"] == COOKIE]
        assert session["secure"] and session["httpOnly"]
        response = page.request.get(visit.url + "/api/ready")
        assert "max-age" in response.headers["strict-transport-security"]
        # a rule of 10 kB in the address, an image over the usual limit of a body
        rule = " or ".join(f"opened at least 1 in {n} days" for n in range(1, 300))
        assert page.request.get(f"{visit.url}/api/subscribers", params={"rule": rule}).status == 200
        large = {"name": "a.bin", "mimeType": "image/png", "buffer": b"x" * 6_000_000}
        csrf = {"X-Meadow-CSRF": page.request.get(visit.url + "/api/me").json()["csrf"]}
        answer = page.request.post(f"{visit.url}/api/images", multipart={"file": large}, headers=csrf)
        assert "larger than 2 MB" in answer.json()["error"], answer.text()
        assert visit.said == []
        # what the configuration itself says no to
        assert asked(visit.url + "/u/x", b"x" * 70_000)[0] == 413
        assert asked(visit.url + "/api/campaigns", b"x" * 6_000_000)[0] == 413
        assert asked(visit.url + "/metrics")[0] == 403, "what a proxy passes on does not come from this machine"
        # the server goes away behind it
        visit.go("/segments/new")
        page.get_by_label("Name", exact=True).fill("Kept all the same")
        page.get_by_label("Rule", exact=True).fill("rejoined")
        expect(page.get_by_role("button", name="Save segment")).to_be_enabled()
        page.wait_for_load_state("networkidle")  # counted, and nothing is on its way any more
        visit.running._children[-1].kill()
        with page.expect_response(lambda r: "/segments/count" in r.url):
            page.get_by_label("Rule", exact=True).fill("rejoined or never engaged")
        page.wait_for_timeout(300)  # a count that fails for the server's sake is no mistake of the rule
        page.get_by_role("button", name="Save segment").click()
        expect(page.get_by_text("The server is not responding. Nothing was lost").first).to_be_visible()
        tries = [asked(visit.url + "/api/sign-in", b"{}", **{"Content-Type": "application/json"})[0] for _ in range(30)]
        assert 429 in tries and tries[0] != 429


def test_its_limits_are_for_the_routes_that_there_are(workspace: Workspace) -> None:
    app = make_app(workspace)
    text = proxy.SHIPPED.read_text(encoding="utf-8")
    files, public, secrets = (re.compile(found) for found in re.findall(r"location ~ (\S+) \{", text))
    uploads = {r.template for r in app.extensions["described"].routes if r.upload is not None}
    assert uploads and all(files.match(u) for u in uploads)
    shown = [str(rule) for rule in app.url_map.iter_rules()]
    to_all = {r for r in shown if re.match(r"/(\w|join|enter)/<", r)}
    assert len(to_all) >= 9 and all(public.match(r) for r in to_all)
    assert not any(public.match(r) or secrets.match(r) for r in shown if r.startswith("/api/") and "/s" not in r)
