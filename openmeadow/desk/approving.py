"""A second pair of eyes: where the workspace asks for it, somebody else approves what will go out; any change ends that."""

from __future__ import annotations

import hashlib
import json
from typing import Any

from openmeadow.core.errors import Refused
from openmeadow.desk.desk import Desk
from openmeadow.store import campaigns, workspace, writing

WHAT = (
    *("purpose", "from_address", "from_name", "subject", "preview", "html", "plain", "segments_in", "segments_out"),
    *("lists_in", "lists_out", "with_sequences", "record_opens", "record_clicks", "plan"),
)


def needed(desk: Desk) -> bool:
    return bool(desk.setting("second_pair"))


def fingerprint(desk: Desk, row: Any) -> str:
    """A hash of all that is approved: texts, recipients, plan."""
    db = desk.store.read()
    people = [sorted(campaigns.people(db, row["id"], side)) for side in ("in", "out")]
    other = [[v[t] for t in writing.TEXTS] for v in writing.versions(db, row["id"]) if v["n"] > 1]
    said = json.dumps([[row[name] for name in WHAT], people, other], ensure_ascii=False)
    return hashlib.sha256(said.encode()).hexdigest()


def approved(desk: Desk, row: Any) -> bool:
    return bool(row["approved_as"]) and row["approved_as"] == fingerprint(desk, row)


def state(desk: Desk, row: Any) -> dict[str, Any]:
    """{"needed", "asked_by", "asked_at", "approved_by", "lapsed"}: where the approval stands."""
    good = approved(desk, row)
    return {
        "needed": needed(desk),
        "asked_by": row["asked_by"] or "",
        "asked_at": row["asked_at"],
        "approved_by": row["approved_by"] or "" if good else "",
        "lapsed": bool(row["approved_as"]) and not good,
    }


def ask(desk: Desk, row: Any, who: str) -> None:
    """Say that a draft is ready for somebody else's eyes."""
    if row["state"] != "draft":
        raise Refused(f"“{row['name']}” has started already.")
    with desk.store.atomic() as db:
        campaigns.update(db, row["id"], {"asked_by": who, "asked_at": desk.now()})
        workspace.log(db, desk.now(), who, "asked for approval", row["name"])


def approve(desk: Desk, row: Any, who: str) -> None:
    """Approve a draft as it stands. Whoever asked for it cannot."""
    if row["state"] != "draft":
        raise Refused(f"“{row['name']}” has started already.")
    if not row["asked_by"]:
        raise Refused("Nobody has asked for an approval yet.")
    if row["asked_by"] == who:
        raise Refused("You asked for it yourself; somebody else must look at it.")
    with desk.store.atomic() as db:
        as_it_is = {"approved_by": who, "approved_at": desk.now(), "approved_as": fingerprint(desk, row)}
        campaigns.update(db, row["id"], as_it_is)
        workspace.log(db, desk.now(), who, "approved campaign", row["name"])
