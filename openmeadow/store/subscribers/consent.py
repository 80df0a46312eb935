"""Consent: purposes with their wordings, the chain of evidence, preferences, suppressions."""

from __future__ import annotations

import secrets
import sqlite3
from collections.abc import Iterator, Sequence
from functools import cache
from pathlib import Path
from typing import NamedTuple

from openmeadow.core.consent.eligibility import GIVEN, WITHDRAWN
from openmeadow.core.consent.evidence import START, Entry, Shown, said_digest, sealed, text_hash
from openmeadow.core.ids import PurposeId, SubscriberId
from openmeadow.core.states import DeliveryState
from openmeadow.store import bulk
from openmeadow.store.rows import SqlValue, Values
from openmeadow.store.subscribers.records import (
    AgreedWording,
    ConsentEntry,
    Purpose,
    SealedEntry,
    SuppressedPerson,
    Wording,
)
from openmeadow.store.subscribers.subscribers import facts_changed, people_changed

KEY_FILE = "consent.key"
_ENTRY = "subscriber, purpose, channel, state, at, method, said, before"
_SHOWN = "wording_id, wording_hash, form, page"


# which entry is the latest word: by its moment; of one moment, what people said themselves in the order they said it,
# before that a withdrawal over a yes over the rest
ORDER = "at * (1 << 30) + iif(method <> 'import', (1 << 29) + id, (state = 1) + 2 * (state = 2))"


# who was mailed a consent request, or may have been
ASKED = (
    "SELECT DISTINCT d.subscriber FROM deliveries d JOIN sends q ON q.id = d.send JOIN campaigns c ON c.id = q.campaign "
    f"WHERE c.kind = 'consent request' AND d.state IN ('{DeliveryState.SENDING}', '{DeliveryState.SENT}', "
    f"'{DeliveryState.FAILED}', '{DeliveryState.UNCONFIRMED}')"
)


class Claim(NamedTuple):
    """A change of consent to be written down."""

    subscriber: SubscriberId
    purpose: PurposeId
    state: int
    at: int
    channel: str = "email"
    method: str = "import"
    source: str | None = None
    wording: str | None = None
    reason: str | None = None
    list: int | None = None
    action: int | None = None
    live: bool = False  # said now, not told by a file
    shown: Shown = Shown()


@cache
def _key(folder: str) -> bytes:
    path = Path(folder) / KEY_FILE
    if not path.exists():
        path.touch(0o600)
        path.write_bytes(secrets.token_bytes(32))
    return path.read_bytes()


def key(db: sqlite3.Connection) -> bytes:
    """The workspace's key for its chain: a file beside the database, not in it."""
    where = next(r["file"] for r in db.execute("PRAGMA database_list") if r["name"] == "main")
    return _key(str(Path(where).parent))


def head(db: sqlite3.Connection) -> tuple[str, int]:
    """The hash and the number of entries the chain ends with."""
    found = {
        r["name"]: r["value"]
        for r in db.execute("SELECT * FROM settings WHERE name IN ('consent_head', 'consent_count')")
    }
    return str(found.get("consent_head", START)).strip('"'), int(found.get("consent_count", 0))


def _set_head(db: sqlite3.Connection, digest: str, count: int) -> None:
    for name, value in (("consent_head", f'"{digest}"'), ("consent_count", str(count))):
        db.execute("INSERT OR REPLACE INTO settings VALUES (?, ?)", (name, value))


def _never_older(c: Claim, latest: dict[tuple[SqlValue, ...], int]) -> list[Claim]:
    """A withdrawal that is said now also stands at the moment of what it withdraws, where that is of a clock that ran
    ahead: it holds now, and goes on to hold. One from a file keeps its date."""
    ahead = latest.get((c.subscriber, c.purpose, c.channel, GIVEN), c.at)
    return [c, c._replace(at=ahead)] if c.state == WITHDRAWN and c.live and ahead > c.at else [c]


def add(db: sqlite3.Connection, claims: Sequence[Claim]) -> int:
    """Write changes of consent; how many were new. A repeat (same person, purpose, channel, state and moment) changes
    nothing. Given again after a withdrawal marks the moment of rejoining."""
    if not claims:
        return 0
    ids = sorted({c.subscriber for c in claims})
    there: set[tuple[SqlValue, ...]] = set()
    latest: dict[tuple[SqlValue, ...], int] = {}  # of what was said here, and not told by a file: its moment
    for i in range(0, len(ids), 20_000):
        part = ids[i : i + 20_000]
        for *mark, method in db.execute(
            "SELECT subscriber, purpose, channel, state, at, method FROM consent_entries WHERE NOT void "
            f"AND subscriber IN ({','.join('?' * len(part))})",
            part,
        ):
            there.add(tuple(mark))
            if method != "import":
                about = tuple(mark[:4])
                latest[about] = max(mark[4], latest.get(about, mark[4]))
    secret, (before, count) = key(db), head(db)
    rows = []
    for c in (c for claim in claims for c in _never_older(claim, latest)):
        mark = (c.subscriber, c.purpose, c.channel, c.state, c.at)
        if mark in there:
            continue
        there.add(mark)
        entry = Entry(*mark, c.method, said_digest(c.source, c.wording, c.reason, c.shown), before)
        rows.append((*entry, c.source, c.wording, c.reason, c.list, c.action, *c.shown))
        before = sealed(secret, entry)
    if not rows:
        return 0
    db.executemany(
        f"INSERT INTO consent_entries ({_ENTRY}, source, wording, reason, list, action, {_SHOWN}) "
        f"VALUES ({','.join('?' * 17)})",
        rows,
    )
    _set_head(db, before, count + len(rows))
    facts_changed(db)
    left = {m[:3] for m in there if m[3] == 2}  # who withdrew something, and may be coming back
    given = [(r[0], r[1], r[2], r[4]) for r in rows if r[3] == 1 and (r[0], r[1], r[2]) in left] if left else []
    if given:
        changed = db.executemany(
            "UPDATE subscribers SET rejoined_at = max(coalesce(rejoined_at, 0), ?4) WHERE id = ?1 AND EXISTS ("
            " SELECT 1 FROM consent_entries c WHERE NOT c.void AND c.subscriber = ?1 AND c.purpose = ?2 "
            " AND c.channel = ?3 AND c.state = 2 AND c.at < ?4)",
            given,
        ).rowcount
        if changed > 0:
            people_changed(db)
    return len(rows)


def chain(db: sqlite3.Connection) -> Iterator[tuple[Entry, str | None]]:
    """All entries in their order, each with the digest of its words as they stand; None where they were erased."""
    for r in db.execute(
        f"SELECT {_ENTRY}, source, wording, reason, {_SHOWN}, "
        "(SELECT erased_at FROM subscribers s WHERE s.id = c.subscriber) AS gone FROM consent_entries c ORDER BY id"
    ):
        shown = Shown(r["wording_id"], r["wording_hash"], r["form"], r["page"])
        words = None if r["gone"] else said_digest(r["source"], r["wording"], r["reason"], shown)
        yield Entry(*tuple(r)[:8]), words


def has_unsealed(db: sqlite3.Connection) -> bool:
    """Whether entries of before the chain are there."""
    return db.execute("SELECT 1 FROM consent_entries WHERE before IS NULL LIMIT 1").fetchone() is not None


def seal_the_unsealed(db: sqlite3.Connection) -> None:
    """Entries of before the chain are taken into it, once, in their order."""
    if not has_unsealed(db):
        return
    secret, before, rows = key(db), START, []
    for r in db.execute(f"SELECT id, {_ENTRY}, source, wording, reason FROM consent_entries ORDER BY id").fetchall():
        said = said_digest(r["source"], r["wording"], r["reason"], Shown())
        entry = Entry(r["subscriber"], r["purpose"], r["channel"], r["state"], r["at"], r["method"], said, before)
        rows.append((entry.said, before, r["id"]))
        before = sealed(secret, entry)
    db.executemany("UPDATE consent_entries SET said = ?, before = ? WHERE id = ?", rows)
    _set_head(db, before, len(rows))


def entries(db: sqlite3.Connection, subscriber: SubscriberId | None = None) -> Iterator[SealedEntry]:
    """Entries with purpose and address in words, oldest first; of one person or of everybody."""
    where, arguments = ("WHERE c.subscriber = ?", (subscriber,)) if subscriber is not None else ("", ())
    rows = db.execute(
        "SELECT c.*, c.list AS list_id, p.name AS purpose_name, s.email, l.name AS list_name, w.text AS wording_text "
        "FROM consent_entries c "
        "LEFT JOIN wordings w ON w.id = c.wording_id "
        "JOIN purposes p ON p.id = c.purpose LEFT JOIN subscribers s ON s.id = c.subscriber "
        f"LEFT JOIN lists l ON l.id = c.list {where} ORDER BY c.id",
        arguments,
    )
    yield from map(SealedEntry.from_row, rows)


def purposes(db: sqlite3.Connection) -> list[Purpose]:
    """Every purpose with its latest wording."""
    return Purpose.read_all(
        db.execute(
            "SELECT p.*, w.id AS wording_id, w.version, w.text FROM purposes p LEFT JOIN wordings w ON w.purpose = p.id "
            "AND w.version = (SELECT max(version) FROM wordings x WHERE x.purpose = p.id) ORDER BY p.retired, p.name"
        )
    )


def purpose(db: sqlite3.Connection, row_id: int) -> Purpose | None:
    """A purpose with its present wording, or None."""
    return next((r for r in purposes(db) if r.id == row_id), None)


def set_purpose(db: sqlite3.Connection, row_id: int, values: Values) -> None:
    """Write columns of a purpose."""
    for name, value in values.items():
        if name not in ("name", "basis", "transactional", "retired"):
            raise ValueError(name)
        db.execute(f"UPDATE purposes SET {name} = ? WHERE id = ?", (value, row_id))
    facts_changed(db)


def add_wording(db: sqlite3.Connection, purpose: PurposeId, text: str, now: int) -> int:
    """The next version of a purpose's wording; what was written before is never changed. Its id."""
    row = db.execute(
        "INSERT INTO wordings (purpose, version, text, made_at) VALUES (?1, "
        "(SELECT coalesce(max(version), 0) + 1 FROM wordings WHERE purpose = ?1), ?2, ?3)",
        (purpose, text, now),
    )
    return int(row.lastrowid or 0)


def wording(db: sqlite3.Connection, row_id: int) -> Wording | None:
    """A wording, or None."""
    return Wording.read(db.execute("SELECT * FROM wordings WHERE id = ?", (row_id,)))


def changed_wording(db: sqlite3.Connection) -> tuple[int, str] | None:
    """The number of the first entry whose wording no longer has the text that was shown, and the entry's name for it."""
    pairs = db.execute(
        "SELECT c.wording_id, c.wording_hash, min(c.id) AS first, min(c.wording) AS name, w.text FROM consent_entries c "
        "LEFT JOIN wordings w ON w.id = c.wording_id WHERE c.wording_id IS NOT NULL GROUP BY 1, 2"
    ).fetchall()
    broken = [r for r in pairs if r["text"] is None or text_hash(r["text"]) != r["wording_hash"]]
    if not broken:
        return None
    first = min(broken, key=lambda r: r["first"])
    number = db.execute("SELECT count(*) FROM consent_entries WHERE id <= ?", (first["first"],)).fetchone()[0]
    return int(number), str(first["name"] or "a wording")


def given_by_purpose(db: sqlite3.Connection) -> dict[int, int]:
    """How many words of consent by email were ever given to each purpose."""
    rows = db.execute(
        "SELECT purpose, count(*) AS n FROM consent_entries WHERE state = 1 AND channel = 'email' AND NOT void GROUP BY 1"
    )
    return {int(r["purpose"]): int(r["n"]) for r in rows}


def wordings(db: sqlite3.Connection, purpose: PurposeId) -> list[AgreedWording]:
    """Every version, the newest first, with the number of people who said yes to it: (…, people). Entries of before the
    id was kept are known by the version that they name."""
    return AgreedWording.read_all(
        db.execute(
            "SELECT w.*, (SELECT count(DISTINCT c.subscriber) FROM consent_entries c WHERE c.state = 1 AND NOT c.void "
            "AND c.purpose = w.purpose AND (c.wording_id = w.id OR (c.wording_id IS NULL "
            "AND c.wording LIKE '%, version ' || w.version))) AS people FROM wordings w WHERE w.purpose = ? "
            "ORDER BY w.version DESC",
            (purpose,),
        )
    )


def latest(db: sqlite3.Connection, subscriber: SubscriberId, purpose: PurposeId, other_than: int = -1) -> int:
    """Somebody's latest word about a purpose by email, whenever it takes effect; 0 for none. ``other_than`` leaves a
    state out."""
    row = db.execute(
        "SELECT state FROM consent_entries WHERE subscriber = ? AND purpose = ? AND channel = 'email' AND NOT void "
        f"AND state <> ? ORDER BY {ORDER} DESC LIMIT 1",
        (subscriber, purpose, other_than),
    ).fetchone()
    return int(row["state"]) if row else 0


def latest_entry(db: sqlite3.Connection, subscriber: SubscriberId, purpose: PurposeId) -> ConsentEntry | None:
    """The entry of somebody's latest word by email."""
    return ConsentEntry.read(
        db.execute(
            "SELECT *, list AS list_id FROM consent_entries "
            "WHERE subscriber = ? AND purpose = ? AND channel = 'email' AND NOT void "
            f"ORDER BY {ORDER} DESC LIMIT 1",
            (subscriber, purpose),
        )
    )


def sources(db: sqlite3.Connection, purpose: PurposeId | None = None) -> list[str]:
    """The stated sources of consents, to one purpose or to any."""
    found = bulk.distinct(db, "consent_entries", "source")
    if purpose is None:
        return found
    there = "SELECT 1 FROM consent_entries WHERE source = ? AND purpose = ? LIMIT 1"
    return [s for s in found if db.execute(there, (s, purpose)).fetchone()]


def state_relation(db: sqlite3.Connection, rows: Sequence[tuple[int, str, int, str, int]]) -> int:
    """(subscriber, words, at, who, action): a prior relation, on the record; one that stands is left alone."""
    before = db.total_changes
    db.executemany("INSERT OR IGNORE INTO relations VALUES (?, ?, ?, ?, ?)", rows)
    facts_changed(db)
    return db.total_changes - before


def preferences(db: sqlite3.Connection, subscriber: SubscriberId) -> tuple[str | None, int | None]:
    """(at most one a week or month, paused until)."""
    row = db.execute("SELECT at_most, paused_until FROM preferences WHERE subscriber = ?", (subscriber,)).fetchone()
    return (row["at_most"], row["paused_until"]) if row else (None, None)


def prefer(db: sqlite3.Connection, subscriber: SubscriberId, at_most: str | None, paused_until: int | None) -> None:
    """Keep whether somebody wants at most one message a week or a month, and until when none."""
    db.execute("INSERT OR REPLACE INTO preferences VALUES (?, ?, ?)", (subscriber, at_most, paused_until))
    facts_changed(db)


def suppressed(db: sqlite3.Connection, limit: int, offset: int = 0, reason: int | None = None) -> list[SuppressedPerson]:
    """The suppression list, the newest first; for one reason only where one is given."""
    return SuppressedPerson.read_all(
        db.execute(
            "SELECT x.*, s.email, s.name FROM suppressions x JOIN subscribers s ON s.id = x.subscriber "
            "WHERE coalesce(x.reason = ?, 1) ORDER BY x.at DESC, x.subscriber LIMIT ? OFFSET ?",
            (reason, limit, offset),
        )
    )


def is_suppressed_for(db: sqlite3.Connection, subscriber: SubscriberId, reason: int) -> bool:
    """Whether somebody is suppressed for a reason."""
    row = db.execute("SELECT 1 FROM suppressions WHERE subscriber = ? AND reason = ?", (subscriber, reason))
    return row.fetchone() is not None


def suppressions_of(db: sqlite3.Connection, subscriber: SubscriberId) -> list[int]:
    """Why somebody is suppressed, each with its moment and source."""
    rows = db.execute("SELECT reason FROM suppressions WHERE subscriber = ? ORDER BY reason", (subscriber,))
    return [int(r["reason"]) for r in rows]


def suppression_counts(db: sqlite3.Connection) -> dict[int, int]:
    """How many are suppressed for each reason."""
    return {
        int(r["reason"]): int(r["n"])
        for r in db.execute("SELECT reason, count(*) AS n FROM suppressions GROUP BY reason")
    }


def lift_of(db: sqlite3.Connection, subscriber: SubscriberId, reason: int, at: int) -> None:
    """Take off the suppression that a certain moment brought; one from another moment stays."""
    db.execute("DELETE FROM suppressions WHERE subscriber = ? AND reason = ? AND at = ?", (subscriber, reason, at))
    facts_changed(db)


def lift(db: sqlite3.Connection, subscriber: SubscriberId, reasons: Sequence[int]) -> list[tuple[int, int, str]]:
    """Take suppressions off; what stood there: (reason, at, source)."""
    marks = ",".join("?" * len(reasons))
    rows = db.execute(
        f"DELETE FROM suppressions WHERE subscriber = ? AND reason IN ({marks}) RETURNING reason, at, source",
        (subscriber, *reasons),
    ).fetchall()
    facts_changed(db)
    return [(int(r["reason"]), int(r["at"]), str(r["source"])) for r in rows]
