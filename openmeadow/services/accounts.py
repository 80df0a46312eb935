"""Accounts: argon2 passwords, an optional second factor by TOTP (RFC 6238), sessions, tokens, links used once.

All times here are the machine's: a workspace whose clock is moved keeps its sessions.
"""

from __future__ import annotations

import hashlib
import secrets
from dataclasses import dataclass

import pyotp
from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError

from openmeadow.core.errors import Missing, NotSignedIn, Refused, TooMany
from openmeadow.core.moments import DAY, HOUR
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store import users as table
from openmeadow.store.users import Session, Token, User

ROLES = ("analyst", "writer", "observer")
SCOPES = ("read", "events", "all")
SHORTEST_PASSWORD, LONGEST_NAME = 10, 100
IDLE, LONGEST = 12 * HOUR, 30 * DAY  # seconds that a session lasts unused, and at all
PROVED = 10 * 60  # seconds for which a password that was given counts for what weakens security
LINK_HOLDS = {"sign in": 30 * 86_400, "set password": 7 * 86_400}
FREE_TRIES, FIRST_WAIT, LONGEST_WAIT = 5, 4, 300  # wrong tries before one waits; seconds
SEEN_EVERY = 60  # seconds between two notes of when a session or token was used
RECOVERY_CODES = 10
STEP = 30  # seconds of one TOTP code
_HASHER = PasswordHasher()
_NOBODY = _HASHER.hash("no one")
COMMAND_LINE = "command line"


def _digest(secret: str) -> str:
    return hashlib.sha256(secret.encode("utf-8", "replace")).hexdigest()


def _fitting(password: str) -> str:
    if len(password) < SHORTEST_PASSWORD:
        raise Refused(f"A password needs at least {SHORTEST_PASSWORD} characters.")
    return _HASHER.hash(password)


def _found(workspace: Workspace, row_id: int) -> User:
    user = table.user(workspace.store.read(), row_id)
    if user is None:
        raise Missing("This account does not exist.")
    return user


def named(workspace: Workspace, name: str) -> User:
    """The account with a name; Missing where there is none."""
    user = table.user_named(workspace.store.read(), name)
    if user is None:
        raise Missing(f"There is no account “{name[:80]}”.")
    return user


def _add(workspace: Workspace, name: str, role: str, password: str, email: str | None, who: str, act: str) -> int:
    name = name.strip()
    if not name or len(name) > LONGEST_NAME or any(not c.isprintable() for c in name):
        raise Refused(f"An account needs a name of 1 to {LONGEST_NAME} characters.")
    if role not in ROLES:
        raise Refused(f"A role is one of {', '.join(ROLES)}.")
    with workspace.store.atomic() as db:
        if table.user_named(db, name):
            raise Refused(f"There is already an account “{name}”.")
        row_id = table.add_user(db, name, role, password, email, workspace.wall.now())
        settings.log(db, workspace.now(), who, act, f"{name} ({role})")
    return row_id


def add(workspace: Workspace, name: str, role: str, password: str, email: str | None = None) -> int:
    """An account with its password; its id."""
    return _add(workspace, name, role, _fitting(password), email, COMMAND_LINE, "added account")


def invite(workspace: Workspace, name: str, role: str, email: str | None, who: str) -> str:
    """An account without a password yet; the token of the link by which its owner chooses one."""
    return new_link(workspace, _add(workspace, name, role, "", email, who, "invited"), "set password")


def new_link(workspace: Workspace, user: int, use: str) -> str:
    """The token of a link that is used once: to sign in, or to set a password. The earlier ones end."""
    token = secrets.token_urlsafe(24)
    with workspace.store.atomic() as db:
        table.end_links(db, user)
        table.add_link(db, _digest(token), user, use, workspace.wall.now() + LINK_HOLDS[use])
    return token


def link_again(workspace: Workspace, user: int, who: str) -> str:
    """A new link by which somebody sets their password: for an invitation that was lost, or a password."""
    owner = _found(workspace, user)
    with workspace.store.atomic() as db:
        settings.log(db, workspace.now(), who, "created a password link", owner.name)
    return new_link(workspace, user, "set password")


def link_owner(workspace: Workspace, token: str) -> User | None:
    """Whose a link to set a password is, while it holds."""
    row_id = table.link_user(workspace.store.read(), _digest(token), "set password", workspace.wall.now())
    return None if row_id is None else table.user(workspace.store.read(), row_id)


def set_password_by_link(workspace: Workspace, token: str, password: str) -> User:
    """The owner chooses a password; all their sessions end. NotSignedIn where the link does not hold."""
    hashed = _fitting(password)
    with workspace.store.atomic() as db:
        row_id = table.use_link(db, _digest(token), "set password", workspace.wall.now())
        owner = None if row_id is None else table.user(db, row_id)
        if owner is None:
            raise NotSignedIn("This link was already used or has expired. Ask for a new one.")
        _password_set(workspace, owner, hashed, owner.name)
    return owner


def _password_set(workspace: Workspace, owner: User, hashed: str, who: str, but: str = "") -> None:
    with workspace.store.atomic() as db:
        table.set_password(db, owner.id, hashed)
        table.end_sessions(db, owner.id, but)
        table.set_failures(db, _account(owner.name), 0, 0)
        settings.log(db, workspace.now(), who, "set a password", owner.name)


def set_password(workspace: Workspace, user: int, password: str, who: str, but: str = "") -> None:
    """Another password; the sessions end, but one where it is named."""
    _password_set(workspace, _found(workspace, user), _fitting(password), who, but)


def _keep_an_analyst(workspace: Workspace, owner: User) -> None:
    if owner.role == "analyst" and owner.password and table.count_analysts(workspace.store.read()) < 2:
        raise Refused(f"{owner.name} is the only analyst. Make another account an analyst first.")


def set_role(workspace: Workspace, user: int, role: str, who: str) -> None:
    """Another role; all sessions of the account end."""
    owner = _found(workspace, user)
    if role not in ROLES:
        raise Refused(f"A role is one of {', '.join(ROLES)}.")
    if role == owner.role:
        return
    _keep_an_analyst(workspace, owner)
    with workspace.store.atomic() as db:
        table.set_role(db, user, role)
        table.end_sessions(db, user)
        settings.log(db, workspace.now(), who, "set a role", f"{owner.name}: {owner.role} → {role}")


def remove(workspace: Workspace, user: int, who: str) -> None:
    """The account goes, with its sessions and tokens; what it did stays in the activity log."""
    owner = _found(workspace, user)
    _keep_an_analyst(workspace, owner)
    with workspace.store.atomic() as db:
        table.remove_user(db, user)
        settings.log(db, workspace.now(), who, "removed account", f"{owner.name} ({owner.role})")


def _account(name: str) -> str:
    return _digest(name.strip().casefold())


def _wait(failures: int) -> int:
    """Seconds before the next try is looked at."""
    over = failures - FREE_TRIES
    return 0 if over < 0 else min(FIRST_WAIT * 2 ** min(over, 10), LONGEST_WAIT)


def _is_right(row: User | None, password: str) -> bool:
    """Takes as long for a name that nobody has."""
    try:
        _HASHER.verify(row.password if row and row.password else _NOBODY, password)
    except (VerificationError, InvalidHashError):
        return False
    return row is not None and bool(row.password)


def _let_try(workspace: Workspace, name: str) -> int:
    """The failed tries of an account so far; TooMany while it has to wait."""
    failed, until = table.failures(workspace.store.read(), _account(name))
    now = workspace.wall.now()
    if now < until:
        raise TooMany(f"Too many failed attempts for this account. Try again in {until - now} s.", until - now)
    return failed


def _note_failure(workspace: Workspace, name: str, failed: int, act: str, network: str) -> None:
    with workspace.store.atomic() as db:
        table.set_failures(db, _account(name), failed + 1, workspace.wall.now() + _wait(failed + 1))
        settings.log(db, workspace.now(), name[:80], act, network)


def _code_fits(workspace: Workspace, row: User, code: str) -> bool:
    """A code of the authenticator, each taken once, or a recovery code."""
    code = code.replace(" ", "")
    step = code_step(row.totp_secret or "", code, workspace.wall.now())
    with workspace.store.atomic() as db:
        if step is not None:
            return table.take_totp_step(db, row.id, step)
        return len(code) > 6 and table.use_recovery_code(db, row.id, _digest(code.lower()))


def code_step(secret: str, code: str, at: int) -> int | None:
    """The time step whose code this is, one before and after now included (RFC 6238, 5.2)."""
    now = at // STEP
    try:
        totp = pyotp.TOTP(secret)
        return next((s for s in (now, now - 1, now + 1) if secrets.compare_digest(totp.at(s * STEP), code)), None)
    except (ValueError, TypeError):  # no base32, or a code of other letters than ASCII
        return None


def sign_in(workspace: Workspace, name: str, password: str, code: str, network: str = "") -> User:
    """Name, password and code are checked as a whole and take alike long, known or not. NotSignedIn where they do not
    fit; TooMany while the account waits after many failures."""
    failed = _let_try(workspace, name)
    row = table.user_named(workspace.store.read(), name)
    right = _is_right(row, password)
    if right and row is not None and row.totp_secret:
        right = _code_fits(workspace, row, code)
    if not right or row is None:
        _note_failure(workspace, name, failed, "failed to sign in", network)
        raise NotSignedIn("Wrong name, password or code.")
    with workspace.store.atomic() as db:
        table.set_failures(db, _account(name), 0, 0)
        settings.log(db, workspace.now(), row.name, "signed in", network)
    return row


@dataclass(frozen=True)
class Begun:
    """A session that has begun: ``secret`` is the cookie's."""

    secret: str
    csrf: str


def begin_session(workspace: Workspace, user: int, agent: str, network: str, *, proved: bool = True) -> Begun:
    """Begin a session; the words that its cookie and its pages hold."""
    begun, now = Begun(secrets.token_urlsafe(32), secrets.token_urlsafe(18)), workspace.wall.now()
    with workspace.store.atomic() as db:
        table.add_session(
            db,
            Session(_digest(begun.secret), user, begun.csrf, now, now, now if proved else 0, agent[:200], network[:60]),
        )
    return begun


def session_of(workspace: Workspace, secret: str) -> Session | None:
    """The session of a cookie, while it lasts; notes now and then that it is in use."""
    found = table.session(workspace.store.read(), _digest(secret))
    now = workspace.wall.now()
    if found is None or now - found.seen_at > IDLE or now - found.made_at > LONGEST:
        return None
    if now - found.seen_at > SEEN_EVERY:
        workspace.store.if_free(lambda db: table.see_session(db, found.hash, now))
    return found


def prove(workspace: Workspace, session: Session, password: str, network: str) -> None:
    """The password given again, for what weakens security."""
    owner = _found(workspace, session.user)
    failed = _let_try(workspace, owner.name)
    if not _is_right(owner, password):
        _note_failure(workspace, owner.name, failed, "gave a wrong password", network)
        raise Refused("Wrong password.")
    with workspace.store.atomic() as db:
        table.set_failures(db, _account(owner.name), 0, 0)
        table.prove_session(db, session.hash, workspace.wall.now())


def is_proved(workspace: Workspace, session: Session) -> bool:
    """Whether the password was entered a short time ago."""
    return workspace.wall.now() - session.proved_at <= PROVED


def end_session(workspace: Workspace, session: Session) -> None:
    """End a session."""
    with workspace.store.atomic() as db:
        table.end_session(db, session.hash)


def sign_out_everywhere(workspace: Workspace, user: int, who: str, but: str = "") -> int:
    """End all sessions of an account, but one where it is named; how many ended."""
    owner = _found(workspace, user)
    with workspace.store.atomic() as db:
        n = table.end_sessions(db, user, but)
        settings.log(db, workspace.now(), who, "ended sessions", f"{owner.name}: {n}")
    return n


def end_one_session(workspace: Workspace, user: int, mark: str, who: str) -> None:
    """End one of somebody's sessions, named by the first letters of its hash."""
    for s in table.sessions_of(workspace.store.read(), user):
        if s.hash.startswith(mark) and len(mark) >= 8:
            with workspace.store.atomic() as db:
                table.end_session(db, s.hash)
                settings.log(db, workspace.now(), who, "ended a session", s.agent[:60])
            return
    raise Missing("This session does not exist; it may have ended.")


def second_factor_secret(name: str) -> tuple[str, str]:
    """A fresh secret and the otpauth address for an authenticator; kept only when a code proves it."""
    secret = pyotp.random_base32()
    return secret, pyotp.TOTP(secret).provisioning_uri(name=name, issuer_name="Open Meadow")


def save_second_factor(workspace: Workspace, user: int, secret: str, code: str, but: str = "") -> list[str]:
    """The secret, proved by a code; the recovery codes, said once. Other sessions end."""
    step = code_step(secret, code, workspace.wall.now())
    if len(secret) < 16 or step is None:
        raise Refused("That code is not valid. Try the next one from your authenticator app.")
    codes = [f"{secrets.token_hex(3)}-{secrets.token_hex(3)}" for _ in range(RECOVERY_CODES)]
    owner = _found(workspace, user)
    with workspace.store.atomic() as db:
        table.set_totp(db, user, secret, step)
        table.set_recovery_codes(db, user, [_digest(c) for c in codes])
        table.end_sessions(db, user, but)
        settings.log(db, workspace.now(), owner.name, "turned on two-factor authentication", owner.name)
    return codes


def drop_second_factor(workspace: Workspace, user: int, who: str, but: str = "") -> None:
    """Sign-in without a code from now on; the sessions end, but one where it is named."""
    owner = _found(workspace, user)
    with workspace.store.atomic() as db:
        table.set_totp(db, user, None)
        table.set_recovery_codes(db, user, ())
        table.end_sessions(db, user, but)
        settings.log(db, workspace.now(), who, "turned off two-factor authentication", owner.name)


def new_token(workspace: Workspace, user: int, name: str, scope: str, days: int | None = None) -> str:
    """A token for scripts; only its hash is kept. ``days`` until it expires, None for never."""
    name = name.strip()
    if not name or len(name) > LONGEST_NAME:
        raise Refused("A token needs a name that says what uses it.")
    if scope not in SCOPES:
        raise Refused(f"The scope of a token is one of {', '.join(SCOPES)}.")
    token, now, owner = secrets.token_urlsafe(32), workspace.wall.now(), _found(workspace, user)
    with workspace.store.atomic() as db:
        table.add_token(db, user, name, _digest(token), scope, now, None if days is None else now + days * DAY)
        settings.log(db, workspace.now(), owner.name, "created a token", f"{name} ({scope})")
    return token


def end_token(workspace: Workspace, row_id: int, who: str, user: int | None = None) -> None:
    """Revoke a token, of one account where given; Missing where there is none."""
    with workspace.store.atomic() as db:
        if not table.end_token(db, row_id, user):
            raise Missing("This token does not exist.")
        settings.log(db, workspace.now(), who, "revoked a token", str(row_id))


def by_token(workspace: Workspace, secret: str) -> Token | None:
    """The token, while it holds; notes now and then that it is in use."""
    found, now = table.token(workspace.store.read(), _digest(secret)), workspace.wall.now()
    if found is None or (found.expires_at is not None and found.expires_at < now):
        return None
    if found.used_at is None or now - found.used_at > SEEN_EVERY:
        workspace.store.if_free(lambda db: table.use_token(db, found.id, now))
    return found


def enter_once(workspace: Workspace, token: str) -> int | None:
    """Whose a link to sign in is; it is used up."""
    with workspace.store.atomic() as db:
        return table.use_link(db, _digest(token), "sign in", workspace.wall.now())


def tend(workspace: Workspace) -> None:
    """Sessions and links that are over are removed."""
    now = workspace.wall.now()
    with workspace.store.atomic() as db:
        table.end_old_sessions(db, now - IDLE, now - LONGEST, now)
