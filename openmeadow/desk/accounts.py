"""Accounts: argon2 passwords, an optional second factor by TOTP, personal tokens, entry addresses used once."""

from __future__ import annotations

import hashlib
import secrets

import pyotp
from argon2 import PasswordHasher
from argon2.exceptions import VerificationError

from openmeadow.core.errors import Refused
from openmeadow.desk.desk import Desk
from openmeadow.store import workspace

ROLES = ("analyst", "writer", "observer")
SHORTEST_PASSWORD = 10
_HASHER = PasswordHasher()
_NOBODY = _HASHER.hash("nobody")


def _digest(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


def add(desk: Desk, name: str, role: str, password: str, email: str | None = None) -> int:
    if len(password) < SHORTEST_PASSWORD:
        raise Refused(f"A password needs at least {SHORTEST_PASSWORD} characters.")
    with desk.store.atomic() as db:
        if workspace.user_named(db, name):
            raise Refused(f"There is already an account “{name}”.")
        id = workspace.add_user(db, name, role, _HASHER.hash(password), email)
        workspace.log(db, desk.now(), "command line", "added account", f"{name} ({role})")
    return id


def sign_in(desk: Desk, name: str, password: str, code: str) -> int:
    """The account's id, or ``Refused``. Name, password and code are checked as a whole and take alike long."""
    row = workspace.user_named(desk.store.read(), name)
    try:
        _HASHER.verify(row["password"] if row else _NOBODY, password)
    except VerificationError:
        row = None
    if row is None or (row["totp_secret"] and not pyotp.TOTP(row["totp_secret"]).verify(code, valid_window=1)):
        raise Refused("Name, password or code are not right; try again.")
    return int(row["id"])


def second_factor_secret(desk: Desk, name: str) -> tuple[str, str]:
    """A fresh secret and the otpauth address for an authenticator; kept only when a code proves it."""
    secret = pyotp.random_base32()
    return secret, pyotp.TOTP(secret).provisioning_uri(name=name, issuer_name="Open Meadow")


def keep_second_factor(desk: Desk, user: int, secret: str, code: str) -> None:
    if not pyotp.TOTP(secret).verify(code, valid_window=1):
        raise Refused("The code does not fit the secret; look at the authenticator and try the next code.")
    with desk.store.atomic() as db:
        workspace.set_totp(db, user, secret)


def drop_second_factor(desk: Desk, user: int) -> None:
    with desk.store.atomic() as db:
        workspace.set_totp(db, user, None)


def new_token(desk: Desk, user: int) -> str:
    """A personal token for scripts; only its hash is kept, the last one counts."""
    token = secrets.token_urlsafe(32)
    with desk.store.atomic() as db:
        workspace.set_token(db, user, _digest(token))
    return token


def by_token(desk: Desk, token: str) -> int | None:
    row = workspace.user_by_token(desk.store.read(), _digest(token))
    return int(row["id"]) if row else None


def entry_once(desk: Desk, user: int) -> str:
    """A word that signs its bearer in one time."""
    token = secrets.token_urlsafe(24)
    with desk.store.atomic() as db:
        workspace.add_entry_once(db, _digest(token), user)
    return token


def enter_once(desk: Desk, token: str) -> int | None:
    with desk.store.atomic() as db:
        return workspace.use_entry_once(db, _digest(token))
