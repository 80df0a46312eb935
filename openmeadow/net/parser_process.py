"""Reading outside mail in a process of its own: it can neither stall sending nor take more than its time and memory."""

from __future__ import annotations

import contextlib
import multiprocessing
import threading
from multiprocessing.connection import Connection

from openmeadow.core.reports.incoming import Incoming, parse
from openmeadow.core.reports.limits import INTAKE_UNPACKED, PARSE_MEMORY, PARSE_SECONDS
from openmeadow.core.reports.mail import Unreadable


def _serve(conn: Connection) -> None:
    """Reads what it is given until the other side is gone."""
    import resource

    with contextlib.suppress(OSError, ValueError):
        resource.setrlimit(resource.RLIMIT_AS, (PARSE_MEMORY, PARSE_MEMORY))
    while True:
        try:
            raw = conn.recv_bytes()
        except (EOFError, OSError):
            return
        answer: Incoming | str
        try:
            answer = parse(raw, INTAKE_UNPACKED)
        except Unreadable as e:
            answer = str(e)
        except MemoryError:
            answer = "Reading the message took too much memory."
        conn.send(answer)


class ParserProcess:
    """One process, started when it is first needed and again after one that took too long."""

    def __init__(self, seconds: float = PARSE_SECONDS) -> None:
        self._seconds, self._guard = seconds, threading.Lock()
        self._context = multiprocessing.get_context("spawn")
        self._process: multiprocessing.process.BaseProcess | None = None
        self._conn: Connection | None = None

    def parse(self, raw: bytes) -> Incoming:
        """As ``core.reports.incoming.parse``; ``Unreadable`` also where it took too long or the process died."""
        with self._guard:
            conn = self._started()
            try:
                conn.send_bytes(raw)
                if not conn.poll(self._seconds):
                    self._end()
                    raise Unreadable(f"Reading the message took longer than {self._seconds:g} s.")
                answer = conn.recv()
            except (EOFError, OSError) as e:
                self._end()
                raise Unreadable("Reading the message ended its process.") from e
        if isinstance(answer, str):
            raise Unreadable(answer)
        assert isinstance(answer, Incoming)
        return answer

    def _started(self) -> Connection:
        if self._conn is None or self._process is None or not self._process.is_alive():
            ours, theirs = self._context.Pipe()
            self._process = self._context.Process(target=_serve, args=(theirs,), name="mail parser", daemon=True)
            self._process.start()
            theirs.close()
            self._conn = ours
        return self._conn

    def _end(self) -> None:
        if self._process is not None:
            self._process.kill()
            self._process.join(timeout=5)
        if self._conn is not None:
            self._conn.close()
        self._process = self._conn = None

    def close(self) -> None:
        """End the process."""
        with self._guard:
            self._end()
