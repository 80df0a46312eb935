"""Sending domains and from addresses."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Sequence

from openmeadow.core.states import CampaignState, KeyState, SequenceState
from openmeadow.store.senders.records import DkimKey, Domain, DomainAddress, FromAddress, RecordChange, SigningAddress

REMOVABLE = ("domains", "from_addresses")


def add_domain(db: sqlite3.Connection, name: str, token: str) -> int:
    """Add a sending domain; its id."""
    return int(db.execute("INSERT INTO domains (name, token) VALUES (?, ?)", (name, token)).lastrowid or 0)


def domains(db: sqlite3.Connection, *, removed_too: bool = False) -> list[Domain]:
    """The sending domains by name; mail of a removed one may still come back."""
    return Domain.read_all(
        db.execute("SELECT * FROM domains WHERE ? OR removed_at IS NULL ORDER BY name", (removed_too,))
    )


def set_removed(db: sqlite3.Connection, table: str, row_id: int, at: int | None) -> None:
    """Remove a domain or an address (one of REMOVABLE), or with None put it back."""
    if table not in REMOVABLE:
        raise ValueError(table)
    db.execute(f"UPDATE {table} SET removed_at = ? WHERE id = ?", (at, row_id))


def sending_from(db: sqlite3.Connection, addresses: Sequence[int]) -> list[str]:
    """The campaigns under way and the sequences' messages that are sent from one of some addresses."""
    marks = ",".join("?" * len(addresses))
    rows = db.execute(
        f"SELECT c.name FROM campaigns c LEFT JOIN sequences q ON q.id = c.sequence WHERE c.from_address IN ({marks}) "
        "AND (c.state IN (?, ?, ?) OR q.state = ?) ORDER BY c.id",
        (*addresses, CampaignState.SCHEDULED, CampaignState.SENDING, CampaignState.PAUSED, SequenceState.RUNNING),
    )
    return [str(r["name"]) for r in rows]


def domain(db: sqlite3.Connection, row_id: int) -> Domain | None:
    """A sending domain, or None."""
    return Domain.read(db.execute("SELECT * FROM domains WHERE id = ?", (row_id,)))


def domain_named(db: sqlite3.Connection, name: str) -> Domain | None:
    """The sending domain with a name, or None."""
    return Domain.read(db.execute("SELECT * FROM domains WHERE name = ?", (name,)))


def set_key(db: sqlite3.Connection, row_id: int, selector: str, private: str, public: str) -> None:
    """Give a domain a new DKIM key pair; the key before stays until it is dropped."""
    db.execute(
        "UPDATE domains SET selector = ?, private_key = ?, public_key = ? WHERE id = ?",
        (selector, private, public, row_id),
    )


def set_checked(
    db: sqlite3.Connection, row_id: int, state: str, records: list[dict[str, str]], spf: dict[str, object], now: int
) -> None:
    """What a look found; what differs from the look before is kept with its moment."""
    row = domain(db, row_id)
    before = {r["record"]: r for r in row.records} if row and row.checked_at else None
    if before is not None:
        for r in records:
            old = before.get(r["record"])
            if old is None or old["state"] != r["state"]:
                db.execute(
                    "INSERT INTO record_changes (domain, at, record, before, after, found) VALUES (?, ?, ?, ?, ?, ?)",
                    (row_id, now, r["record"], old["state"] if old else "new", r["state"], r["found"]),
                )
    db.execute(
        "UPDATE domains SET state = ?, records = ?, spf = ?, checked_at = ? WHERE id = ?",
        (state, json.dumps(records), json.dumps(spf), now, row_id),
    )


def changes(db: sqlite3.Connection, row_id: int, limit: int = 20) -> list[RecordChange]:
    """Changes of a domain's records, the latest first."""
    return RecordChange.read_all(
        db.execute("SELECT * FROM record_changes WHERE domain = ? ORDER BY at DESC, id DESC LIMIT ?", (row_id, limit))
    )


def keys(db: sqlite3.Connection, domain: int) -> list[DkimKey]:
    """The keys beside the one in use."""
    return DkimKey.read_all(db.execute("SELECT * FROM dkim_keys WHERE domain = ? ORDER BY id", (domain,)))


def add_next_key(
    db: sqlite3.Connection, domain: int, selector: str, private: str, public: str, now: int, *, beside: bool
) -> None:
    """A key that waits to be proved, to take the place of the one in use or to sign ``beside`` it; an earlier one that
    waited is gone."""
    db.execute("DELETE FROM dkim_keys WHERE domain = ? AND state = ?", (domain, KeyState.NEXT))
    db.execute(
        "INSERT INTO dkim_keys (domain, selector, private_key, public_key, state, made_at, beside) "
        "VALUES (?, ?, ?, ?, 'next', ?, ?)",
        (domain, selector, private, public, now, beside),
    )


def use_next_key(db: sqlite3.Connection, row_id: int, now: int) -> None:
    """The proved key is used from now on, beside the one in use or instead of it; the one before is kept as old."""
    if db.execute(
        "UPDATE dkim_keys SET state = ? WHERE domain = ? AND state = ? AND beside",
        (KeyState.SECOND, row_id, KeyState.NEXT),
    ).rowcount:
        return
    db.execute(
        "INSERT INTO dkim_keys (domain, selector, private_key, public_key, state, made_at, retired_at) "
        "SELECT id, selector, private_key, public_key, 'old', ?2, ?2 FROM domains WHERE id = ?1",
        (row_id, now),
    )
    row = db.execute(
        "DELETE FROM dkim_keys WHERE domain = ? AND state = ? RETURNING *", (row_id, KeyState.NEXT)
    ).fetchone()
    set_key(db, row_id, row["selector"], row["private_key"], row["public_key"])


def second_keys(db: sqlite3.Connection, domain: int) -> list[DkimKey]:
    """The keys that sign beside the one in use."""
    return [k for k in keys(db, domain) if k.state == KeyState.SECOND]


def retire_second_keys(db: sqlite3.Connection, domain: int, now: int) -> int:
    """They sign no more, and are kept as old; how many."""
    return db.execute(
        "UPDATE dkim_keys SET state = ?, retired_at = ? WHERE domain = ? AND state = ?",
        (KeyState.OLD, now, domain, KeyState.SECOND),
    ).rowcount


def drop_old_keys(db: sqlite3.Connection, domain: int, before: int) -> int:
    """Remove keys of a domain that were replaced before a moment; how many."""
    return db.execute(
        "DELETE FROM dkim_keys WHERE domain = ? AND state = ? AND retired_at <= ?", (domain, KeyState.OLD, before)
    ).rowcount


def add_address(db: sqlite3.Connection, domain: int, address: str, now: int) -> int:
    """Add a from address to a domain; its id."""
    return int(
        db.execute(
            "INSERT INTO from_addresses (domain, address, asked_at) VALUES (?, ?, ?)", (domain, address, now)
        ).lastrowid
        or 0
    )


def addresses(db: sqlite3.Connection, domain: int | None = None) -> list[DomainAddress]:
    """The from addresses, of one domain where given."""
    return DomainAddress.read_all(
        db.execute(
            "SELECT a.*, d.name AS domain_name, d.state AS domain_state FROM from_addresses a "
            "JOIN domains d ON d.id = a.domain WHERE (?1 IS NULL OR a.domain = ?1) AND a.removed_at IS NULL "
            "AND d.removed_at IS NULL ORDER BY address",
            (domain,),
        )
    )


def address(db: sqlite3.Connection, row_id: int) -> SigningAddress | None:
    """A from address with its domain, or None."""
    return SigningAddress.read(
        db.execute(
            "SELECT a.*, d.name AS domain_name, d.state AS domain_state, d.selector, d.private_key, d.public_key "
            "FROM from_addresses a JOIN domains d ON d.id = a.domain WHERE a.id = ?",
            (row_id,),
        )
    )


def address_named(db: sqlite3.Connection, text: str) -> FromAddress | None:
    """The from address as it is written, or None."""
    return FromAddress.read(db.execute("SELECT * FROM from_addresses WHERE address = ?", (text,)))


def confirm(db: sqlite3.Connection, row_id: int, now: int) -> bool:
    """True when this call confirmed it; a second one changes nothing."""
    return (
        db.execute(
            "UPDATE from_addresses SET confirmed_at = ? WHERE id = ? AND confirmed_at IS NULL", (now, row_id)
        ).rowcount
        > 0
    )


def ready_address(db: sqlite3.Connection) -> SigningAddress | None:
    """The confirmed from address whose domain stands best: what a new draft begins with; None without one."""
    return SigningAddress.read(
        db.execute(
            "SELECT a.*, d.name AS domain_name, d.state AS domain_state, d.selector, d.private_key, d.public_key "
            "FROM from_addresses a JOIN domains d ON d.id = a.domain WHERE a.confirmed_at IS NOT NULL "
            "AND a.removed_at IS NULL AND d.removed_at IS NULL ORDER BY "
            "d.private_key IS NULL, CASE d.state WHEN 'pass' THEN 0 WHEN 'warning' THEN 1 WHEN 'unknown' THEN 2 ELSE 3 END, a.id"
        )
    )


def set_proof(db: sqlite3.Connection, row_id: int, what: str, at: int | None) -> None:
    """``what``: sent, back or click."""
    if what not in ("sent", "back", "click"):
        raise ValueError(what)
    db.execute(f"UPDATE domains SET proof_{what}_at = ? WHERE id = ?", (at, row_id))


def look_again(db: sqlite3.Connection) -> None:
    """Every domain is due to be looked at."""
    db.execute("UPDATE domains SET checked_at = NULL")


def has_address(db: sqlite3.Connection, row_id: int) -> bool:
    """Whether there is a from address of this id."""
    return (
        db.execute("SELECT 1 FROM from_addresses WHERE id = ? AND removed_at IS NULL", (row_id,)).fetchone() is not None
    )
