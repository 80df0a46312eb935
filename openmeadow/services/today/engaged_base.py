"""The engaged base: people by band at month ends and now, and who became inactive this week. What was true then is kept;
what is not kept yet is worked out beside the requests where that takes long."""

from __future__ import annotations

import threading
import time
from datetime import UTC, datetime

import numpy as np

from openmeadow.core.arrays import I8
from openmeadow.core.engagement.bands import BANDS, INACTIVE
from openmeadow.core.engagement.score import Scores, score
from openmeadow.core.moments import WEEK, midnight, real
from openmeadow.core.rules.conditions import View
from openmeadow.services import models
from openmeadow.services.workspace import Workspace
from openmeadow.store.engagement import event_hours

MONTHS = 12
PAUSE = 1.0  # seconds between two moments, so that the pages asked for meanwhile are not slowed by all of them
AT_ONCE = 2_000_000  # deliveries up to which a past moment is worked out while the request waits


def month_ends(now: int, workspace: Workspace) -> list[int]:
    """The first moments of this month and the eleven before it in the workspace's zone, oldest first."""
    zone = workspace.zone
    here = datetime.fromtimestamp(now, UTC).astimezone(zone)
    months = [divmod(here.year * 12 + here.month - 1 - back, 12) for back in range(MONTHS - 1, -1, -1)]
    return [real(datetime(year, month + 1, 1), zone) for year, month in months]


class _Worker:
    """What is being worked out beside the requests, one thing at a time."""

    def __init__(self, workspace: Workspace) -> None:
        self.workspace, self.busy = workspace, threading.Lock()
        self.week: tuple[tuple[int, int], I8] | None = None

    def start(self, view: View) -> None:
        if self.busy.acquire(blocking=False):
            threading.Thread(target=self._work, args=(view,), daemon=True, name="engaged base").start()

    def _work(self, view: View) -> None:
        try:
            for at in (None, *missing(self.workspace, view)):
                time.sleep(PAUSE)
                if at is None:
                    self.week_ago(view)
                else:
                    keep(self.workspace, view, at)
        finally:
            self.busy.release()

    def mark(self, view: View) -> tuple[int, int]:
        return midnight(view.now, self.workspace.zone), len(view.columns.people)

    def week_ago(self, view: View) -> I8:
        """Everybody's band a week before today began; worked out once a day."""
        mark = self.mark(view)
        if self.week is None or self.week[0] != mark:
            self.week = (mark, _then(self.workspace, view, mark[0] - WEEK).band)
        return self.week[1]


def _then(workspace: Workspace, view: View, at: int) -> Scores:
    """Everybody's scores at a past moment."""
    return score(view.settled, at, workspace.basis(view.settled, at))


def missing(workspace: Workspace, view: View) -> list[int]:
    """The month ends that are not kept, the latest first."""
    kept = event_hours.kept_points(workspace.store.read(), int(workspace.setting("inactive_after_days")))
    return [at for at in reversed(month_ends(view.now, workspace)) if at not in kept]


def keep(workspace: Workspace, view: View, at: int) -> None:
    """Work out a month end, with what was known by then about who had joined, and keep it."""
    alive = view.alive & (view.columns.people.joined_at <= at)
    bands = np.bincount(_then(workspace, view, at).band[alive], minlength=len(BANDS)).tolist()
    with workspace.store.atomic() as db:
        event_hours.keep_point(db, at, int(workspace.setting("inactive_after_days")), bands)


def see(workspace: Workspace, view: View) -> tuple[list[models.BasePoint], int]:
    """The month ends that are known and now, and how many are still being worked out."""
    lacking = missing(workspace, view)
    if lacking and len(view.settled.rows) <= AT_ONCE:
        for at in lacking:
            keep(workspace, view, at)
        lacking = []
    elif lacking:
        workspace.part(_Worker).start(view)
    kept = event_hours.kept_points(workspace.store.read(), int(workspace.setting("inactive_after_days")))
    ends = [models.BasePoint(at=at, bands=kept[at]) for at in month_ends(view.now, workspace) if at in kept]
    present = np.bincount(view.scores.band[view.alive], minlength=len(BANDS)).tolist()
    return [*ends, models.BasePoint(at=view.now, bands=present)], len(lacking)


def became_inactive(workspace: Workspace, view: View) -> int:
    """How many became inactive since a week before today began; 0 while that is being worked out."""
    worker = workspace.part(_Worker)
    if len(view.settled.rows) > AT_ONCE and (worker.week is None or worker.week[0] != worker.mark(view)):
        worker.start(view)
        return 0
    before, joined = worker.week_ago(view), view.columns.people.joined_at
    there = joined <= worker.mark(view)[0] - WEEK
    return int((view.alive & there & (view.scores.band == INACTIVE) & (before != INACTIVE)).sum())
