"""Erased people: only a keyed hash of the address stays, so that they do not come back by accident."""

from __future__ import annotations

import hashlib
import sqlite3

from openmeadow.core.errors import Missing, Refused
from openmeadow.desk.desk import Desk
from openmeadow.store import deeds, erasure, ledger, subscribers


def hashed(key: str, email_key: str) -> str:
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


def erase(desk: Desk, subscriber: int, who: str) -> None:
    """Erase a person for good. Refused while a message is just being handed over to them."""
    row = subscribers.subscriber(desk.store.read(), subscriber)
    if row is None:
        raise Missing("There is no such subscriber.")
    if row["erased_at"]:
        raise Refused("This person is erased already.")
    if ledger.handing_over(desk.store.read(), subscriber):
        raise Refused("A message to this person is being handed over just now; erase them once that is settled.")
    now = desk.now()
    with desk.store.atomic() as db:
        hash = hashed(erasure.make_key(db), row["email_key"])
        erasure.erase(db, subscriber, row["email_key"], hash, now)
        deeds.begin(db, now, who, "erased", f"subscriber {subscriber}", 1, None)
