"""What came back of late, read once for everything that shows it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from openmeadow.core.ids import MessageId
from openmeadow.core.moments import DAY, MINUTE
from openmeadow.services.workspace import Workspace
from openmeadow.store.engagement import events
from openmeadow.store.health import health, reports
from openmeadow.store.health.records import DayCount, RefusalCount
from openmeadow.store.subscribers.subscribers import facts_version

DAYS = 30


@dataclass
class _Read:
    """What was read at one state of the database and in one minute."""

    mark: tuple[int, ...] = ()
    by_day: dict[tuple[MessageId, ...] | None, list[DayCount]] = field(default_factory=dict)
    refusals: list[RefusalCount] | None = None


class Outcomes:
    """Deferrals, bounces, complaints and unsubscribes of DAYS as they were read last, until anything comes or the minute is
    over."""

    def __init__(self, workspace: Workspace) -> None:
        self.workspace = workspace
        self._read = _Read()

    def _fresh(self, now: int) -> _Read:
        db, read = self.workspace.store.read(), self._read
        mark = (events.highest(db), facts_version(db), now // MINUTE)
        if read.mark != mark:
            read = self._read = _Read(mark)
        return read

    def by_day(self, now: int, messages: Sequence[MessageId] | None) -> list[DayCount]:
        """Of some messages only where given."""
        read, of = self._fresh(now), None if messages is None else tuple(messages)
        if of not in read.by_day:
            read.by_day[of] = health.outcomes_by_day(self.workspace.store.read(), now - DAYS * DAY, now, messages)
        return read.by_day[of]

    def refusals(self, now: int) -> list[RefusalCount]:
        """What refusals say."""
        read = self._fresh(now)
        if read.refusals is None:
            read.refusals = reports.refusals(self.workspace.store.read(), now - DAYS * DAY, now)
        return read.refusals
