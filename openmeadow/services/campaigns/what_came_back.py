"""What came back of a campaign besides opens and clicks: why mail bounced, and what was booked by whom."""

from __future__ import annotations

import numpy as np

from openmeadow.core.ids import MessageId
from openmeadow.core.reports.bounces import bounce_class, plain_reason
from openmeadow.services import models
from openmeadow.services.campaigns.figures import MessageFigures
from openmeadow.services.workspace import Workspace
from openmeadow.store.engagement import events
from openmeadow.store.subscribers import subscribers

MOST_REASONS, MOST_BOOKED = 20, 200


def bounce_reasons(workspace: Workspace, message: MessageId) -> list[models.BounceReason]:
    """Why mail of a message bounced, equal refusals together, the most first."""
    found: dict[tuple[str, str, str], int] = {}
    for r in events.bounces_of(workspace.store.read(), message, workspace.now()):
        code, text = plain_reason(r.code, r.diagnostic)
        key = (str(bounce_class(r.code, r.diagnostic)), code, text)
        found[key] = found.get(key, 0) + r.people
    rows = [models.BounceReason(kind=k, code=c, text=t, people=n) for (k, c, t), n in found.items()]
    return sorted(rows, key=lambda r: -r.people)[:MOST_REASONS]


def booked_by(workspace: Workspace, told: MessageFigures) -> list[models.Booked]:
    """Who booked because of a message and for how much, the most first; value in the workspace's currency."""
    mine = told.bookings
    ids, place = np.unique(told.act_person[mine], return_inverse=True)
    worth = np.bincount(place, told.act_value[mine], minlength=len(ids))
    first = np.argsort(-worth, kind="stable")[:MOST_BOOKED]
    rows = subscribers.by_ids(workspace.store.read(), ids[first].tolist())
    return [
        models.Booked(subscriber=i, email=rows[i].email, value=float(worth[p]))
        for i, p in zip(ids[first].tolist(), first.tolist(), strict=True)
        if i in rows
    ]
