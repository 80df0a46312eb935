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

FILE, IMPORTS = "writers.lock", "imports.lock"
POLL = 0.002  # seconds between two tries for the write lock


@contextmanager
def _held(path: Path) -> Iterator[None]:
    """A lock file that several hold together; it is released by the system where a process is killed."""
    with ExitStack() as ends:
        with suppress(OSError):  # no room for the file: others do not see it, and one goes on all the same
            handle = os.open(path, os.O_RDWR | os.O_CREAT, 0o600)
            ends.callback(os.close, handle)
            fcntl.flock(handle, fcntl.LOCK_SH)
        yield


def _is_held(path: Path) -> bool:
    try:
        handle = os.open(path, os.O_RDWR)
    except FileNotFoundError:
        return False
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return True
    finally:
        os.close(handle)
    return False


class WriteQueue:
    """``waiting()`` while one waits; ``give_way()`` between the parts of long work."""

    def __init__(self, folder: Path) -> None:
        self._path, self._imports = folder / FILE, folder / IMPORTS
        self._guard = threading.Lock()
        self._here = 0

    @contextmanager
    def waiting(self) -> Iterator[None]:
        """Others see that somebody waits, as long as this lasts."""
        with _held(self._path):
            with self._guard:
                self._here += 1
            try:
                yield
            finally:
                with self._guard:
                    self._here -= 1

    def is_anybody(self) -> bool:
        """Whether somebody waits, here or in another process."""
        return bool(self._here) or _is_held(self._path)

    @contextmanager
    def importing(self) -> Iterator[None]:
        """Others see that a lot is being imported, as long as this lasts."""
        with _held(self._imports):
            yield

    def is_importing(self) -> bool:
        """Whether a lot is being imported, here or in another process."""
        return _is_held(self._imports)

    def give_way(self, most: float = 1.0) -> None:
        """Wait until nobody waits, at most so many seconds."""
        end = time.monotonic() + most
        while self.is_anybody() and time.monotonic() < end:
            time.sleep(POLL)
