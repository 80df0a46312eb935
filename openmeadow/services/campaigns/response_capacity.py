"""How large a batch may be so that the team can take what it causes, from this workspace's own history."""

from __future__ import annotations

import numpy as np

from openmeadow.core.columns import MACHINE
from openmeadow.core.delivery.schedule import capacity_batch
from openmeadow.core.errors import Refused
from openmeadow.core.events import Kind
from openmeadow.core.moments import DAY, HOUR
from openmeadow.services import models
from openmeadow.services.workspace import Workspace

DAYS, HOURS, ENOUGH = 180, 48, 30
KINDS = {"clicks": Kind.CLICKED, "replies": Kind.REPLIED, "bookings": Kind.BOOKED}


def fits(workspace: Workspace, an_hour: float, one_in: float, what: str = "clicks") -> models.BatchThatFits:
    """The largest batch for a team that takes ``an_hour`` responses, where one in ``one_in`` of ``what`` makes one;
    the shares are of the last 180 days."""
    if an_hour <= 0 or one_in < 1 or what not in KINDS:
        raise Refused(
            "Enter how many contacts your team handles per hour, and how many clicks, replies or bookings lead to one."
        )
    view = workspace.view()
    rows, acts, now = view.settled.rows, view.settled.acts, view.now
    since = now - DAYS * DAY
    sent = (rows.first_at > since) & (rows.first_at <= now - HOURS * HOUR) & (rows.failed_at > now)
    delivered = int(sent.sum())
    hit = (acts.kind == KINDS[what]) & (acts.by != MACHINE) & (acts.at > since) & (acts.at <= now) & (acts.message > 0)
    most = int(max(rows.message.max(initial=0), acts.message.max(initial=0))) + 1
    key = rows.person[sent].astype(np.int64) * most + rows.message[sent]
    order = np.argsort(key)
    key, first = key[order], rows.first_at[sent][order]
    wanted = acts.person[hit].astype(np.int64) * most + acts.message[hit]
    place = np.minimum(np.searchsorted(key, wanted), max(len(key) - 1, 0))
    good = key[place] == wanted if len(key) else np.zeros(len(wanted), bool)
    _, once = np.unique(wanted[good], return_index=True)
    hours = (acts.at[hit][good][once] - first[place[good]][once]) // HOUR
    responses = len(hours)
    if responses < ENOUGH:
        raise Refused(f"Not enough data to suggest a batch size: {responses} {what} in the last {DAYS} days.")
    busiest = float(np.bincount(hours[(hours >= 0) & (hours < HOURS)], minlength=1).max() / responses)
    rate = responses / delivered
    return models.BatchThatFits(
        largest=capacity_batch(an_hour, rate, busiest, 1 / one_in) or 0,
        rate=rate,
        busiest=busiest,
        delivered=delivered,
        responses=responses,
    )
