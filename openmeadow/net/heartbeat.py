"""Whether the other process lives: each touches a file of its own every few seconds, by the machine's clock."""

from __future__ import annotations

import contextlib
import os
import threading
import time
from pathlib import Path

WORKER = "worker.beat"
EVERY, MISSED_AFTER = 5.0, 60.0  # seconds


class Heart:
    """Touches its file until stopped. A full disk does not stop it: touching writes no block."""

    def __init__(self, folder: Path, name: str) -> None:
        self._path = folder / name
        self._stop = threading.Event()
        self._beat()
        self._thread = threading.Thread(target=self._go_on, name="heartbeat", daemon=True)
        self._thread.start()

    def _beat(self) -> None:
        with contextlib.suppress(OSError):
            self._path.touch()
            os.utime(self._path)

    def _go_on(self) -> None:
        while not self._stop.wait(EVERY):
            self._beat()

    def stop(self) -> None:
        """No more signs of life."""
        self._stop.set()
        self._thread.join(timeout=1)


def last_beat(folder: Path, name: str) -> float | None:
    """When a process last reported (UTC seconds of the machine's clock), None for never."""
    try:
        return (folder / name).stat().st_mtime
    except OSError:
        return None


def missing_since(folder: Path, name: str, now: float | None = None) -> float | None:
    """Since when a process has not reported, where that is longer than a minute; 0.0 where it never has."""
    beat = last_beat(folder, name)
    if beat is None:
        return 0.0
    return beat if (time.time() if now is None else now) - beat > MISSED_AFTER else None
