"""A second pair of eyes: where the workspace asks for it, somebody else approves what will go out; any change ends that."""

from __future__ import annotations

import hashlib
import json
from dataclasses import astuple

from pydantic import BaseModel

from openmeadow.core.errors import Refused
from openmeadow.services import models
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.campaigns import campaigns, content
from openmeadow.store.campaigns.records import Campaign, Texts
from openmeadow.store.rows import Values

WHAT = (
    *("purpose", "from_address", "from_name", "subject", "preview", "html", "plain", "segments_in", "segments_out"),
    *("lists_in", "lists_out", "with_sequences", "track_opens", "track_clicks", "plan"),
)


def needed(workspace: Workspace) -> bool:
    """Whether campaigns need the approval of a second person."""
    return bool(workspace.setting("require_approval"))


def fingerprint(workspace: Workspace, row: Campaign) -> str:
    """A hash of all that is approved: texts, recipients, plan."""
    db = workspace.store.read()
    people = [sorted(campaigns.people(db, row.id, side)) for side in ("in", "out")]
    other = [list(astuple(Texts.of(v))) for v in content.versions(db, row.id) if v.n > 1]
    said = json.dumps([[getattr(row, name) for name in WHAT], people, other], ensure_ascii=False, default=_as_text)
    return hashlib.sha256(said.encode()).hexdigest()


def _as_text(value: object) -> str:
    return value.model_dump_json() if isinstance(value, BaseModel) else str(value)


def approved(workspace: Workspace, row: Campaign) -> bool:
    """Whether a campaign was approved as it is now."""
    return bool(row.approved_as) and row.approved_as == fingerprint(workspace, row)


def state(workspace: Workspace, row: Campaign) -> models.Approval:
    """{"needed", "asked_by", "asked_at", "approved_by", "expired"}: where the approval stands."""
    good = approved(workspace, row)
    return models.Approval(
        needed=needed(workspace),
        asked_by=row.asked_by or "",
        asked_at=row.asked_at,
        approved_by=row.approved_by or "" if good else "",
        expired=bool(row.approved_as) and not good,
    )


def ask(workspace: Workspace, row: Campaign, who: str) -> None:
    """Say that a draft is ready for somebody else's eyes."""
    if row.state != "draft":
        raise Refused(f"“{row.name}” has already started.")
    with workspace.store.atomic() as db:
        campaigns.update(db, row.id, {"asked_by": who, "asked_at": workspace.now()})
        settings.log(db, workspace.now(), who, "requested approval", row.name)


def approve(workspace: Workspace, row: Campaign, who: str) -> None:
    """Approve a draft as it stands. Who asked for it cannot."""
    if row.state != "draft":
        raise Refused(f"“{row.name}” has already started.")
    if not row.asked_by:
        raise Refused("No approval was requested yet.")
    if row.asked_by == who:
        raise Refused("You cannot approve your own request.")
    with workspace.store.atomic() as db:
        as_it_is: Values = {
            "approved_by": who,
            "approved_at": workspace.now(),
            "approved_as": fingerprint(workspace, row),
        }
        campaigns.update(db, row.id, as_it_is)
        settings.log(db, workspace.now(), who, "approved campaign", row.name)
