"""Placement tests: copies to test mailboxes at each provider, read back over their mailbox listing."""

from __future__ import annotations

import json
import secrets
from typing import Any

from openmeadow.core.errors import Refused
from openmeadow.desk import writer
from openmeadow.desk.campaigns import row_of
from openmeadow.desk.desk import Desk
from openmeadow.store import health, workspace
from openmeadow.wire.http_client import Unreachable, fetch

MISSING_AFTER = 1800


def boxes(desk: Desk) -> list[dict[str, str]]:
    """The test mailboxes: [{"provider", "address", "listing"}]; the demo's are the mail world's."""
    kept: list[dict[str, str]] = list(desk.setting("placement_boxes"))
    return kept


def start(desk: Desk, campaign: int, who: str) -> tuple[int, int]:
    """Send a copy of a campaign's message to every seed mailbox; the test's id, and how many copies the relay took."""
    row, where = row_of(desk, campaign), boxes(desk)
    if not where:
        raise Refused("There are no test mailboxes yet; set placement_boxes to where copies should go.")
    copies = []
    for box in where:
        mark = f"test.{campaign}.{secrets.token_hex(8)}@{row['domain_name']}"
        try:
            writer.test_copy(desk, row, box["address"], who, mark=mark, label="")
            copies.append((box, mark, "waiting"))
        except Refused as e:
            if "was not taken" not in str(e):
                raise
            copies.append((box, mark, "refused"))
    with desk.store.atomic() as db:
        id = health.add_test(db, campaign, desk.now(), who)
        for box, mark, folder in copies:
            health.add_copy(db, id, box["provider"], box["address"], mark, folder)
        workspace.log(db, desk.now(), who, "began placement test", row["name"], len(copies))
    return id, sum(folder != "refused" for *_, folder in copies)


def look(desk: Desk) -> int:
    """Read the mailboxes for copies not yet found; how many were found or given up."""
    listing = {b["address"]: b["listing"] for b in boxes(desk)}
    settled = 0
    for c in health.waiting_copies(desk.store.read()):
        folder = _folder_of(listing.get(c["address"], ""), c["mark"], list(desk.setting("inside_hosts")))
        if folder is None and desk.now() - c["at"] > MISSING_AFTER:
            folder = "missing"
        if folder in ("inbox", "spam", "missing"):
            with desk.store.atomic() as db:
                health.found_copy(db, c["id"], folder, desk.now())
            settled += 1
    return settled


def _folder_of(url: str, mark: str, allowed: list[str]) -> str | None:
    try:
        found = json.loads(fetch(url, allowed=allowed).body)
    except (Unreachable, ValueError, RecursionError):
        return None
    mails = [m for m in found if isinstance(m, dict)] if isinstance(found, list) else []
    return next((str(m.get("folder")) for m in mails if mark in str(m.get("id", ""))), None)


def results(desk: Desk, campaign: int | None = None) -> list[dict[str, Any]]:
    """Tests, the latest first, with where each copy landed."""
    out: dict[int, dict[str, Any]] = {}
    for r in health.tests(desk.store.read(), campaign):
        test = out.setdefault(r["id"], {"id": r["id"], "at": r["at"], "campaign": r["campaign_name"] or "", "copies": []})
        test["copies"].append({k: r[k] for k in ("provider", "address", "folder", "seen_at")})
    return list(out.values())
