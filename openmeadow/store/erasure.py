"""What erasing removes: everything but anonymous counts and a keyed hash of the address."""

from __future__ import annotations

import secrets
import sqlite3

from openmeadow.store import workspace
from openmeadow.store.subscribers import people_changed

KEY = "erasure_key"


def key(db: sqlite3.Connection) -> str:
    """The workspace's secret for hashes of erased addresses; empty while nobody was erased."""
    return str(workspace.setting(db, KEY) or "")


def make_key(db: sqlite3.Connection) -> str:
    if not (found := key(db)):
        found = secrets.token_hex(32)
        workspace.set_setting(db, KEY, found)
    return found


def hashes(db: sqlite3.Connection) -> set[str]:
    return {r["hash"] for r in db.execute("SELECT hash FROM erased")}


def forget_hash(db: sqlite3.Connection, hash: str) -> None:
    """Somebody erased comes back by themselves: the hash stops them no longer, and their old row keeps none of it."""
    db.execute("DELETE FROM erased WHERE hash = ?", (hash,))


_ABOUT_A_PERSON = (
    "notes",
    "address_verdicts",
    "list_members",
    "subscriber_labels",
    "suppressions",
    "preferences",
    "relations",
    "address_changes",
    "clean_up_stays",
    "intake_mail",
    "sequence_queue",
    "sequence_holds",
)


def erase(db: sqlite3.Connection, id: int, email_key: str, hash: str, now: int) -> None:
    """Take out everything that could lead back to the person; their rows in results stay as counts."""
    db.execute("INSERT OR IGNORE INTO erased VALUES (?, ?)", (hash, now))
    for table in _ABOUT_A_PERSON:
        db.execute(f"DELETE FROM {table} WHERE subscriber = ?", (id,))
    db.execute("DELETE FROM deed_before WHERE subscriber = ?", (id,))
    db.execute("DELETE FROM events_aside WHERE email_key = ?", (email_key,))
    db.execute("DELETE FROM mailbox_answers WHERE email_key = ?", (email_key,))
    db.execute("UPDATE signups SET network = '' WHERE subscriber = ?", (id,))
    db.execute(
        "INSERT OR IGNORE INTO agents (agent, ip) SELECT DISTINCT a.agent, '' FROM events e JOIN agents a "
        "ON a.id = e.agent WHERE e.subscriber = ?",
        (id,),
    )
    db.execute(
        "UPDATE events SET code = NULL, diagnostic = NULL, outside_id = NULL, agent = coalesce((SELECT bare.id "
        "FROM agents a JOIN agents bare ON bare.agent = a.agent AND bare.ip = '' WHERE a.id = events.agent), 0) "
        "WHERE subscriber = ?",
        (id,),
    )
    db.execute("UPDATE consent_entries SET source = NULL, wording = NULL, reason = NULL WHERE subscriber = ?", (id,))
    db.execute(
        "UPDATE sequence_stays SET left_at = ?, due_at = NULL, why_left = 'erased' WHERE subscriber = ? AND left_at IS NULL",
        (now, id),
    )
    db.execute("UPDATE deliveries SET reason = NULL WHERE subscriber = ? AND state = 'failed'", (id,))
    db.execute(
        "UPDATE subscribers SET email = '', email_key = ?, name = NULL, time_zone = NULL, language = NULL, "
        "country = NULL, fields = '{}', erased_at = ? WHERE id = ?",
        (f"erased:{hash}", now, id),
    )
    people_changed(db)
