"""A start is undone as long as nothing has gone out: the campaign is a draft again."""

from __future__ import annotations

from openmeadow.core.errors import Refused
from openmeadow.core.ids import CampaignId
from openmeadow.core.states import CampaignState
from openmeadow.services.campaigns import first_send
from openmeadow.services.campaigns.campaigns import row_of
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.campaigns import campaigns, content, deliveries
from openmeadow.store.campaigns.records import Campaign

UNDER_WAY = (CampaignState.SCHEDULED, CampaignState.SENDING, CampaignState.PAUSED)


def may_undo(workspace: Workspace, row: Campaign) -> bool:
    """Whether a campaign is started by this workspace and nothing of it has been tried."""
    if row.sequence or row.external or row.state not in UNDER_WAY or row.started_at is None:
        return False
    return not deliveries.is_any_tried(workspace.store.read(), row.id)


def undo_start(workspace: Workspace, row_id: CampaignId, who: str) -> None:
    """Back to a draft with everything that was chosen. Refused once the first email has been tried, or where another
    system sends."""
    with workspace.store.roomy(), first_send.one_start(workspace):
        row = row_of(workspace, row_id)
        if row.sequence or row.state not in UNDER_WAY:
            raise Refused(f"“{row.name}” is {row.state}, so there is no start to undo.")
        if row.external:
            raise Refused("Another system sends this campaign. Stop it instead.")
        with workspace.store.atomic() as db:
            if deliveries.is_any_tried(db, row_id):
                raise Refused("The first emails have gone out, so the start cannot be undone. Pause or stop it instead.")
            back = {"state": CampaignState.DRAFT, "message": None, "started_at": None, "exclusions": "[]"}
            campaigns.update(db, row_id, {**back, "paused_why": "", "paused_evidence": "[]"})
            content.forget_first_version(db, row_id)
            if row.message:
                campaigns.remove_message(db, row.message)
            settings.log(db, workspace.now(), who, "undid the start", row.name)
        first_send.clear(workspace, row_id)
