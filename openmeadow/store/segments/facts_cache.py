"""Answers about everybody, kept between views and processes."""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import shutil
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

WORTH_KEEPING = 50_000  # people; answers about fewer are quicker asked again than read from disk


def _digest(path: Path) -> str:
    """Of a file: a damaged one is never believed."""
    with path.open("rb") as f:
        return hashlib.file_digest(f, "blake2b").hexdigest()[:32]


@dataclass
class Kept:
    """Answers about everybody, kept while ``version`` of the store stands and their moment has not passed.

    Those about many people are also kept in ``folder``, disposable like the columns' mirror, so that the next
    process need not ask again.
    """

    folder: Path | None = None
    version: int = -1
    answers: dict[tuple[object, ...], tuple[int, int, np.ndarray]] = field(default_factory=dict)

    def forget(self) -> None:
        """Everything is asked again."""
        self.answers.clear()
        if self.folder is not None:
            shutil.rmtree(self.folder, ignore_errors=True)

    def at(self, version: int) -> None:
        """What was kept of another version is forgotten."""
        if self.version != version:
            self.version = version
            self.answers.clear()

    def _file(self, key: tuple[object, ...]) -> Path | None:
        name = hashlib.sha256(repr(key).encode()).hexdigest()[:24]
        return None if self.folder is None else self.folder / f"{name}.npy"

    def get(self, key: tuple[object, ...], now: int, people: int) -> np.ndarray | None:
        """A kept answer about so many people that holds now, or None."""
        found = self.answers.get(key)
        if found is None and people >= WORTH_KEEPING and (path := self._file(key)) is not None:
            try:
                said = json.loads(path.with_suffix(".json").read_text())
                if said["version"] == self.version and said["digest"] == _digest(path):
                    found = self.answers[key] = (said["since"], said["until"], np.load(path, mmap_mode="r"))
            except (OSError, ValueError, KeyError):
                pass
        return found[2] if found and found[0] <= now < found[1] else None

    def put(self, key: tuple[object, ...], since: int, until: int, people: int, answer: np.ndarray) -> None:
        """Keep an answer about so many people that holds between two moments."""
        self.answers[key] = (since, until, answer)
        path = self._file(key)
        if people < WORTH_KEEPING or path is None:
            return
        with contextlib.suppress(OSError):
            path.parent.mkdir(exist_ok=True)
            path.with_suffix(".json").unlink(missing_ok=True)
            fresh = path.with_suffix(f".{os.getpid()}.new.npy")
            np.save(fresh, answer)
            fresh.replace(path)
            about = {"version": self.version, "since": since, "until": until, "digest": _digest(path)}
            path.with_suffix(".json").write_text(json.dumps(about))
