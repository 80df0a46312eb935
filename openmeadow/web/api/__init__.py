"""The JSON API, one module a place."""

from __future__ import annotations

from openmeadow.desk.desk import Desk
from openmeadow.web.api import campaigns, entrance, segments, senders, subscribers, today
from openmeadow.web.described import Described


def register(api: Described, desk: Desk) -> None:
    """Add every route."""
    for place in (entrance, today, subscribers, segments, senders, campaigns):
        place.register(api, desk)
