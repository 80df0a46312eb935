"""The JSON API, one module a place."""

from __future__ import annotations

from openmeadow.services.workspace import Workspace
from openmeadow.web.api import account, settings
from openmeadow.web.api.campaigns import campaigns, content, deliveries, outgoing
from openmeadow.web.api.health import health, providers
from openmeadow.web.api.segments import segments
from openmeadow.web.api.senders import relay, senders
from openmeadow.web.api.sequences import sequences
from openmeadow.web.api.subscribers import bulk_actions, consent, duplicates, fields, imports, subscribers
from openmeadow.web.api.today import today
from openmeadow.web.router import Described

PLACES = (
    account,
    settings,
    today,
    subscribers,
    bulk_actions,
    imports,
    fields,
    duplicates,
    consent,
    segments,
    senders,
    relay,
    outgoing,
    campaigns,
    deliveries,
    content,
    sequences,
    health,
    providers,
)


def register(api: Described, workspace: Workspace) -> None:
    """Add every route."""
    for place in PLACES:
        place.routes.register(api, workspace)
