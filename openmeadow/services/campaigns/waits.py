"""How long engagement takes to come in this workspace, and bounces and complaints: learned once and kept while it stands."""

from __future__ import annotations

import numpy as np

from openmeadow.core.arrays import I64
from openmeadow.core.engagement.bands import engagement_delays, settles_within
from openmeadow.core.engagement.expected import Curve
from openmeadow.core.moments import DAY
from openmeadow.core.rules.conditions import View
from openmeadow.services.workspace import Workspace
from openmeadow.store.engagement import event_counts, events

MANY = 2_000_000  # deliveries from which on a day is a short time
ENOUGH = MANY  # deliveries that tell how long engagement takes; of more one in so many is looked at
DAYS, FEW = 365, 50


def mark(workspace: Workspace, view: View) -> tuple[int, ...]:
    """What is learned over a year stands for the day; in a small workspace until anything comes."""
    if len(view.settled.rows) < MANY:
        return events.highest(workspace.store.read()), view.now
    return (view.now // DAY,)


class Waits:
    """``curve`` is how engagement comes in after a message, ``settled`` the seconds within which 95% of it has come."""

    def __init__(self, workspace: Workspace) -> None:
        self.workspace = workspace
        self._mark: object = None

    def see(self, view: View) -> Waits:
        """Of this moment, or near enough."""
        now = mark(self.workspace, view)
        if self._mark != now:
            one_in = 1 + len(view.settled.rows) // ENOUGH
            took = np.concatenate([engagement_delays(p.columns, view.now, p.counts, one_in) for p in view.parts()])
            self.curve, self.settled = Curve.of(took), settles_within(took)
            self._trouble: I64 | None = None
            self._mark = now
        return self

    def trouble(self, view: View) -> I64:
        """The seconds that bounces and complaints took, at most 5,000 of them."""
        found = self._trouble  # another thread may begin a new day meanwhile
        if found is None:
            told = event_counts.delays_of_trouble(self.workspace.store.read(), view.now - DAYS * DAY, view.now)
            found = self._trouble = np.array(told, np.int64)
        return found


def of(workspace: Workspace, view: View) -> Waits:
    """The waits of a workspace."""
    return workspace.part(Waits).see(view)


def curve(workspace: Workspace, view: View) -> Curve:
    """How engagement comes in after a message in this workspace."""
    return of(workspace, view).curve


def usual_wait(workspace: Workspace, view: View) -> int:
    """The time in which 95% of this workspace's answers come, in whole days, so that a resend keeps the hour; three days
    while too little is known."""
    fitted = workspace.models()
    within = fitted.settled if fitted.fitted_at else of(workspace, view).settled
    return -(-within // DAY) * DAY


def outcomes_within(workspace: Workspace, view: View, seconds: int) -> tuple[float, int] | None:
    """The share of complaints and later bounces that came within a time after their message, of how many; None while
    too few are known."""
    took = of(workspace, view).trouble(view)
    return (float((took <= seconds).mean()), len(took)) if len(took) >= FEW else None
