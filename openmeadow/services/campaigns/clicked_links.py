"""Clicks drawn on the message."""

from __future__ import annotations

from openmeadow.core.ids import CampaignId
from openmeadow.core.message.links import with_counts
from openmeadow.services.campaigns.campaigns import row_of
from openmeadow.services.campaigns.results_breakdown import links
from openmeadow.services.workspace import Workspace


def drawn(workspace: Workspace, row_id: CampaignId) -> str:
    """The HTML of a campaign's message with, at each link, how many people clicked it."""
    row = row_of(workspace, row_id)
    return with_counts(row.html, {x.url: x.people for x in links(workspace, row)})
