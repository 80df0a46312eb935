"""Accounts, their sessions, tokens, recovery codes and one-time links. Only hashes of secrets are kept; times are the
machine's own (UTC seconds)."""

from __future__ import annotations

import sqlite3
from collections.abc import Collection
from dataclasses import dataclass

from openmeadow.core.moments import DAY
from openmeadow.core.states import Role


@dataclass(frozen=True)
class User:
    """``password`` "" has been invited and has not chosen one; ``totp_step`` is the last time step whose code was taken."""

    id: int
    name: str
    role: str
    password: str
    totp_secret: str | None
    totp_step: int
    email: str
    made_at: int

    @classmethod
    def from_row(cls, r: sqlite3.Row) -> User:
        """An account out of its row."""
        return cls(
            r["id"], r["name"], r["role"], r["password"], r["totp_secret"], r["totp_step"], r["email"] or "", r["made_at"]
        )


@dataclass(frozen=True)
class Session:
    """``proved_at``: when the password was last given."""

    hash: str
    user: int
    csrf: str
    made_at: int
    seen_at: int
    proved_at: int
    agent: str
    network: str


@dataclass(frozen=True)
class Token:
    id: int
    user: int
    name: str
    scope: str
    made_at: int
    expires_at: int | None
    used_at: int | None


_TOKEN = "id, user, name, scope, made_at, expires_at, used_at"


def add_user(db: sqlite3.Connection, name: str, role: str, password: str, email: str | None, at: int) -> int:
    """Add an account; its id. ``password`` is its hash, None while it is invited."""
    row = db.execute(
        "INSERT INTO users (name, role, password, email, made_at) VALUES (?, ?, ?, ?, ?)",
        (name, role, password, email, at),
    )
    return int(row.lastrowid or 0)


def _user(row: sqlite3.Row | None) -> User | None:
    return None if row is None else User.from_row(row)


def user_named(db: sqlite3.Connection, name: str) -> User | None:
    """The account with a name, or None."""
    return _user(db.execute("SELECT * FROM users WHERE name = ?", (name,)).fetchone())


def user(db: sqlite3.Connection, row_id: int) -> User | None:
    """An account, or None."""
    return _user(db.execute("SELECT * FROM users WHERE id = ?", (row_id,)).fetchone())


def users(db: sqlite3.Connection) -> list[User]:
    """All accounts by name."""
    return [User.from_row(r) for r in db.execute("SELECT * FROM users ORDER BY name")]


def count_analysts(db: sqlite3.Connection) -> int:
    """Analysts who can sign in: one who was invited only cannot."""
    return int(db.execute("SELECT count(*) FROM users WHERE role = ? AND password <> ''", (Role.ANALYST,)).fetchone()[0])


def set_password(db: sqlite3.Connection, row_id: int, password: str) -> None:
    """Give an account another password, as its hash."""
    db.execute("UPDATE users SET password = ? WHERE id = ?", (password, row_id))


def set_role(db: sqlite3.Connection, row_id: int, role: str) -> None:
    """Give an account another role."""
    db.execute("UPDATE users SET role = ? WHERE id = ?", (role, row_id))


def set_totp(db: sqlite3.Connection, row_id: int, secret: str | None, step: int = 0) -> None:
    """Give an account a second factor, or take it off."""
    db.execute("UPDATE users SET totp_secret = ?, totp_step = ? WHERE id = ?", (secret, step, row_id))


def take_totp_step(db: sqlite3.Connection, row_id: int, step: int) -> bool:
    """Whether this code's time step is new; it is taken once."""
    return db.execute("UPDATE users SET totp_step = ?1 WHERE id = ?2 AND totp_step < ?1", (step, row_id)).rowcount > 0


def remove_user(db: sqlite3.Connection, row_id: int) -> None:
    """With sessions, tokens, codes and links."""
    db.execute("DELETE FROM users WHERE id = ?", (row_id,))


def set_recovery_codes(db: sqlite3.Connection, user: int, hashes: Collection[str]) -> None:
    """Replace an account's recovery codes, as their hashes."""
    db.execute("DELETE FROM recovery_codes WHERE user = ?", (user,))
    db.executemany("INSERT INTO recovery_codes VALUES (?, ?)", [(user, h) for h in hashes])


def use_recovery_code(db: sqlite3.Connection, user: int, digest: str) -> bool:
    """Use a recovery code up; whether it was there."""
    return db.execute("DELETE FROM recovery_codes WHERE user = ? AND hash = ?", (user, digest)).rowcount > 0


def count_recovery_codes(db: sqlite3.Connection, user: int) -> int:
    """How many recovery codes an account has left."""
    return int(db.execute("SELECT count(*) FROM recovery_codes WHERE user = ?", (user,)).fetchone()[0])


def add_session(db: sqlite3.Connection, s: Session) -> None:
    """Keep a session."""
    db.execute(
        "INSERT INTO sessions (hash, user, csrf, made_at, seen_at, proved_at, agent, network) VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
        (s.hash, s.user, s.csrf, s.made_at, s.seen_at, s.proved_at, s.agent, s.network),
    )


def session(db: sqlite3.Connection, digest: str) -> Session | None:
    """A session with its account, by the hash of its word, or None."""
    row = db.execute("SELECT * FROM sessions WHERE hash = ?", (digest,)).fetchone()
    return None if row is None else Session(**dict(row))


def sessions_of(db: sqlite3.Connection, user: int) -> list[Session]:
    """The sessions of an account, the latest first."""
    return [
        Session(**dict(r)) for r in db.execute("SELECT * FROM sessions WHERE user = ? ORDER BY seen_at DESC", (user,))
    ]


def see_session(db: sqlite3.Connection, digest: str, at: int) -> None:
    """Keep when a session was last used."""
    db.execute("UPDATE sessions SET seen_at = max(seen_at, ?) WHERE hash = ?", (at, digest))


def prove_session(db: sqlite3.Connection, digest: str, at: int) -> None:
    """Keep when the password was entered once more in a session."""
    db.execute("UPDATE sessions SET proved_at = ? WHERE hash = ?", (at, digest))


def end_session(db: sqlite3.Connection, digest: str) -> int:
    """End a session; 1 where it was there."""
    return db.execute("DELETE FROM sessions WHERE hash = ?", (digest,)).rowcount


def end_sessions(db: sqlite3.Connection, user: int, but: str = "") -> int:
    """All of somebody's sessions, but one where it is named."""
    return db.execute("DELETE FROM sessions WHERE user = ? AND hash <> ?", (user, but)).rowcount


def end_old_sessions(db: sqlite3.Connection, seen_before: int, made_before: int, now: int) -> None:
    """End sessions that were not used, or that began, before a moment."""
    db.execute("DELETE FROM sessions WHERE seen_at < ? OR made_at < ?", (seen_before, made_before))
    db.execute("DELETE FROM one_time_links WHERE expires_at < ?", (now,))
    db.execute("DELETE FROM sign_in_failures WHERE wait_until < ?", (now - DAY,))


def add_token(
    db: sqlite3.Connection, user: int, name: str, digest: str, scope: str, at: int, expires_at: int | None
) -> int:
    """Keep a token as its hash; its id."""
    row = db.execute(
        "INSERT INTO tokens (user, name, hash, scope, made_at, expires_at) VALUES (?, ?, ?, ?, ?, ?)",
        (user, name, digest, scope, at, expires_at),
    )
    return int(row.lastrowid or 0)


def token(db: sqlite3.Connection, digest: str) -> Token | None:
    """A token with its account, by its hash, or None."""
    row = db.execute(f"SELECT {_TOKEN} FROM tokens WHERE hash = ?", (digest,)).fetchone()
    return None if row is None else Token(**dict(row))


def tokens(db: sqlite3.Connection, user: int | None = None) -> list[Token]:
    """Of one account, or of all, the newest first."""
    rows = db.execute(f"SELECT {_TOKEN} FROM tokens WHERE coalesce(user = ?, 1) ORDER BY id DESC", (user,))
    return [Token(**dict(r)) for r in rows]


def use_token(db: sqlite3.Connection, row_id: int, at: int) -> None:
    """Keep when a token was last used."""
    db.execute("UPDATE tokens SET used_at = ? WHERE id = ?", (at, row_id))


def end_token(db: sqlite3.Connection, row_id: int, user: int | None = None) -> int:
    """End a token; 1 where it was there."""
    return db.execute("DELETE FROM tokens WHERE id = ? AND coalesce(user = ?, 1)", (row_id, user)).rowcount


def add_link(db: sqlite3.Connection, digest: str, user: int, use: str, expires_at: int) -> None:
    """Keep a link that works once, as its hash."""
    db.execute("INSERT INTO one_time_links VALUES (?, ?, ?, ?)", (digest, user, use, expires_at))


def link_user(db: sqlite3.Connection, digest: str, use: str, now: int) -> int | None:
    """Whose a link is, while it holds."""
    row = db.execute(
        "SELECT user FROM one_time_links WHERE hash = ? AND use = ? AND expires_at >= ?", (digest, use, now)
    ).fetchone()
    return int(row["user"]) if row else None


def use_link(db: sqlite3.Connection, digest: str, use: str, now: int) -> int | None:
    """Use a link up; its account, or None."""
    found = link_user(db, digest, use, now)
    db.execute("DELETE FROM one_time_links WHERE hash = ?", (digest,))
    return found


def end_links(db: sqlite3.Connection, user: int) -> None:
    """End all links of an account."""
    db.execute("DELETE FROM one_time_links WHERE user = ?", (user,))


def failures(db: sqlite3.Connection, account: str) -> tuple[int, int]:
    """(failed tries in a row, not before which moment the next is looked at)."""
    row = db.execute("SELECT failures, wait_until FROM sign_in_failures WHERE account = ?", (account,)).fetchone()
    return (int(row["failures"]), int(row["wait_until"])) if row else (0, 0)


def set_failures(db: sqlite3.Connection, account: str, count: int, wait_until: int) -> None:
    """Keep how often a sign-in failed, and until when it must wait."""
    if count:
        db.execute("INSERT OR REPLACE INTO sign_in_failures VALUES (?, ?, ?)", (account, count, wait_until))
    else:
        db.execute("DELETE FROM sign_in_failures WHERE account = ?", (account,))
