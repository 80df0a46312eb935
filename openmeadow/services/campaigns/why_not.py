"""Why an address will not get a campaign."""

from __future__ import annotations

from openmeadow.core.ids import CampaignId
from openmeadow.services import models
from openmeadow.services.campaigns import recipients
from openmeadow.services.campaigns.campaigns import row_of
from openmeadow.services.subscribers import profile
from openmeadow.services.workspace import Workspace
from openmeadow.store.campaigns import deliveries


def why_not(workspace: Workspace, email: str, campaign: CampaignId) -> models.WhyNot:
    """Why an address will not get a campaign: every reason that applies, and whether its segments choose it."""

    row, row_id = row_of(workspace, campaign), profile.find(workspace, email)
    view = workspace.view()
    at = workspace.index_of(view, row_id)
    within, without = (bool(mask[at]) for mask in recipients.sides(workspace, view, row))
    reasons = [] if within else ["not in any selected segment"]
    if without:
        reasons.append("in an excluded segment")
    answer = recipients.gate(view, row, limits=True)
    reasons += answer.why_not(at) if answer else []
    sent = deliveries.of_person(workspace.store.read(), campaign, row_id)
    return models.WhyNot(subscriber=row_id, permitted=not reasons, reasons=reasons, deliveries=sent)
