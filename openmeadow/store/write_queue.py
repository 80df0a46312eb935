"""Who waits to write, over all processes of a workspace, so that long work can give way: a lock file that those who wait
hold together, and a count of those who wait in this process."""

from __future__ import annotations

import fcntl
import os
import threading
import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager, suppress
from pathlib import Path

FILE = "writers.lock"
POLL = 0.002  # seconds between two tries for the write lock


class WriteQueue:
    """``waiting()`` while one waits; ``give_way()`` between the parts of long work."""

    def __init__(self, folder: Path) -> None:
        self._path = folder / FILE
        self._guard = threading.Lock()
        self._here = 0

    @contextmanager
    def waiting(self) -> Iterator[None]:
        """Others see that somebody waits, as long as this lasts."""
        with ExitStack() as ends:
            with suppress(OSError):  # no room for the file: others do not see it, and one waits all the same
                handle = os.open(self._path, os.O_RDWR | os.O_CREAT, 0o600)
                ends.callback(os.close, handle)
                fcntl.flock(handle, fcntl.LOCK_SH)
            with self._guard:
                self._here += 1
            try:
                yield
            finally:
                with self._guard:
                    self._here -= 1

    def is_anybody(self) -> bool:
        """Whether somebody waits, here or in another process."""
        if self._here:
            return True
        try:
            handle = os.open(self._path, os.O_RDWR)
        except FileNotFoundError:
            return False
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            return True
        finally:
            os.close(handle)
        return False

    def give_way(self, most: float = 1.0) -> None:
        """Wait until nobody waits, at most so many seconds."""
        end = time.monotonic() + most
        while self.is_anybody() and time.monotonic() < end:
            time.sleep(POLL)
