"""The columns on disk beside the database: memory-mapped, disposable, rebuilt when unconfirmed."""

from __future__ import annotations

import contextlib
import hashlib
import json
import mmap
import os
import shutil
import sqlite3
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, fields
from pathlib import Path
from typing import TypeVar

import numpy as np

from openmeadow.core.arrays import Array, narrow
from openmeadow.core.columns import Acts, Columns, Rows, Troubles
from openmeadow.core.columns import People as PeopleColumns
from openmeadow.core.rules.activity_index import Stream, Streams, arranged
from openmeadow.store.engagement.columns import AllPeople
from openmeadow.store.rows import SqlValue
from openmeadow.store.undo_log import events_version

T = TypeVar("T", PeopleColumns, Rows, Acts, Stream, Troubles)
FOLDER, WHOLE, SOUND = "columns", "whole.json", "sound.json"
MANY = 2_000_000  # deliveries from which on a stream is not kept once it is written
THREADS = 2  # that arrange streams
FORM = 8  # of the files; another number is another form
_EVERYBODY = ("erased", "provider")
MESSAGES = "message"  # the column of numbers of messages: few enough for two bytes nearly everywhere
WORTH = ("acts", "value")  # a column that is nearly always 0: kept as the places where it is not, and what stands there


@dataclass(frozen=True)
class Mirror:
    """What was on disk: columns with their arranged streams, what went wrong, and the people at one version of their
    table."""

    columns: Columns
    streams: Streams
    troubles: Troubles
    seen: int
    everybody: AllPeople


def _mark(db: sqlite3.Connection, seen: int, machines: str) -> list[SqlValue]:
    """The highest event seen as the database has it, how often events were taken away, and the list of machines:
    another database, or another reading of it, is noticed."""
    row = db.execute("SELECT at, kind, subscriber, message FROM events WHERE id = ?", (seen,)).fetchone()
    return [FORM, events_version(db), machines, *(list(row) if row else [])]


def save(folder: Path, db: sqlite3.Connection, mirror: Mirror, machines: str) -> None:
    """Write the mirror anew; one that was being written when the machine stopped is never taken for whole."""
    fresh, final = folder / f"{FOLDER}.{os.getpid()}", folder / FOLDER
    shutil.rmtree(fresh, ignore_errors=True)
    try:
        fresh.mkdir(parents=True)
        _write(fresh, db, mirror, machines)
        shutil.rmtree(final, ignore_errors=True)
        fresh.rename(final)
    finally:
        shutil.rmtree(fresh, ignore_errors=True)


def _write(fresh: Path, db: sqlite3.Connection, mirror: Mirror, machines: str) -> None:
    columns, everybody = mirror.columns, mirror.everybody
    tables: dict[str, PeopleColumns | Rows | Acts | Stream | Troubles] = {
        "people": everybody.people,
        "rows": columns.rows,
        "acts": columns.acts,
        "troubles": mirror.troubles,
    }

    def put(name: str, table: PeopleColumns | Rows | Acts | Stream | Troubles) -> None:
        for f in fields(table):
            if (name, f.name) != WORTH:
                values = getattr(table, f.name)
                np.save(fresh / f"{name}.{f.name}.npy", narrow(values) if f.name == MESSAGES else values)

    def save_stream(name: str) -> None:
        many = name not in mirror.streams.made and len(columns.rows) > MANY
        put(f"stream.{name}", arranged(columns, name) if many else mirror.streams.stream(name))

    for name, table in tables.items():
        put(name, table)
    with ThreadPoolExecutor(THREADS) as pool:
        list(pool.map(save_stream, Streams.NAMES))
    valued = np.flatnonzero(columns.acts.value)
    np.save(fresh / "worth.place.npy", valued)
    np.save(fresh / "worth.value.npy", columns.acts.value[valued])
    for name in _EVERYBODY:
        np.save(fresh / f"people.{name}.npy", getattr(everybody, name))
    np.save(fresh / "start.npy", columns.start)
    about = {
        "seen": mirror.seen,
        "people": everybody.version,
        "mark": _mark(db, mirror.seen, machines),
        "digests": _digests(fresh),
    }
    (fresh / WHOLE).write_text(json.dumps(about))


def _digest(path: Path) -> str:
    with path.open("rb") as f:
        return hashlib.file_digest(f, "blake2b").hexdigest()[:32]


def _digests(folder: Path) -> dict[str, str]:
    """The digest of each file of columns: a damaged one is never believed."""
    files = sorted(folder.glob("*.npy"))
    with ThreadPoolExecutor(os.cpu_count() or 1) as pool:
        return dict(zip((f.name for f in files), pool.map(_digest, files), strict=True))


def _is_sound(folder: Path, digests: dict[str, str]) -> bool:
    """Whether the files are those that were written. Found so once, they are taken for that until one of them or the
    machine's start is another: going through gigabytes costs more than using them."""
    now = {name: _looks(folder / name) for name in digests}
    here = Path("/proc/sys/kernel/random/boot_id")
    look = [here.read_text().strip() if here.exists() else None, now]
    with contextlib.suppress(OSError, ValueError):
        if look[0] and json.loads((folder / SOUND).read_text()) == look:
            return True
    if digests != _digests(folder):
        return False
    with contextlib.suppress(OSError):
        fresh = folder / f"{SOUND}.{os.getpid()}"
        fresh.write_text(json.dumps(look))
        fresh.replace(folder / SOUND)
    return True


def _looks(path: Path) -> list[int]:
    found = path.stat()
    return [found.st_ino, found.st_size, found.st_mtime_ns, found.st_ctime_ns]


def remove(folder: Path) -> None:
    """Forget the mirror: columns are made from the database next."""
    shutil.rmtree(folder / FOLDER, ignore_errors=True)


def sweep(folder: Path) -> None:
    """Remove what a process that is gone left half written."""
    for left in folder.glob(f"{FOLDER}.*"):
        pid = left.name.partition(".")[2]
        if pid.isdigit() and int(pid) != os.getpid() and not _lives(int(pid)):
            shutil.rmtree(left, ignore_errors=True)


def _lives(pid: int) -> bool:
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    return True


def load(folder: Path, db: sqlite3.Connection, machines: str) -> Mirror | None:
    """The mirror; None when there is none or it is not of this database and this list of machines."""
    final = folder / FOLDER
    try:
        whole = json.loads((final / WHOLE).read_text())
        seen = int(whole["seen"])
        if whole["mark"] != _mark(db, seen, machines) or not _is_sound(final, whole["digests"]):
            return None

        def one(name: str) -> Array:
            found: Array = np.load(final / f"{name}.npy", mmap_mode="r")
            return found

        def table(name: str, kind: type[T]) -> T:
            parts = {f.name: one(f"{name}.{f.name}") for f in fields(kind) if (name, f.name) != WORTH}
            if name == WORTH[0]:
                parts[WORTH[1]] = np.zeros(len(parts["at"]))
                parts[WORTH[1]][one("worth.place")] = one("worth.value")
            return kind(**parts)

        columns = Columns(table("people", PeopleColumns), table("rows", Rows), table("acts", Acts), one("start"))
        made = {name: table(f"stream.{name}", Stream) for name in Streams.NAMES}
        erased, provider = (one(f"people.{name}") for name in _EVERYBODY)
        everybody = AllPeople(columns.people, erased, provider, int(whole["people"]))
        return Mirror(columns, Streams(columns, made), table("troubles", Troubles), seen, everybody)
    except (OSError, ValueError, KeyError):
        return None


def let_go(table: Rows | Acts) -> None:
    """The memory of columns that are mapped from a file, until they are looked at again."""
    for f in fields(table):
        mapped = getattr(getattr(table, f.name), "_mmap", None)
        if mapped is not None:
            mapped.madvise(mmap.MADV_DONTNEED)
