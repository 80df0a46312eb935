"""A process of our own at the other end of a pipe, for what must not hold this one up."""

from __future__ import annotations

import contextlib
import multiprocessing
import os
import signal
from collections.abc import Callable
from multiprocessing.connection import Connection


class Ended(Exception):
    """The process ended before it answered."""


class TookTooLong(Exception):
    """The process did not answer in time, and was ended."""


def _run(conn: Connection, serve: Callable[[bytes], object], lower: int) -> None:
    """Answers what it is given until the other side is gone."""
    with contextlib.suppress(OSError):  # a service's limits may not allow it
        os.nice(lower)
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # a terminal tells all of them; the other side says when it ends
    while True:
        try:
            conn.send(serve(conn.recv_bytes()))
        except (EOFError, OSError):
            return


class HelperProcess:
    """One process, started when it is first asked and again after it ended. ``serve`` is a function of a module, which
    answers bytes with anything that can be pickled. One request at a time. ``lower`` is by how much its priority is lower
    than this one's (nice)."""

    def __init__(self, serve: Callable[[bytes], object], name: str, lower: int = 0) -> None:
        self._serve, self._name, self._lower = serve, name, lower
        self._context = multiprocessing.get_context("spawn")
        self._process: multiprocessing.process.BaseProcess | None = None
        self._conn: Connection | None = None

    @property
    def pid(self) -> int:
        """The process's number, 0 while none runs."""
        return (self._process.pid or 0) if self._process is not None else 0

    def start(self) -> None:
        """Start it where it does not run. The process is ready when it answers."""
        if self._conn is None or self._process is None or not self._process.is_alive():
            self.end()
            ours, theirs = self._context.Pipe()
            given = theirs, self._serve, self._lower
            process = self._context.Process(target=_run, args=given, name=self._name, daemon=True)
            process.start()
            theirs.close()
            self._process, self._conn = process, ours

    def ask(self, request: bytes, seconds: float | None = None) -> object:
        """Its answer. Raises ``Ended``, or ``TookTooLong`` after some seconds (None waits)."""
        try:
            self.start()
            assert self._conn is not None
            self._conn.send_bytes(request)
            if not self._conn.poll(seconds):
                self.end()
                raise TookTooLong
            return self._conn.recv()
        except (EOFError, OSError) as e:
            self.end()
            raise Ended from e

    def kill(self) -> None:
        """Kill the process, while another thread waits for its answer, which is ``Ended`` then."""
        process = self._process  # the other thread may be ending it
        if process is not None:
            with contextlib.suppress(OSError, ValueError):
                process.kill()

    def end(self) -> None:
        """End the process."""
        if self._process is not None:
            self.kill()
            self._process.join(timeout=5)
        if self._conn is not None:
            self._conn.close()
        self._process = self._conn = None
