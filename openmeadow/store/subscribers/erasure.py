"""What erasing removes: everything but anonymous counts and a keyed hash of the address."""

from __future__ import annotations

import re
import secrets
import sqlite3
from collections.abc import Sequence

from openmeadow.core.addresses.syntax import standing_alone
from openmeadow.core.ids import SubscriberId
from openmeadow.core.states import DeliveryState, JobState
from openmeadow.store import settings
from openmeadow.store.subscribers.subscribers import people_changed

KEY = "erasure_key"


def key(db: sqlite3.Connection) -> str:
    """The workspace's secret for hashes of erased addresses; empty while nobody was erased."""
    return str(settings.setting(db, KEY) or "")


def make_key(db: sqlite3.Connection) -> str:
    """Make the key by which erased addresses are hashed, and return it."""
    if not (found := key(db)):
        found = secrets.token_hex(32)
        settings.set_setting(db, KEY, found)
    return found


def hashes(db: sqlite3.Connection) -> set[str]:
    """The keyed hashes of all erased addresses."""
    return {r["hash"] for r in db.execute("SELECT hash FROM erased")}


def forget_hash(db: sqlite3.Connection, digest: str) -> None:
    """Somebody erased comes back by themselves: the hash stops them no longer, and their old row keeps none of it."""
    db.execute("DELETE FROM erased WHERE hash = ?", (digest,))


def save_old(db: sqlite3.Connection, subscriber: SubscriberId, digest: str) -> None:
    """An address that somebody had before, as a keyed hash: erasing them reaches it too."""
    db.execute("INSERT OR IGNORE INTO old_addresses VALUES (?, ?)", (subscriber, digest))


def old_hashes(db: sqlite3.Connection, subscriber: SubscriberId) -> set[str]:
    """The addresses that somebody had before, as keyed hashes."""
    return {r["hash"] for r in db.execute("SELECT hash FROM old_addresses WHERE subscriber = ?", (subscriber,))}


def drop_aside(db: sqlite3.Connection, keys: Sequence[str]) -> None:
    """Remove events kept aside for some addresses."""
    db.executemany("DELETE FROM events_aside WHERE email_key = ?", [(k,) for k in keys])


def aside(db: sqlite3.Connection) -> list[str]:
    """The address keys of events kept aside."""
    return [str(r["email_key"]) for r in db.execute("SELECT DISTINCT email_key FROM events_aside")]


_ABOUT_A_PERSON = (
    "notes",
    "address_verdicts",
    "list_members",
    "subscriber_labels",
    "suppressions",
    "preferences",
    "relations",
    "address_changes",
    "sunset_enrolments",
    "returned_mail",
    "sequence_queue",
    "sequence_matches",
    "snapshot_people",
    "campaign_people",
    "old_addresses",
)


def _take_out_of_texts(db: sqlite3.Connection, alone: re.Pattern[str], written: set[str]) -> None:
    """Raw mail and test copies that hold the address go; the log and finished jobs lose it. What holds another address
    that only ends or begins alike stays."""
    for address in written:
        octets = address.encode("utf-8", "surrogateescape")
        for table in ("returned_mail", "test_copies"):
            rows = db.execute(f"SELECT id, raw FROM {table} WHERE instr(raw, ?) > 0", (octets,)).fetchall()
            held = [(r["id"],) for r in rows if alone.search(bytes(r["raw"]).decode("utf-8", "replace"))]
            db.executemany(f"DELETE FROM {table} WHERE id = ?", held)
        db.execute("DELETE FROM test_copies WHERE recipient = ? COLLATE NOCASE", (address,))
        for table, column, where in (
            ("activity", "what", ""),
            ("jobs", "arguments", f" AND state IN ('{JobState.FINISHED}', '{JobState.FAILED}')"),
            ("jobs", "outcome", f" AND state IN ('{JobState.FINISHED}', '{JobState.FAILED}')"),
        ):
            for r in db.execute(
                f"SELECT id, {column} AS said FROM {table} WHERE instr({column}, ?) > 0{where}", (address,)
            ).fetchall():
                db.execute(f"UPDATE {table} SET {column} = ? WHERE id = ?", (alone.sub("(erased)", r["said"]), r["id"]))


def erase(db: sqlite3.Connection, row_id: int, email: str, email_key: str, digest: str, now: int) -> None:
    """Take out everything that could lead back to the person; their rows in results stay as counts."""
    db.execute("INSERT OR IGNORE INTO erased VALUES (?, ?)", (digest, now))
    db.execute("INSERT OR IGNORE INTO erased SELECT hash, ? FROM old_addresses WHERE subscriber = ?", (now, row_id))
    _take_out_of_texts(db, standing_alone(email, email_key), {w for w in (email, email_key) if w})
    for table in _ABOUT_A_PERSON:
        db.execute(f"DELETE FROM {table} WHERE subscriber = ?", (row_id,))
    db.execute("DELETE FROM undo_rows WHERE subscriber = ?", (row_id,))
    db.execute("DELETE FROM events_aside WHERE email_key = ?", (email_key,))
    db.execute("DELETE FROM mailbox_checks WHERE email_key = ?", (email_key,))
    db.execute("UPDATE signups SET network = '', page = '' WHERE subscriber = ?", (row_id,))
    db.execute(
        "INSERT OR IGNORE INTO agents (agent, ip) SELECT DISTINCT a.agent, '' FROM events e JOIN agents a "
        "ON a.id = e.agent WHERE e.subscriber = ?",
        (row_id,),
    )
    db.execute(
        "UPDATE events SET code = NULL, diagnostic = NULL, outside_id = NULL, agent = coalesce((SELECT bare.id "
        "FROM agents a JOIN agents bare ON bare.agent = a.agent AND bare.ip = '' WHERE a.id = events.agent), 0) "
        "WHERE subscriber = ?",
        (row_id,),
    )
    db.execute(
        "UPDATE consent_entries SET source = NULL, wording = NULL, reason = NULL, page = NULL WHERE subscriber = ?",
        (row_id,),
    )
    db.execute(
        "UPDATE enrolments SET left_at = ?, due_at = NULL, exit_reason = 'erased' WHERE subscriber = ? AND left_at IS NULL",
        (now, row_id),
    )
    db.execute("UPDATE deliveries SET reason = NULL WHERE subscriber = ? AND state = ?", (row_id, DeliveryState.FAILED))
    db.execute(
        "UPDATE subscribers SET email = '', email_key = ?, name = NULL, time_zone = NULL, language = NULL, "
        "country = NULL, fields = '{}', erased_at = ? WHERE id = ?",
        (f"erased:{digest}", now, row_id),
    )
    people_changed(db)
