"""Placement tests: copies to test mailboxes at each provider, read back over their mailbox listing."""

from __future__ import annotations

import json
import secrets

from openmeadow.core.errors import Refused
from openmeadow.core.ids import CampaignId
from openmeadow.net.http_client import Unreachable, fetch
from openmeadow.services import models
from openmeadow.services.campaigns import renderer
from openmeadow.services.campaigns.campaigns import row_of
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.health import health

MISSING_AFTER = 1800


def boxes(workspace: Workspace) -> list[dict[str, str]]:
    """The test mailboxes: [{"provider", "address", "listing"}]; the demo's are the mail world's."""
    kept: list[dict[str, str]] = list(workspace.setting("seed_mailboxes"))
    return kept


def start(workspace: Workspace, campaign: CampaignId, who: str) -> tuple[int, int]:
    """Send a copy of a campaign's message to every seed mailbox; the test's id, and how many copies the relay took."""
    row, where = row_of(workspace, campaign), boxes(workspace)
    if not where:
        raise Refused("No seed mailboxes are configured. Add them in the setting seed_mailboxes.")
    copies = []
    for box in where:
        mark = f"test.{campaign}.{secrets.token_hex(8)}@{row.domain_name}"
        try:
            renderer.test_copy(workspace, row, box["address"], who, mark=mark, label="")
            copies.append((box, mark, "waiting"))
        except Refused as e:
            if "was rejected" not in str(e):
                raise
            copies.append((box, mark, "refused"))
    with workspace.store.atomic() as db:
        row_id = health.add_test(db, campaign, workspace.now(), who)
        for box, mark, folder in copies:
            health.add_copy(db, row_id, box["provider"], box["address"], mark, folder)
        settings.log(db, workspace.now(), who, "started placement test", row.name, len(copies))
    return row_id, sum(folder != "refused" for *_, folder in copies)


def look(workspace: Workspace) -> int:
    """Read the mailboxes for copies not yet found; how many were found or given up."""
    listing = {b["address"]: b["listing"] for b in boxes(workspace)}
    settled = 0
    for c in health.waiting_copies(workspace.store.read()):
        folder = _folder_of(listing.get(c.address, ""), c.mark, list(workspace.setting("inside_hosts")))
        if folder is None and workspace.now() - c.at > MISSING_AFTER:
            folder = "missing"
        if folder in ("inbox", "spam", "missing"):
            with workspace.store.atomic() as db:
                health.found_copy(db, c.id, folder, workspace.now())
            settled += 1
    return settled


def _folder_of(url: str, mark: str, allowed: list[str]) -> str | None:
    try:
        found = json.loads(fetch(url, allowed=allowed).body)
    except (Unreachable, ValueError, RecursionError):
        return None
    mails = [m for m in found if isinstance(m, dict)] if isinstance(found, list) else []
    return next((str(m.get("folder")) for m in mails if mark in str(m.get("id", ""))), None)


def results(workspace: Workspace, campaign: CampaignId | None = None) -> list[models.PlacementTest]:
    """Tests, the latest first, with where each copy landed."""
    out: dict[int, models.PlacementTest] = {}
    for r in health.tests(workspace.store.read(), campaign):
        test = out.setdefault(r.id, models.PlacementTest(id=r.id, at=r.at, campaign=r.campaign_name or "", copies=[]))
        test.copies.append(models.PlacedCopy.read_from(r))
    return list(out.values())
