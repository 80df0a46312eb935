"""A copy of the database as it was before an upgrade: made by default, kept for some days, removed by itself."""

from __future__ import annotations

import os
import shutil
import sqlite3
import time
from pathlib import Path

from openmeadow.core.errors import NoSpace
from openmeadow.core.moments import DAY

FOLDER = "before-upgrade"
KEPT = 14 * DAY  # seconds; what was erased meanwhile is still in it, so no longer than that
WITHOUT = "MEADOW_UPGRADE_WITHOUT_COPY"  # of the environment: "1" leaves the copy out


def make(source: sqlite3.Connection, folder: Path, last: str, size: int) -> Path | None:
    """Copy the database whose last migration is ``last``; None where it is not wished. NoSpace where ``size`` bytes are
    not free. It appears only when it is whole."""
    if os.environ.get(WITHOUT) == "1":
        return None
    place = folder / FOLDER
    free = shutil.disk_usage(folder).free
    if free < size * 11 // 10:
        raise NoSpace(
            f"The upgrade copies the database first, which takes {size / 1e9:.1f} GB; {free / 1e9:.1f} GB are free. Make room, "
            f"or set {WITHOUT}=1 if you have a backup."
        )
    place.mkdir(mode=0o700, exist_ok=True)
    kept, fresh = place / f"{last.removesuffix('.sql')}.db", place / f"new.{os.getpid()}"
    fresh.unlink(missing_ok=True)
    os.close(os.open(fresh, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600))
    target = sqlite3.connect(fresh)
    try:
        source.backup(target)
        target.execute("PRAGMA journal_mode = DELETE")
        found = target.execute("SELECT max(name) FROM migrations").fetchone()[0]
    finally:
        target.close()
    if found != last:  # another process has upgraded it meanwhile, after a copy of its own
        fresh.unlink()
        return None
    fresh.replace(kept)
    return kept


def remove_old(folder: Path) -> int:
    """Remove copies that have been kept long enough; how many."""
    old = [p for p in (folder / FOLDER).glob("*") if p.stat().st_mtime < time.time() - KEPT]
    for path in old:
        path.unlink(missing_ok=True)
    return len(old)
