"""Many messages written and signed on every core: processes beside this one, started once they are worth it."""

from __future__ import annotations

import os
import pickle
import threading
from collections.abc import Sequence
from concurrent import futures
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from typing import cast

import structlog

from openmeadow.core.message.templates import FieldMistake
from openmeadow.net.helper_process import Ended, HelperProcess, TookTooLong
from openmeadow.services.campaigns.composer import Addressee, Composer, compose

log = structlog.get_logger()
AFTER = 200  # messages that are written here before processes are started for the rest
PORTION = 10  # messages that one process is asked for at once
LONGEST = 60.0  # seconds for a portion; a process that takes longer is given up
LOWER = 5  # nice: pages, opens and the ledger come first where the cores are short
STALE = 60  # seconds after which the date that a message was written with is not its own any more


@dataclass(frozen=True, slots=True)
class Written:
    """One message: the ``place``-th of a portion that a process writes, or (None) written when it is asked for."""

    composer: Composer
    to: Addressee
    at: int
    portion: Future[list[bytes | str] | None] | None
    place: int = 0

    def message(self, now: int) -> bytes:
        """As it goes out now. Raises ``FieldMistake``."""
        written = self.portion.result() if self.portion is not None and abs(now - self.at) < STALE else None
        if written is None:
            return self.composer.message(self.to, now)
        found = written[self.place]
        if isinstance(found, str):
            raise FieldMistake(found)
        return found


class Composers:
    """``most`` processes, one for each core but the one that the ledger is written on, for all that goes out in one go.
    Where one ends before it has answered, the connection that needs the message writes it, and so from then on."""

    def __init__(self, most: int | None = None, after: int = AFTER) -> None:
        cores = len(os.sched_getaffinity(0))
        self._most = most if most is not None else cores - 1
        self._after, self._asked = after, 0
        self._threads: ThreadPoolExecutor | None = None  # one for each process
        self._own = threading.local()
        self._processes: list[HelperProcess] = []
        self._is_closing = False
        self._starting: list[Future[list[bytes | str] | None]] = []

    def written(self, composer: Composer, people: Sequence[Addressee], at: int) -> list[Written]:
        """The messages of some people, in their order. Where processes are at work they are being written when this
        returns."""
        self._asked += len(people)
        if self._asked > self._after and self._threads is None and self._most:
            self._start()
        if self._threads is None or not all(f.done() for f in self._starting):
            return [Written(composer, to, at, None) for to in people]
        packed, out = pickle.dumps(composer), list[Written]()
        for i in range(0, len(people), PORTION):
            some = people[i : i + PORTION]
            portion = self._threads.submit(self._ask, pickle.dumps((packed, some, at)))
            out += [Written(composer, to, at, portion, n) for n, to in enumerate(some)]
        return out

    def _start(self) -> None:
        self._threads = ThreadPoolExecutor(self._most, "compose")
        nothing = pickle.dumps((b"", (), 0))  # answered once it has loaded what it needs
        self._starting = [self._threads.submit(self._ask, nothing) for _ in range(self._most)]

    def wait(self) -> None:
        """Until the processes that were started are at work."""
        futures.wait(self._starting)

    def _ask(self, request: bytes) -> list[bytes | str] | None:
        """What this thread's process answers; None where there is none any more."""
        try:
            process = self._own.process
        except AttributeError:
            process = self._own.process = HelperProcess(compose, "composer", LOWER)
            self._processes.append(process)
        if process is None:
            return None
        try:
            return cast("list[bytes | str]", process.ask(request, LONGEST))
        except Exception as e:  # it may not even begin: no memory, no more processes
            if not self._is_closing:
                reason = {Ended: "it ended", TookTooLong: "it took too long"}.get(type(e), str(e))
                log.warning("messages are written without their process", reason=reason)
            self._own.process = None
            return None

    def close(self) -> None:
        """End the processes. What they were writing is written where it is needed."""
        if self._threads is not None:
            self._is_closing = True
            self._threads.shutdown(wait=False, cancel_futures=True)
            for process in self._processes:
                process.kill()
            self._threads.shutdown()
            for process in self._processes:
                process.end()
