"""What came back of late, read once for everything that shows it."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence

from openmeadow.core.ids import MessageId
from openmeadow.core.moments import DAY, MINUTE
from openmeadow.services.workspace import Workspace
from openmeadow.store.engagement import events
from openmeadow.store.health import health, reports
from openmeadow.store.health.records import DayCount, RefusalCount
from openmeadow.store.subscribers.subscribers import facts_version

DAYS = 30


class Outcomes:
    """Deferrals, bounces, complaints and unsubscribes of DAYS as they were read last, until anything comes or the minute is
    over."""

    def __init__(self, workspace: Workspace) -> None:
        self.workspace = workspace
        self._mark: object = None
        self._by_day: dict[tuple[MessageId, ...] | None, list[DayCount]] = {}
        self._refusals: list[RefusalCount] | None = None

    def _fresh(self, now: int) -> sqlite3.Connection:
        db = self.workspace.store.read()
        mark = (events.highest(db), facts_version(db), now // MINUTE)
        if self._mark != mark:
            self._mark, self._by_day, self._refusals = mark, {}, None
        return db

    def by_day(self, now: int, messages: Sequence[MessageId] | None) -> list[DayCount]:
        """Of some messages only where given."""
        db, of = self._fresh(now), None if messages is None else tuple(messages)
        found = self._by_day.get(of)
        if found is None:
            found = self._by_day[of] = health.outcomes_by_day(db, now - DAYS * DAY, now, messages)
        return found

    def refusals(self, now: int) -> list[RefusalCount]:
        """What refusals say."""
        db = self._fresh(now)
        found = self._refusals
        if found is None:
            found = self._refusals = reports.refusals(db, now - DAYS * DAY, now)
        return found
