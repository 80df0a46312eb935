"""Reading outside mail in a process of its own: it can neither stall sending nor take more than its time and memory."""

from __future__ import annotations

import contextlib
import resource
import threading
from functools import cache

from openmeadow.core.reports.incoming import Incoming, parse
from openmeadow.core.reports.limits import INTAKE_UNPACKED, PARSE_MEMORY, PARSE_SECONDS
from openmeadow.core.reports.mail import Unreadable
from openmeadow.net.helper_process import Ended, HelperProcess, TookTooLong


@cache
def _limit_memory() -> None:
    with contextlib.suppress(OSError, ValueError):
        resource.setrlimit(resource.RLIMIT_AS, (PARSE_MEMORY, PARSE_MEMORY))


def _read(raw: bytes) -> Incoming | str:
    """What a message says, or why it cannot be read. Run in the process of its own."""
    _limit_memory()
    try:
        return parse(raw, INTAKE_UNPACKED)
    except Unreadable as e:
        return str(e)
    except MemoryError:
        return "Reading the message took too much memory."


class ParserProcess:
    """One process, started when it is first needed and again after one that took too long."""

    def __init__(self, seconds: float = PARSE_SECONDS) -> None:
        self._seconds, self._guard = seconds, threading.Lock()
        self._process = HelperProcess(_read, "mail parser")

    def parse(self, raw: bytes) -> Incoming:
        """As ``core.reports.incoming.parse``; ``Unreadable`` also where it took too long or the process died."""
        with self._guard:
            try:
                answer = self._process.ask(raw, self._seconds)
            except TookTooLong as e:
                raise Unreadable(f"Reading the message took longer than {self._seconds:g} s.") from e
            except Ended as e:
                raise Unreadable("Reading the message ended its process.") from e
        if isinstance(answer, str):
            raise Unreadable(answer)
        assert isinstance(answer, Incoming)
        return answer

    def close(self) -> None:
        """End the process."""
        with self._guard:
            self._process.end()
