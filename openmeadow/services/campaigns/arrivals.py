"""Opens and clicks: written at once where nobody else writes, else kept in a file and written some at a time."""

from __future__ import annotations

import sqlite3
import threading
import time
from collections import Counter
from contextlib import suppress
from functools import partial
from pathlib import Path

import structlog

from openmeadow.core.errors import Passing
from openmeadow.net.arrival_log import Arrival, ArrivalLog, read
from openmeadow.services.workspace import Workspace
from openmeadow.store.campaigns import deliveries
from openmeadow.store.engagement import events

log = structlog.get_logger()
MOST_EVENTS = 200  # kept of one message to one person
PAUSE, LONGEST_PAUSE = 0.25, 10.0  # seconds between two writes while many come, and while the database is busy
CROWDED = 1.0  # seconds for which everything goes through the file after two came at once or somebody else wrote
AT_ONCE = 1_000  # in one transaction


class Arrivals:
    """One for each open workspace (``workspace.part(Arrivals)``)."""

    def __init__(self, workspace: Workspace) -> None:
        self._workspace = workspace
        self._log = ArrivalLog(workspace.folder)
        self._is_waiting = threading.Event()
        self._crowded_until = 0.0
        self._alone = threading.Lock()
        self._writer: threading.Thread | None = None
        self._one_writer = threading.Lock()
        if not self._log.is_empty():  # left by a process that died
            self._is_waiting.set()
            self._begin()

    @property
    def are_many(self) -> bool:
        """Whether they come so quickly that they go into the file: taking one waits for no other writer."""
        return time.monotonic() < self._crowded_until

    def take(self, arrival: Arrival) -> None:
        """Keep one open or click. Never fails: the image is shown and the reader comes to the link in any case."""
        if not self.are_many and self._alone.acquire(blocking=False):
            try:
                if self._workspace.store.if_free(partial(write, some=[arrival])):
                    return
            finally:
                self._alone.release()
        self._crowded_until = time.monotonic() + CROWDED
        with suppress(OSError):
            self._log.append(arrival)
            self._is_waiting.set()
            self._begin()

    def _begin(self) -> None:
        if self._writer is None or not self._writer.is_alive():
            with self._one_writer:
                if self._writer is None or not self._writer.is_alive():
                    self._writer = threading.Thread(target=self._run, name="arrivals", daemon=True)
                    self._writer.start()

    def _run(self) -> None:
        pause = PAUSE
        while True:
            self._is_waiting.wait()
            time.sleep(pause)
            self._is_waiting.clear()
            try:
                self.flush()
                pause = PAUSE
            except Passing as e:
                pause = min(2 * pause, LONGEST_PAUSE)
                log.warning("opens and clicks wait", reason=str(e))
                self._is_waiting.set()
            except Exception:
                log.exception("opens and clicks wait")
                pause = LONGEST_PAUSE
                self._is_waiting.set()

    def flush(self) -> int:
        """Write what is kept in files into the database, also what a process that died has left; how many events."""
        with self._one_writer:
            self._log.rotate()
            return sum(self._written(path) for path in self._log.left())

    def _written(self, path: Path) -> int:
        """Written twice after a crash in between, an event is still taken once: it is the same to the second."""
        done = 0
        with suppress(FileNotFoundError):  # another process was quicker
            for some in read(path, AT_ONCE):
                with self._workspace.store.atomic() as db:
                    done += write(db, some)
            path.unlink()
        return done

    def settle(self, seconds: float) -> None:
        """Wait until every process has written what it keeps, at most so long."""
        self.flush()
        end = time.monotonic() + seconds
        while not self._log.is_empty() and time.monotonic() < end:
            time.sleep(PAUSE / 10)


def write(db: sqlite3.Connection, some: list[Arrival]) -> int:
    """Events out of opens and clicks; how many were new. Those of deliveries that are gone are left out, and those of a
    machine that asks on and on."""
    of = deliveries.addressed(db, sorted({a.delivery for a in some}))
    known = [(a, of[a.delivery]) for a in some if a.delivery in of]
    new = Counter(key for _, key in known)
    so_far = Counter(events.so_far(db, list(new), max(1, MOST_EVENTS - max(new.values(), default=0))))
    kept = []
    for a, key in known:
        if so_far[key] < MOST_EVENTS:
            so_far[key] += 1
            kept.append((a, key))
    if not kept:
        return 0
    agents = events.Names(db).agents([a.agent for a, _ in kept], [a.ip for a, _ in kept])
    return events.add(
        db,
        [
            (a.at, a.kind, subscriber, message, a.link, who, 0.0, None, None, None)
            for (a, (subscriber, message)), who in zip(kept, agents, strict=True)
        ],
    )


def take_left(workspace: Workspace) -> int:
    """What a process that died has left is written; how many events."""
    return workspace.part(Arrivals).flush()
