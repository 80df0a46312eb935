"""Sending domains and from-addresses."""

from __future__ import annotations

import json
import sqlite3
from typing import Any


def add_domain(db: sqlite3.Connection, name: str, token: str) -> int:
    return int(db.execute("INSERT INTO domains (name, token) VALUES (?, ?)", (name, token)).lastrowid or 0)


def domains(db: sqlite3.Connection) -> list[sqlite3.Row]:
    return db.execute("SELECT * FROM domains ORDER BY name").fetchall()


def domain(db: sqlite3.Connection, id: int) -> sqlite3.Row | None:
    row: sqlite3.Row | None = db.execute("SELECT * FROM domains WHERE id = ?", (id,)).fetchone()
    return row


def domain_named(db: sqlite3.Connection, name: str) -> sqlite3.Row | None:
    row: sqlite3.Row | None = db.execute("SELECT * FROM domains WHERE name = ?", (name,)).fetchone()
    return row


def set_key(db: sqlite3.Connection, id: int, selector: str, private: str, public: str) -> None:
    db.execute(
        "UPDATE domains SET selector = ?, private_key = ?, public_key = ? WHERE id = ?", (selector, private, public, id)
    )


def set_checked(db: sqlite3.Connection, id: int, state: str, records: list[dict[str, Any]], now: int) -> None:
    db.execute(
        "UPDATE domains SET state = ?, records = ?, checked_at = ? WHERE id = ?", (state, json.dumps(records), now, id)
    )


def add_address(db: sqlite3.Connection, domain: int, address: str, now: int) -> int:
    return int(
        db.execute(
            "INSERT INTO from_addresses (domain, address, asked_at) VALUES (?, ?, ?)", (domain, address, now)
        ).lastrowid
        or 0
    )


def addresses(db: sqlite3.Connection, domain: int | None = None) -> list[sqlite3.Row]:
    return db.execute(
        "SELECT a.*, d.name AS domain_name, d.state AS domain_state FROM from_addresses a "
        "JOIN domains d ON d.id = a.domain WHERE ?1 IS NULL OR a.domain = ?1 ORDER BY address",
        (domain,),
    ).fetchall()


def address(db: sqlite3.Connection, id: int) -> sqlite3.Row | None:
    row: sqlite3.Row | None = db.execute(
        "SELECT a.*, d.name AS domain_name, d.state AS domain_state, d.selector, d.private_key, d.public_key "
        "FROM from_addresses a JOIN domains d ON d.id = a.domain WHERE a.id = ?",
        (id,),
    ).fetchone()
    return row


def address_named(db: sqlite3.Connection, text: str) -> sqlite3.Row | None:
    row: sqlite3.Row | None = db.execute("SELECT * FROM from_addresses WHERE address = ?", (text,)).fetchone()
    return row


def confirm(db: sqlite3.Connection, id: int, now: int) -> bool:
    """True when this call confirmed it; a second one changes nothing."""
    return (
        db.execute("UPDATE from_addresses SET confirmed_at = ? WHERE id = ? AND confirmed_at IS NULL", (now, id)).rowcount
        > 0
    )


def ready_address(db: sqlite3.Connection) -> sqlite3.Row | None:
    """The confirmed from-address whose domain stands best: what a new draft begins with; None without one."""
    row: sqlite3.Row | None = db.execute(
        "SELECT a.*, d.name AS domain_name, d.state AS domain_state, d.selector, d.private_key, d.public_key "
        "FROM from_addresses a JOIN domains d ON d.id = a.domain WHERE a.confirmed_at IS NOT NULL ORDER BY "
        "d.private_key IS NULL, CASE d.state WHEN 'holds' THEN 0 WHEN 'mend' THEN 1 WHEN 'unknown' THEN 2 ELSE 3 END, a.id"
    ).fetchone()
    return row
