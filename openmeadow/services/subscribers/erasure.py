"""Erased people: only a keyed hash of the address stays, so that they do not come back by accident."""

from __future__ import annotations

import hashlib
import os
import sqlite3
from collections.abc import Iterator
from pathlib import Path
from typing import TextIO, cast

from openmeadow.core.addresses.syntax import standing_alone
from openmeadow.core.errors import Missing, Refused
from openmeadow.core.ids import SubscriberId
from openmeadow.services.workspace import Workspace
from openmeadow.store import undo_log
from openmeadow.store.campaigns import deliveries
from openmeadow.store.subscribers import erasure, subscribers


def hashed(key: str, email_key: str) -> str:
    """The keyed hash by which an erased address is known again."""
    return hashlib.blake2b(
        email_key.encode("utf-8", "surrogateescape"), key=bytes.fromhex(key), digest_size=20
    ).hexdigest()


class Erased:
    """Answers whether an address was erased; false in itself while nobody was."""

    def __init__(self, db: sqlite3.Connection) -> None:
        self._key = erasure.key(db)
        self._hashes = erasure.hashes(db) if self._key else set()

    def __bool__(self) -> bool:
        return bool(self._hashes)

    def __contains__(self, email_key: str) -> bool:
        return hashed(self._key, email_key) in self._hashes


def erase(workspace: Workspace, subscriber: SubscriberId, who: str) -> None:
    """Erase a person for good. Refused while a message is just being sent to them."""
    row = subscribers.subscriber(workspace.store.read(), subscriber)
    if row is None:
        raise Missing("This subscriber does not exist.")
    if row.erased_at:
        raise Refused("This subscriber is already erased.")
    if deliveries.handing_over(workspace.store.read(), subscriber):
        raise Refused("An email to this subscriber is being sent. Try again in a moment.")
    now, email, email_key = workspace.now(), str(row.email), str(row.email_key)
    with workspace.store.atomic() as db:
        key = erasure.make_key(db)
        had = erasure.old_hashes(db, subscriber)
        erasure.drop_aside(db, [k for k in erasure.aside(db) if had and hashed(key, k) in had])
        erasure.erase(db, subscriber, email, email_key, hashed(key, email_key), now)
        undo_log.begin(db, now, who, "erased", f"subscriber {subscriber}", 1, None)
    for folder in FILES:
        for path in (workspace.folder / folder).glob("*"):
            take_out(path, {email, email_key})
    workspace.store.checkpoint()  # what was overwritten leaves the log too


FILES = ("exports", "refused", "uploads")


def _opened(path: Path, mode: str = "r") -> TextIO:
    """A text file whose bytes come back as they were, also those that are not UTF-8."""
    return cast(TextIO, path.open(mode, encoding="utf-8", errors="surrogateescape", newline=""))


def take_out(path: Path, addresses: set[str]) -> bool:
    """Remove every row of a CSV or NDJSON file that holds one of some addresses; a file of another form that holds one
    goes as a whole. Whether it held any."""
    found = standing_alone(*addresses)
    if not path.is_file():
        return False
    with _opened(path) as lines:
        if not any(found.search(line) for line in lines):
            return False
    if path.suffix not in (".csv", ".ndjson", ".txt"):
        path.unlink()
        return True
    fresh = path.with_name(f"{path.name}.new")
    with _opened(path) as old, _opened(fresh, "w") as new:
        for record in _records(old):
            if not found.search(record):
                new.write(record)
    os.replace(fresh, path)
    return True


def _records(lines: Iterator[str]) -> Iterator[str]:
    """Lines put together to rows: one whose quote is open goes on in the next."""
    waiting = ""
    for line in lines:
        waiting += line
        if waiting.count('"') % 2 == 0:
            yield waiting
            waiting = ""
    if waiting:
        yield waiting
