"""Opens and clicks on their way into the database: lines in a file of this process, so that an answer need not wait for
another writer, and a process that dies loses none."""

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


class _Own:
    """The file of one thread, so that threads do not wait for each other."""

    def __init__(self) -> None:
        self.guard = threading.Lock()
        self.handle = -1

    def close(self) -> None:
        with self.guard:
            if self.handle >= 0:
                os.close(self.handle)
                self.handle = -1


class ArrivalLog:
    """Appends lines to files that only this process writes; their locks tell others that the process lives."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder / FOLDER
        self._guard = threading.Lock()
        self._here = threading.local()
        self._all: list[_Own] = []
        self._n = 0

    def append(self, arrival: Arrival) -> None:
        """Keep one; OSError where the disk has no room."""
        line = json.dumps(arrival, ensure_ascii=True).encode() + b"\n"
        own: _Own | None = getattr(self._here, "own", None)
        if own is None:
            own = self._here.own = _Own()
            with self._guard:
                self._all.append(own)
        with own.guard:
            if own.handle < 0:
                self._begin(own)
            if os.write(own.handle, line) != len(line):
                raise OSError("no room for the whole line")

    def _begin(self, own: _Own) -> None:
        self._folder.mkdir(mode=0o700, exist_ok=True)
        with self._guard:
            self._n += 1
            path = self._folder / f"{os.getpid()}-{self._n}.new"
        own.handle = os.open(path, os.O_WRONLY | os.O_APPEND | os.O_CREAT, 0o600)
        fcntl.flock(own.handle, fcntl.LOCK_EX)
        path.rename(path.with_suffix(".jsonl"))  # seen by others only when it is locked

    def rotate(self) -> None:
        """Close the files so far; later lines go to others."""
        with self._guard:
            files = list(self._all)
        for own in files:  # one who begins a file holds it and asks for a number
            own.close()

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
    """The lines of a file, so many at a time; one that was cut off by the end of its process is left out."""
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
