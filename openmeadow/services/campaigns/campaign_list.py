"""The list of campaigns: each with what came of it beside what was expected; what is put away, and drafts removed."""

from __future__ import annotations

from openmeadow.core.errors import Refused
from openmeadow.core.ids import CampaignId
from openmeadow.core.states import CampaignState
from openmeadow.services import models
from openmeadow.services.campaigns import figures
from openmeadow.services.campaigns.campaigns import row_of
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.campaigns import campaigns as table
from openmeadow.store.campaigns.records import Campaign, CampaignLine
from openmeadow.store.engagement import chance_models

UNDER_WAY = (CampaignState.SCHEDULED, CampaignState.SENDING, CampaignState.PAUSED)
NOTHING = figures.Whole(0, 0, 0, 0, 0)


def lines(workspace: Workspace) -> list[models.CampaignLine]:
    """All campaigns, the latest first. ``expected`` is known once a mailing is settled."""
    db = workspace.store.read()
    rows = table.every(db)
    counted = figures.every(workspace) if any(c.message for c in rows) else {}
    expected = {e.message: e for e in chance_models.mailings(db)}

    def line(c: CampaignLine) -> models.CampaignLine:
        came, hoped = counted.get(c.message or 0, NOTHING), expected.get(c.message) if c.message else None
        return models.CampaignLine(
            id=c.id,
            name=c.name,
            kind=c.kind,
            state=c.state,
            subject=c.subject,
            purpose=c.purpose_name or "",
            people=c.people,
            delivered=came.delivered,
            opened=came.opened,
            clicked=came.clicked,
            engaged=hoped.observed if hoped else None,
            expected=hoped.expected if hoped else None,
            made_at=c.made_at,
            started_at=c.started_at,
            archived=c.archived_at is not None,
        )

    return [line(c) for c in rows]


def _own(workspace: Workspace, row_id: CampaignId) -> Campaign:
    row = row_of(workspace, row_id)
    if row.sequence:
        raise Refused("It is part of a sequence. Change the sequence instead.")
    return row


def archive(workspace: Workspace, row_id: CampaignId, who: str, *, away: bool) -> None:
    """Put a campaign away, or back into the list; nothing of it changes. One under way stays in sight."""
    row = _own(workspace, row_id)
    if away and row.state in UNDER_WAY:
        raise Refused(f"“{row.name}” is {row.state}. Archive it when it has ended.")
    with workspace.store.atomic() as db:
        table.update(db, row_id, {"archived_at": workspace.now() if away else None})
        settings.log(db, workspace.now(), who, "archived campaign" if away else "restored campaign", row.name)


def delete(workspace: Workspace, row_id: CampaignId, who: str) -> None:
    """Delete a draft. What was sent stays: its results and its mail belong to it."""
    row = _own(workspace, row_id)
    if row.state != CampaignState.DRAFT:
        raise Refused(f"“{row.name}” has been started, so its results are kept. Archive it instead.")
    with workspace.store.atomic() as db:
        table.remove(db, row_id)
        settings.log(db, workspace.now(), who, "deleted campaign", row.name)
