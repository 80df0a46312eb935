"""The JSON API, one module a place."""

from __future__ import annotations

from openmeadow.desk.desk import Desk
from openmeadow.web.api import (
    acts,
    bring_in,
    campaigns,
    consent,
    deliveries,
    entrance,
    health,
    outgoing,
    providers,
    relay,
    segments,
    senders,
    sequences,
    settings,
    subscribers,
    today,
    writing,
)
from openmeadow.web.described import Described

PLACES = (
    entrance,
    settings,
    today,
    subscribers,
    acts,
    bring_in,
    consent,
    segments,
    senders,
    relay,
    outgoing,
    campaigns,
    deliveries,
    writing,
    sequences,
    health,
    providers,
)


def register(api: Described, desk: Desk) -> None:
    """Add every route."""
    for place in PLACES:
        place.register(api, desk)
