"""Consent as evidence: entries that are never altered, each carrying the hash of the one before.

The hash of an entry covers what it says and the hash before it, keyed with the workspace's own key, so that nobody who
can only write to the database can change, drop or slip in an entry unnoticed. Words that may have to be erased (source,
wording, reason) are covered by their digest, which stays.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from functools import lru_cache
from typing import NamedTuple

START = "0" * 64
SOURCES = ("import", "form", "confirmation link", "preference page", "unsubscribe", "by hand")


class Entry(NamedTuple):
    """One change of consent. ``at`` in UTC seconds; ``said`` is ``digest`` of its words; ``before`` the hash of the
    entry before it."""

    subscriber: int
    purpose: int
    channel: str
    state: int
    at: int
    method: str
    said: str
    before: str


class Broken(NamedTuple):
    """Where a chain does not hold: the number of the entry (from 1) and what is wrong there."""

    number: int
    what: str


@lru_cache(maxsize=4096)
def digest(*words: str | None) -> str:
    """One hash for the words of an entry; None and "" differ."""
    text = "\x1e".join("\x00" if w is None else w for w in words)
    return hashlib.sha256(text.encode("utf-8", "surrogateescape")).hexdigest()


def text_hash(text: str) -> str:
    """The hash by which an entry knows the text of a wording."""
    return hashlib.sha256(text.encode("utf-8", "surrogateescape")).hexdigest()


class Shown(NamedTuple):
    """What somebody was shown when they said yes: a wording by its id and the hash of its text, by a form, on a page."""

    wording_id: int | None = None
    wording_hash: str | None = None
    form: int | None = None
    page: str | None = None


def said_digest(source: str | None, wording: str | None, reason: str | None, shown: Shown) -> str:
    """The digest of an entry's words. Entries of before what was shown was kept are covered as they were."""
    if shown == Shown():
        return digest(source, wording, reason)
    return digest(source, wording, reason, *(None if s is None else str(s) for s in shown))


def sealed(key: bytes, e: Entry) -> str:
    """The keyed hash of an entry (BLAKE2b with a key, RFC 7693): what the next one carries."""
    text = f"{e.before}\x1f{e.subscriber}\x1f{e.purpose}\x1f{e.channel}\x1f{e.state}\x1f{e.at}\x1f{e.method}\x1f{e.said}"
    return hashlib.blake2b(text.encode(), key=key, digest_size=32).hexdigest()


def verify(key: bytes, entries: Iterator[tuple[Entry, str | None]], head: str, count: int) -> tuple[int, Broken | None]:
    """Goes through a chain in its order. Each entry comes with the digest of its words as they stand (None where they
    were erased); ``head`` and ``count`` are what the chain is said to end with. How many entries, and the first break.
    """
    before, n = START, 0
    for n, (entry, words) in enumerate(entries, start=1):
        if entry.before != before:
            return n, Broken(n, "the previous entry was changed, removed or inserted")
        if words is not None and words != entry.said:
            return n, Broken(n, "its source, wording or reason was changed")
        before = sealed(key, entry)
    if n != count:
        return n, Broken(n + 1, f"there are {n:,} entries where {count:,} were written")
    if before != head:
        return n, Broken(n, "the last entry was changed")
    return n, None
