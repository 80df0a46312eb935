"""A small file that is there before it is needed: what must not be lost is kept in it while the disk is full."""

from __future__ import annotations

import fcntl
import os
import struct
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from openmeadow.core.ids import DeliveryId

NAME = "unsubscribes.spare"
_RECORD = struct.Struct(">QQ")  # delivery, moment; a record of zeros is free
RECORDS = 16_384


class SpareFile:
    """Room for records (delivery, UTC seconds), reserved on the disk when it is made."""

    def __init__(self, folder: Path) -> None:
        self._path = folder / NAME

    def reserve(self) -> None:
        """Make the file with its room, where it is not there yet."""
        size = _RECORD.size * RECORDS
        if self._path.exists() and self._path.stat().st_size == size:
            return
        fresh = self._path.with_suffix(".new")
        with fresh.open("wb") as f:
            f.write(bytes(size))  # written, and not only promised: a hole would need room later
            f.flush()
            os.fsync(f.fileno())
        fresh.chmod(0o600)
        fresh.replace(self._path)

    @contextmanager
    def _open(self) -> Iterator[int]:
        handle = os.open(self._path, os.O_RDWR)
        try:
            fcntl.flock(handle, fcntl.LOCK_EX)
            yield handle
        finally:
            os.close(handle)

    def keep(self, delivery: DeliveryId, at: int) -> bool:
        """Keep a record; on the disk when this returns True, no room for it otherwise."""
        try:
            with self._open() as handle:
                for place in range(RECORDS):
                    if os.pread(handle, _RECORD.size, place * _RECORD.size) == bytes(_RECORD.size):
                        os.pwrite(handle, _RECORD.pack(delivery, at), place * _RECORD.size)
                        os.fsync(handle)
                        return True
        except OSError:
            return False
        return False

    def records(self) -> list[tuple[int, int]]:
        """What is kept, in order."""
        try:
            with self._open() as handle:
                data = os.pread(handle, _RECORD.size * RECORDS, 0)
        except OSError:
            return []
        found = (_RECORD.unpack_from(data, i) for i in range(0, len(data) - _RECORD.size + 1, _RECORD.size))
        return [(int(d), int(at)) for d, at in found if d]

    def forget(self, records: list[tuple[int, int]]) -> None:
        """These have been taken in."""
        gone = {_RECORD.pack(*r) for r in records}
        with self._open() as handle:
            for place in range(RECORDS):
                if os.pread(handle, _RECORD.size, place * _RECORD.size) in gone:
                    os.pwrite(handle, bytes(_RECORD.size), place * _RECORD.size)
            os.fsync(handle)
