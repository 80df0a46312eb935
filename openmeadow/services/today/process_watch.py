"""Who watches the processes: what a watching machine is told, and the alert of the one that serves."""

from __future__ import annotations

import contextlib
import sqlite3
import threading
import time
from dataclasses import dataclass

import structlog

from openmeadow.core.errors import MeadowError
from openmeadow.net import heartbeat
from openmeadow.services.senders import relay
from openmeadow.services.today import alerts
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings

log = structlog.get_logger()
LOOK_EVERY = 15.0  # seconds


def worker_silent(workspace: Workspace) -> int | None:
    """Seconds since the worker last reported, where that is over a minute; -1 where it never did; else None."""
    since = heartbeat.missing_since(workspace.folder, heartbeat.WORKER)
    return None if since is None else int(time.time() - since) if since else -1


@dataclass(frozen=True)
class Readiness:
    """``problems`` are sentences, one for each part that is not ready."""

    database: str
    worker: str
    relay: str
    problems: tuple[str, ...]

    @property
    def is_ready(self) -> bool:
        """Whether nothing is in the way."""
        return not self.problems


def readiness(workspace: Workspace) -> Readiness:
    """Whether the database answers, the worker reports and the relay takes mail."""
    problems = []
    try:
        settings.answers(workspace.store.read())
        database = "pass"
    except (sqlite3.Error, MeadowError) as e:
        database = "fail"
        problems.append(f"The database does not respond: {e}.")
    silent = worker_silent(workspace)
    if silent is not None:
        problems.append(silence(silent))
    gone = relay.away(workspace) if database == "pass" else None
    if gone is not None:
        problems.append(gone.meaning)
    return Readiness(database, "fail" if silent is not None else "pass", "fail" if gone else "pass", tuple(problems))


def silence(seconds: int) -> str:
    """What it means that the worker has not reported."""
    if seconds < 0:
        return "No worker has run yet, so nothing is sent and no jobs run. Start meadow worker."
    return (
        f"The worker has not reported for {max(1, seconds // 60)} min, so nothing is sent and no jobs run. "
        "Check whether meadow worker is running."
    )


class Watch:
    """Looks at the worker's heartbeat from another process and sends one alert for each silence."""

    def __init__(self, workspace: Workspace) -> None:
        self.workspace, self._told, self._stop = workspace, False, threading.Event()
        self._thread = threading.Thread(target=self._go_on, name="watch", daemon=True)
        self._thread.start()

    def _go_on(self) -> None:
        while not self._stop.wait(LOOK_EVERY):
            try:
                self.look()
            except Exception:
                log.exception("the watch over the worker failed")

    def look(self) -> None:
        """Alert once where the worker does not report; again only after it has reported in between."""
        silent = worker_silent(self.workspace)
        if silent is None or silent < 0:
            self._told = False
        elif not self._told:
            self._told = True
            log.warning("the worker does not report", seconds=silent)
            with contextlib.suppress(MeadowError):
                alerts.send(self.workspace, silence(silent), f"{self.workspace.setting('public_url')}/today")

    def stop(self) -> None:
        """No more looks."""
        self._stop.set()
