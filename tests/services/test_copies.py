"""Copies that count for nobody: tests to colleagues, placement at test mailboxes; and what a resend's variants are called."""

from __future__ import annotations

import json
import threading
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import pytest

from openmeadow.core.delivery.plan import Plan
from openmeadow.core.errors import Refused
from openmeadow.core.moments import DAY
from openmeadow.services.campaigns import campaigns, guardrails, preflight_recipients, results
from openmeadow.services.health import placement
from openmeadow.store import settings
from openmeadow.store.campaigns import campaigns as campaign_table
from openmeadow.store.health import health
from tests.conftest import set_clock
from tests.services.mailing import Mailing, mailing

BOXES = {"inbox": "probe@saltmere.example", "spam": "probe@postern.example", "lost": "probe@quill-saltmere.example"}


class Listing(BaseHTTPRequestHandler):
    """Mailbox listings of the providers, by address; what is not to be had is a page that is no listing."""

    def do_GET(self) -> None:
        box = self.path.strip("/")
        found = self.server.letters.get(box)  # type: ignore[attr-defined]
        body = b"sign in first" if found is None else json.dumps(found).encode()
        self.send_response(200)
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *_: object) -> None:
        pass


@pytest.fixture
def listing() -> Iterator[ThreadingHTTPServer]:
    server = ThreadingHTTPServer(("127.0.0.1", 0), Listing)
    server.letters = {}  # type: ignore[attr-defined]
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield server
    server.shutdown()
    server.server_close()


def with_boxes(m: Mailing, listing: ThreadingHTTPServer) -> None:
    boxes = [
        {"provider": p, "address": a, "listing": f"http://127.0.0.1:{listing.server_port}/{a}"}
        for p, a in (("Other domains", BOXES["inbox"]), ("Postern", BOXES["spam"]), ("Lanternmail", BOXES["lost"]))
    ]
    with m.workspace.store.atomic() as db:
        settings.set_setting(db, "seed_mailboxes", boxes)
    m.world.habits.email[:3] = list(BOXES.values())


def placed(m: Mailing) -> dict[str, str]:
    return {c.address: c.folder for c in placement.results(m.workspace, m.campaign)[0].copies}


def found(m: Mailing) -> list[tuple[str, str]]:
    row = campaigns.row_of(m.workspace, m.campaign)
    return [(c.level, c.finding) for c in preflight_recipients.thorough(m.workspace, row) if c.check == "Placement"]


def test_where_copies_land_is_read_back(folder: Path, listing: ThreadingHTTPServer) -> None:
    """One in the inbox, one in spam, one that never comes; who is not valid is waited for, then missing."""
    with mailing(folder, 8) as m:
        with pytest.raises(Refused, match="No seed mailboxes are configured"):
            placement.start(m.workspace, m.campaign, "test")
        assert found(m) == [], "nothing is said where nothing can be tried"
        with_boxes(m, listing)
        assert found(m) == [("note", "No placement test yet.")]
        assert placement.start(m.workspace, m.campaign, "test") == (1, 3), "three copies of the first test"
        assert set(placed(m).values()) == {"waiting"} and found(m)[0][1].startswith("Placement test in progress")
        marks = {c.address: c.mark for c in health.waiting_copies(m.workspace.store.read())}
        letters: dict[str, Any] = listing.letters  # type: ignore[attr-defined]
        assert placement.look(m.workspace) == 0, "no listing answers as one yet"
        letters[BOXES["inbox"]] = [{"id": f"<{marks[BOXES['inbox']]}>", "folder": "inbox"}]
        letters[BOXES["spam"]] = [
            {"id": "<other@x>", "folder": "inbox"},
            {"id": f"<{marks[BOXES['spam']]}>", "folder": "spam"},
        ]
        letters[BOXES["lost"]] = []
        assert placement.look(m.workspace) == 2
        assert placed(m) == {BOXES["inbox"]: "inbox", BOXES["spam"]: "spam", BOXES["lost"]: "waiting"}
        set_clock(m.workspace, m.workspace.now() + placement.MISSING_AFTER + 1)
        assert placement.look(m.workspace) == 1 and placed(m)[BOXES["lost"]] == "missing"
        level, words = found(m)[0]
        assert level == "warning" and words == "2 of 3 test copies did not reach the inbox: Lanternmail, Postern."
        letters[BOXES["inbox"]][0]["folder"] = "spam"
        placement.start(m.workspace, m.campaign, "test")
        for box in BOXES.values():
            mark = next(c.mark for c in health.waiting_copies(m.workspace.store.read()) if c.address == box)
            letters[box] = [{"id": f"<{mark}>", "folder": "spam"}]
        placement.look(m.workspace)
        assert found(m)[0][0] == "blocker", "nowhere in the inbox"


def test_copies_are_counted_for_nobody(folder: Path, listing: ThreadingHTTPServer) -> None:
    with mailing(folder, 8) as m:
        with_boxes(m, listing)
        campaigns.test_message(m.workspace, m.campaign, " ada@saltmere.example ", "test")
        placement.start(m.workspace, m.campaign, "test")
        events = m.workspace.store.read().execute("SELECT count(*) AS n FROM events").fetchone()["n"]
        assert events == 0 and not m.workspace.view().columns.rows.message.size
        letters = [x for box in m.world.mailboxes.values() for x in box]
        tests = [x for x in letters if x["subject"].startswith("[Test] ")]
        assert len(tests) <= 1 and all("/c/" not in x["html"] for x in tests)
        assert all("/c/" not in x["html"] for x in letters if x["id"].startswith("<test.")), "plain links"
        campaigns.write(m.workspace, m.campaign, {"plan": {"pilot_share": 0.0, "batches": 1, "resend": False}})
        campaigns.start(m.workspace, m.campaign, "test")
        assert results.results(m.workspace, m.campaign).sent == 0
        told = guardrails.see(m.workspace, m.campaign).guardrails
        assert {g.guardrail for g in told} <= {"spam placement"}, "no send is counted"
        for wrong, said in (
            ("nobody", "is not a valid address"),
            ("a@b", "the domain has no dot"),
            ("", "is not a valid address"),
        ):
            with pytest.raises(Refused, match=said):
                campaigns.test_message(m.workspace, m.campaign, wrong, "test")
        with m.workspace.store.atomic() as db:
            campaign_table.update(db, m.campaign, {"from_address": None})
        with pytest.raises(Refused, match="Choose a confirmed from address whose"):
            campaigns.test_message(m.workspace, m.campaign, "ada@saltmere.example", "test")


SAME: dict[str, Any] = {}


@pytest.mark.parametrize(
    ("plan", "names"),
    [
        ({}, ["Same subject"]),
        ({"new_subject": "By the water"}, ["Same subject", "New subject"]),
        ({"variants": [SAME, SAME]}, ["Same subject", "Same subject (2)"]),
        (
            {"variants": [{"subject": "A"}, {"subject": "B"}, {"preview": "C"}]},
            ["New subject", "New subject (2)", "New preview text"],
        ),
        ({"variants": [{"subject": "A", "preview": "B"}]}, ["New subject, new preview text"]),
        ({"wait": DAY, "variants": [{"wait": 3 * DAY}, {"wait": DAY}]}, ["After 3 days", "Same subject"]),
        ({"wait": DAY, "variants": [{"subject": "A", "wait": 36 * 3600}]}, ["New subject, after 1.5 days"]),
        ({"variants": [SAME] * 6}, ["Same subject", "Same subject (2)", "Same subject (3)", "Same subject (4)"]),
    ],
)
def test_arms_are_called_by_what_is_different(plan: dict[str, Any], names: list[str]) -> None:
    full = Plan().changed(**plan)
    variants = full.resend_variants()
    assert [a.name for a in variants] == names
    assert all(
        a.wait == (own.get("wait") or full.wait) for a, own in zip(variants, plan.get("variants") or [], strict=False)
    )
