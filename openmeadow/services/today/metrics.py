"""What a watching machine counts: sends and what came of them, what waits, whether the parts are ready, and room."""

from __future__ import annotations

import shutil
import time
from collections.abc import Iterator

from prometheus_client.core import CounterMetricFamily, GaugeMetricFamily, Metric

from openmeadow.core.events import Kind
from openmeadow.net import heartbeat
from openmeadow.services.today import process_watch
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.campaigns import deliveries
from openmeadow.store.engagement import event_hours
from openmeadow.store.subscribers import subscribers

DATABASE = ("meadow.db", "meadow.db-wal")


class WorkspaceMetrics:
    """A collector over an open workspace: read anew whenever it is asked."""

    def __init__(self, workspace: Workspace) -> None:
        self.workspace = workspace

    def describe(self) -> list[Metric]:
        """None: nothing is read when the collector is registered."""
        return []

    def collect(self) -> Iterator[Metric]:
        """Every figure as it is now."""
        found = process_watch.readiness(self.workspace)
        ready = GaugeMetricFamily("openmeadow_ready", "1 where a part is ready, 0 where it is not.", labels=["part"])
        for part, state in (("database", found.database), ("worker", found.worker), ("relay", found.relay)):
            ready.add_metric([part], float(state == "pass"))
        yield ready
        beat = heartbeat.last_beat(self.workspace.folder, heartbeat.WORKER)
        age = float("nan") if beat is None else time.time() - beat
        yield GaugeMetricFamily("openmeadow_worker_heartbeat_age_seconds", "Since the worker last reported.", value=age)
        yield from self._room()
        if found.database == "pass":
            yield from self._counts()

    def _room(self) -> Iterator[Metric]:
        folder = self.workspace.folder
        size = sum((folder / name).stat().st_size for name in DATABASE if (folder / name).exists())
        yield GaugeMetricFamily("openmeadow_database_bytes", "The database with its log.", value=size)
        yield GaugeMetricFamily("openmeadow_disk_free_bytes", "Room on its disk.", value=shutil.disk_usage(folder).free)

    def _counts(self) -> Iterator[Metric]:
        db = self.workspace.store.read()
        events = CounterMetricFamily("openmeadow_events", "Events by kind, imported ones too.", labels=["kind"])
        totals = event_hours.totals(db)
        for kind in Kind:
            events.add_metric([kind.name.lower()], totals.get(int(kind), 0))
        yield events
        waiting = GaugeMetricFamily("openmeadow_deliveries", "Deliveries that are not settled.", labels=["state"])
        for state, n in deliveries.unsettled_counts(db).items():
            waiting.add_metric([state], n)
        yield waiting
        jobs = GaugeMetricFamily("openmeadow_jobs", "Jobs that wait or run.", labels=["state"])
        for state, n in settings.open_jobs(db).items():
            jobs.add_metric([state], n)
        yield jobs
        yield GaugeMetricFamily("openmeadow_subscribers", "Subscribers that exist.", value=subscribers.count(db))
