"""Sign-up forms, who came by them, and what became of that."""

from __future__ import annotations

import json
import sqlite3

from openmeadow.core.ids import PurposeId, SubscriberId
from openmeadow.core.states import SignupState
from openmeadow.store.rows import Values
from openmeadow.store.subscribers.records import (
    AddressChange,
    Burst,
    Form,
    FormCounts,
    FormSignup,
    Signup,
    SignupDay,
    UnconfirmedSignup,
)


def forms(db: sqlite3.Connection) -> list[FormCounts]:
    """Every form with its list and its counts by state."""
    return FormCounts.read_all(
        db.execute(
            "SELECT f.*, f.list AS list_id, l.name AS list_name, count(s.id) AS joined, "
            "count(s.id) FILTER (WHERE s.state = ?) AS pending, "
            "count(s.id) FILTER (WHERE s.state = ?) AS confirmed, count(s.id) FILTER (WHERE s.state = ?) "
            "AS expired FROM forms f JOIN lists l ON l.id = f.list LEFT JOIN signups s ON s.form = f.id "
            "GROUP BY f.id ORDER BY l.name",
            (SignupState.PENDING, SignupState.CONFIRMED, SignupState.EXPIRED),
        )
    )


def form_of_list(db: sqlite3.Connection, name: str) -> Form | None:
    """The form of a list, or None."""
    return Form.read(
        db.execute(
            "SELECT f.*, f.list AS list_id, l.name AS list_name FROM forms f JOIN lists l ON l.id = f.list WHERE l.name = ?",
            (name,),
        )
    )


def save_form(db: sqlite3.Connection, list_id: int, values: Values) -> int:
    """Write the form of a list; its id."""
    row = db.execute(
        "INSERT INTO forms (list, purposes, intro, ask_name, confirm, reminders, is_open, mail_subject, mail_text) "
        "VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?) "
        "ON CONFLICT (list) DO UPDATE SET purposes = excluded.purposes, intro = excluded.intro, "
        "ask_name = excluded.ask_name, confirm = excluded.confirm, reminders = excluded.reminders, "
        "is_open = excluded.is_open, mail_subject = excluded.mail_subject, mail_text = excluded.mail_text RETURNING id",
        (
            list_id,
            *(
                values[name]
                for name in (
                    "purposes",
                    "intro",
                    "ask_name",
                    "confirm",
                    "reminders",
                    "is_open",
                    "mail_subject",
                    "mail_text",
                )
            ),
        ),
    ).fetchone()
    return int(row["id"])


def add(
    db: sqlite3.Connection,
    form: int,
    subscriber: SubscriberId,
    purposes: list[PurposeId],
    at: int,
    network: str,
    first_mail: int | None,
    shown: dict[PurposeId, int | None],
    page: str,
) -> int:
    """Keep a sign-up; its id. ``shown`` are the wordings that stood on its page, by purpose."""
    return int(
        db.execute(
            "INSERT INTO signups (form, subscriber, purposes, at, network, next_mail_at, shown, page) "
            "VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
            (form, subscriber, json.dumps(purposes), at, network, first_mail, json.dumps(shown), page),
        ).lastrowid
        or 0
    )


def one(db: sqlite3.Connection, row_id: int) -> FormSignup | None:
    """A sign-up, or None."""
    return FormSignup.read(
        db.execute(
            "SELECT s.*, f.list AS list_id, f.reminders, f.mail_subject, f.mail_text, l.name AS list_name FROM signups s "
            "JOIN forms f ON f.id = s.form "
            "JOIN lists l ON l.id = f.list WHERE s.id = ?",
            (row_id,),
        )
    )


def pending_of(db: sqlite3.Connection, form: int, subscriber: SubscriberId) -> Signup | None:
    """Somebody's sign-up by a form that waits for confirmation, or None."""
    return Signup.read(
        db.execute(
            "SELECT * FROM signups WHERE form = ? AND subscriber = ? AND state = ?",
            (form, subscriber, SignupState.PENDING),
        )
    )


def from_network(db: sqlite3.Connection, network: str, since: int) -> int:
    """How many not yet confirmed sign-ups came from a network since a moment."""
    row = db.execute(
        "SELECT count(*) AS n FROM signups WHERE network = ? AND at > ? AND state <> ?",
        (network, since, SignupState.CONFIRMED),
    )
    return int(row.fetchone()["n"])


def bursts(db: sqlite3.Connection, since: int, at_least: int) -> list[Burst]:
    """Networks from which many sign-ups came that nobody confirmed."""
    return Burst.read_all(
        db.execute(
            "SELECT network, count(*) AS n, min(at) AS first, max(at) AS last FROM signups WHERE at > ? "
            "AND state <> ? GROUP BY network HAVING n >= ? ORDER BY n DESC",
            (since, SignupState.CONFIRMED, at_least),
        )
    )


def unconfirmed(db: sqlite3.Connection, since: int) -> list[UnconfirmedSignup]:
    """(address key, moment, network) of sign-ups since a moment that nobody confirmed."""
    return UnconfirmedSignup.read_all(
        db.execute(
            "SELECT p.email_key, s.at, s.network FROM signups s JOIN subscribers p ON p.id = s.subscriber "
            "WHERE s.at > ? AND s.state <> ?",
            (since, SignupState.CONFIRMED),
        )
    )


def keys_since(db: sqlite3.Connection, since: int) -> list[str]:
    """The address keys of sign-ups since a moment, once for each sign-up."""
    rows = db.execute(
        "SELECT p.email_key FROM signups s JOIN subscribers p ON p.id = s.subscriber WHERE s.at > ?", (since,)
    )
    return [str(r["email_key"]) for r in rows]


def around(db: sqlite3.Connection, network: str, since: int, until: int) -> int:
    """How many unconfirmed sign-ups came from a network between two moments."""
    row = db.execute(
        "SELECT count(*) AS n FROM signups WHERE network = ? AND at BETWEEN ? AND ? AND state <> ?",
        (network, since, until, SignupState.CONFIRMED),
    ).fetchone()
    return int(row["n"])


def by_day(db: sqlite3.Connection, since: int) -> list[SignupDay]:
    """Of those who joined on each day since a moment: (form, day, joined, pending, confirmed, expired)."""
    counts = ", ".join(f"count(*) FILTER (WHERE state = '{s}') AS {s}" for s in ("pending", "confirmed", "expired"))
    return SignupDay.read_all(
        db.execute(
            f"SELECT form, date(at, 'unixepoch') AS day, count(*) AS joined, {counts} FROM signups WHERE at > ? "
            "GROUP BY form, day ORDER BY day DESC",
            (since,),
        )
    )


def due(db: sqlite3.Connection, now: int, limit: int = 200) -> list[int]:
    """Sign-ups to which a message is due."""
    return [
        int(r["id"])
        for r in db.execute(
            "SELECT id FROM signups WHERE state = ? AND next_mail_at <= ? ORDER BY next_mail_at LIMIT ?",
            (SignupState.PENDING, now, limit),
        )
    ]


def mailed(db: sqlite3.Connection, row_id: int, next_at: int | None) -> None:
    """Keep that a message went to a sign-up, and when the next is due."""
    db.execute("UPDATE signups SET mails = mails + 1, next_mail_at = ? WHERE id = ?", (next_at, row_id))


def put_off(db: sqlite3.Connection, row_id: int, until: int | None) -> None:
    """Try the message to a sign-up later."""
    db.execute("UPDATE signups SET next_mail_at = ? WHERE id = ?", (until, row_id))


def confirmed(db: sqlite3.Connection, row_id: int, now: int) -> bool:
    """Keep that a sign-up was confirmed; whether it still waited."""
    return (
        db.execute(
            "UPDATE signups SET state = ?, confirmed_at = ?, next_mail_at = NULL WHERE id = ? AND state <> ?",
            (SignupState.CONFIRMED, now, row_id, SignupState.CONFIRMED),
        ).rowcount
        > 0
    )


def expire(db: sqlite3.Connection, before: int) -> list[Signup]:
    """Sign-ups older than a moment that nobody confirmed; they have lapsed now."""
    return Signup.read_all(
        db.execute(
            "UPDATE signups SET state = ?, next_mail_at = NULL WHERE state = ? AND at <= ? RETURNING *",
            (SignupState.EXPIRED, SignupState.PENDING, before),
        )
    )


def next_due(db: sqlite3.Connection) -> int | None:
    """When the next message to a sign-up is due; None for never."""
    row = db.execute("SELECT min(next_mail_at) AS at FROM signups WHERE state = ?", (SignupState.PENDING,)).fetchone()
    return None if row["at"] is None else int(row["at"])


def ask_change(db: sqlite3.Connection, subscriber: SubscriberId, email: str, now: int) -> int:
    """A wish for another address; it is mailed as soon as the worker comes to it."""
    row = db.execute(
        "INSERT INTO address_changes (subscriber, email, asked_at, mail_at) VALUES (?, ?, ?, ?)",
        (subscriber, email, now, now),
    )
    return int(row.lastrowid or 0)


def changes_of(db: sqlite3.Connection, subscriber: SubscriberId, since: int) -> int:
    """How many changes of address somebody has asked for since a moment."""
    row = db.execute(
        "SELECT count(*) AS n FROM address_changes WHERE subscriber = ? AND asked_at > ?", (subscriber, since)
    ).fetchone()
    return int(row["n"])


def changes_to(db: sqlite3.Connection, email: str, since: int) -> int:
    """How many changes to an address were asked for since a moment."""
    row = db.execute(
        "SELECT count(*) AS n FROM address_changes WHERE email = ? AND asked_at > ?", (email, since)
    ).fetchone()
    return int(row["n"])


def changes_due(db: sqlite3.Connection, now: int, limit: int = 50) -> list[AddressChange]:
    """Changes of address to which a message is due."""
    return AddressChange.read_all(
        db.execute(
            "SELECT * FROM address_changes WHERE mail_at IS NOT NULL AND mail_at <= ? ORDER BY mail_at LIMIT ?",
            (now, limit),
        )
    )


def change_mailed(db: sqlite3.Connection, row_id: int, again_at: int | None) -> None:
    """Keep that the message about a change of address went out."""
    db.execute("UPDATE address_changes SET mail_at = ? WHERE id = ?", (again_at, row_id))


def changes_to_tell(db: sqlite3.Connection, limit: int = 50) -> list[AddressChange]:
    """Changes whose old address has not been told yet."""
    return AddressChange.read_all(
        db.execute(
            "SELECT * FROM address_changes WHERE done_at IS NOT NULL AND told_at IS NULL AND before <> '' LIMIT ?",
            (limit,),
        )
    )


def change_announced(db: sqlite3.Connection, row_id: int, now: int) -> None:
    """The old address is kept no longer than until it is told."""
    db.execute("UPDATE address_changes SET told_at = ?, before = '' WHERE id = ?", (now, row_id))


def change(db: sqlite3.Connection, row_id: int) -> AddressChange | None:
    """A change of address, or None."""
    return AddressChange.read(db.execute("SELECT * FROM address_changes WHERE id = ?", (row_id,)))


def change_done(db: sqlite3.Connection, row_id: int, email: str, key: str, provider: int, before: str, now: int) -> None:
    """Give somebody the address they confirmed; the one before is kept."""
    db.execute("UPDATE address_changes SET done_at = ?, before = ? WHERE id = ?", (now, before, row_id))
    db.execute(
        "UPDATE subscribers SET email = ?, email_key = ?, provider = ? WHERE id = "
        "(SELECT subscriber FROM address_changes WHERE id = ?)",
        (email, key, provider, row_id),
    )
