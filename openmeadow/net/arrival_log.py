"""Opens and clicks on their way into the database: lines in a file of this process, so that an answer need not wait for
whoever writes just now, and a process that dies loses none."""

from __future__ import annotations

import contextlib
import fcntl
import json
import os
import threading
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

FOLDER = "arrivals"


class Arrival(NamedTuple):
    """One open or click: UTC second, kind of event, delivery, link (0 for none), agent and network address."""

    at: int
    kind: int
    delivery: int
    link: int
    agent: str
    ip: str


class ArrivalLog:
    """Appends lines to a file that only this process writes; its lock tells others that the process lives."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder / FOLDER
        self._guard = threading.Lock()
        self._handle = -1
        self._path = Path()
        self._n = 0

    def append(self, arrival: Arrival) -> None:
        """Keep one; OSError where the disk has no room."""
        line = json.dumps(arrival, ensure_ascii=True).encode() + b"\n"
        with self._guard:
            if self._handle < 0:
                self._begin()
            if os.write(self._handle, line) != len(line):
                raise OSError("no room for the whole line")

    def _begin(self) -> None:
        self._folder.mkdir(mode=0o700, exist_ok=True)
        self._n += 1
        self._path = self._folder / f"{os.getpid()}-{self._n}.jsonl"
        self._handle = os.open(self._path, os.O_WRONLY | os.O_APPEND | os.O_CREAT, 0o600)
        fcntl.flock(self._handle, fcntl.LOCK_EX)

    def rotate(self) -> Path | None:
        """The file so far, closed for this process; later lines go to another. None where there is nothing."""
        with self._guard:
            if self._handle < 0:
                return None
            os.close(self._handle)
            self._handle = -1
            return self._path

    def is_empty(self) -> bool:
        """Whether no process keeps anything."""
        return next(self._folder.glob("*.jsonl"), None) is None

    def left(self) -> list[Path]:
        """Files that no living process writes any more, oldest first."""
        found = []
        for path in self._folder.glob("*.jsonl"):
            with contextlib.suppress(OSError), path.open("rb") as f:  # another may have taken it meanwhile
                fcntl.flock(f, fcntl.LOCK_EX | fcntl.LOCK_NB)
                found.append((os.fstat(f.fileno()).st_mtime, path))
        return [path for _, path in sorted(found)]


def read(path: Path, at_once: int) -> Iterator[list[Arrival]]:
    """The lines of a file, so many at a time; one that was cut off by the end of its process is passed over."""
    some: list[Arrival] = []
    with path.open("rb") as f:
        for line in f:
            try:
                at, kind, delivery, link, agent, ip = json.loads(line)
                some.append(Arrival(int(at), int(kind), int(delivery), int(link), str(agent), str(ip)))
            except (ValueError, TypeError):
                continue
            if len(some) >= at_once:
                yield some
                some = []
    if some:
        yield some
