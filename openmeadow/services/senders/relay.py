"""The relay of this workspace: its settings, its check, and what real connections showed."""

from __future__ import annotations

import os
import secrets
from dataclasses import asdict, dataclass
from pathlib import Path

from openmeadow.core.authentication import dkim
from openmeadow.core.authentication.findings import PASS, UNKNOWN, WARNING, RecordFinding
from openmeadow.core.delivery.relay_failures import Failure
from openmeadow.core.errors import CannotOpen, Refused
from openmeadow.core.message.assembly import Envelope, assemble
from openmeadow.core.message.personalisation import Said
from openmeadow.net.smtp_client import Connected, Relay, RelayProblem, RelaySettings, TlsMode, is_loopback, try_relay
from openmeadow.net.smtp_transaction import Submission
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.senders import relay as relay_table
from openmeadow.store.senders import senders

PASSWORD_FILE = "MEADOW_RELAY_PASSWORD_FILE"
RECORD = "Relay TLS"
ALERT_AFTER = 300  # seconds that a relay may be away before somebody is told


def _helo_of(public_url: str) -> str:
    """The host of the public address; an address literal (RFC 5321 4.1.3) where it has no name."""
    host = public_url.partition("//")[2].partition("/")[0].partition(":")[0]
    return f"[{host}]" if host.replace(".", "").isdigit() else host or "localhost"


def relay_settings(workspace: Workspace) -> RelaySettings:
    """The relay's settings; the password from its setting or from the file that the environment names."""
    s = settings.settings(workspace.store.read())
    password, file = str(s["relay_password"]), os.environ.get(PASSWORD_FILE, "")
    if file and not password:
        try:
            password = Path(file).read_text(encoding="utf-8").rstrip("\r\n")
        except (OSError, UnicodeDecodeError) as e:
            raise CannotOpen(
                f"The file {file} of {PASSWORD_FILE} cannot be opened; it should contain the relay password."
            ) from e
    tls = str(s["relay_tls"])
    if tls and tls not in set(TlsMode):
        raise Refused(f"relay_tls is “{tls[:40]}”; it is one of {', '.join(TlsMode)}.")
    return RelaySettings(
        str(s["relay_host"]),
        int(s["relay_port"]),
        str(s["relay_helo"]) or _helo_of(str(s["public_url"])),
        str(s["relay_user"]),
        password,
        tls,
        str(s["relay_ca"]),
    )


def relay(workspace: Workspace) -> Relay:
    """A connection to the relay that is noted with what it turned out to be."""

    def note(c: Connected) -> None:
        with workspace.store.atomic() as db:
            relay_table.record_connection(db, workspace.now(), c.host, c.port, c.mode, c.version, c.verified, c.signed_in)

    return Relay(relay_settings(workspace), note)


@dataclass(frozen=True)
class RelayCheck:
    """``state`` pass, fail or unknown (it could not be found out); ``meaning`` says what happened and what to do."""

    state: str
    host: str
    port: int
    mode: str
    version: str
    verified: bool
    signed_in: bool
    meaning: str
    reached: bool

    def json(self) -> dict[str, object]:
        """As the command prints it."""
        tls = {"mode": self.mode, "version": self.version or None, "verified": self.verified}
        flat = asdict(self)
        return {k: flat[k] for k in ("state", "host", "port")} | {
            "tls": tls,
            "signed_in": self.signed_in,
            "meaning": self.meaning,
        }


def check(workspace: Workspace, send_to: str = "") -> RelayCheck:
    """Connect as a real send does, sign in, and send one small message to ``send_to`` where it is given."""
    s = relay_settings(workspace)
    sender, message = _test_message(workspace, send_to) if send_to else ("", b"")
    connected, problem = try_relay(s, sender, send_to, message)
    state, meaning, reached = "pass", "", True
    if problem is None:
        took = f" It accepted a message for {send_to}." if send_to else ""
        meaning = f"{_as_connected(connected)}{took}" if connected else took
    elif isinstance(problem, Submission):
        state = "unknown" if problem.outcome in ("deferred", "unconfirmed") else "fail"
        words = f"{problem.code} {problem.text}".strip()
        meaning = f"The relay accepts our mail but rejected the message for {send_to}: {words}."
    else:
        state, meaning = "fail", str(problem)
        if isinstance(problem, RelayProblem) and problem.failure.is_temporary:
            reached = problem.failure.failure is Failure.BUSY
            state = "unknown" if problem.failure.failure in (Failure.BUSY, Failure.NO_REPLY) else "fail"
    c = connected or Connected(s.host, s.port, s.mode.value, "", False, False)
    return RelayCheck(state, s.host, s.port, c.mode, c.version, c.verified, c.signed_in, meaning, reached)


def _as_connected(c: Connected) -> str:
    if not c.version:
        local = " It is on this machine; no network is involved." if is_loopback(c.host) else ""
        return f"The relay at {c.host} port {c.port} accepts our mail, unencrypted.{local}"
    verified = "its certificate verified" if c.verified else "its certificate not verified"
    signed_in = ", signed in" if c.signed_in else ""
    return f"The relay at {c.host} port {c.port} accepts our mail with {c.version}, {verified}{signed_in}."


def _test_message(workspace: Workspace, to: str) -> tuple[str, bytes]:
    """(return path, message) of the check."""
    row, now, name = senders.ready_address(workspace.store.read()), workspace.now(), str(workspace.setting("name"))
    text = Said(f"Relay check of {name}", "", f"The relay of {name} accepted this message.\n")
    if row is None or not row.private_key:
        domain = to.rpartition("@")[2]
        return to, assemble(text, Envelope(name, to, to, f"<check.{secrets.token_hex(8)}@{domain}>", now))
    domain = str(row.domain_name)
    mark = f"<check.{secrets.token_hex(8)}@{domain}>"
    message = assemble(text, Envelope(name, str(row.address), to, mark, now))
    signed = dkim.sign(message, domain, row.selector, row.private_key, now)
    return f"check@bounce.{domain}", signed


def finding(workspace: Workspace) -> RecordFinding:
    """The record "Relay TLS", from what real connections were."""
    s = relay_settings(workspace)
    kinds = relay_table.connections_to(workspace.store.read(), s.host, s.port)
    where, expected = f"{s.host} port {s.port}", "TLS with a verified certificate"
    if not kinds:
        meaning = "Nothing has been sent through it yet. Check the relay to test the connection."
        return RecordFinding(RECORD, UNKNOWN, expected, f"no connection to {where} yet", meaning)
    last = kinds[0]
    if not last.version:
        local = is_loopback(s.host)
        meaning = (
            "It is on this machine; no network is involved."
            if local
            else "Mail to the relay can be read in transit. Enable STARTTLS on it and set relay_tls to starttls."
        )
        return RecordFinding(
            RECORD, PASS if local else WARNING, expected, f"the last connection to {where} was unencrypted", meaning
        )
    found = f"{last.version} to {where} in the last of {last.connections:,} connections like it"
    if last.verified:
        return RecordFinding(RECORD, PASS, expected, f"{found}, certificate verified", "The connection is encrypted.")
    meaning = (
        "The server's identity is not verified. Set its certificate authority in relay_ca, and relay_tls to starttls."
    )
    return RecordFinding(RECORD, WARNING, expected, f"{found}, certificate not verified", meaning)


def goes_in_clear(workspace: Workspace) -> bool:
    """Whether mail crosses a network unread-proof by nothing: the last connection to another host was unencrypted."""
    s = relay_settings(workspace)
    kinds = relay_table.connections_to(workspace.store.read(), s.host, s.port)
    return not is_loopback(s.host) and (not kinds[0].version if kinds else s.mode is TlsMode.NONE)


def note_away(workspace: Workspace, meaning: str) -> bool:
    """The relay takes nothing for now. True where that is new."""
    before = relay_table.status(workspace.store.read())
    if before is not None and before.state == "away" and before.meaning == meaning:
        return False
    new = before is None or before.state != "away"
    since = workspace.now() if before is None or new else before.since
    with workspace.store.atomic() as db:
        relay_table.set_status(db, "away", since, meaning)
    return new


def note_up(workspace: Workspace) -> bool:
    """The relay takes mail again. True where it was away."""
    before = relay_table.status(workspace.store.read())
    if before is None or before.state == "up":
        return False
    with workspace.store.atomic() as db:
        relay_table.set_status(db, "up", workspace.now(), "")
    return True


@dataclass(frozen=True)
class Away:
    """The relay takes nothing ``since`` a moment; ``waiting`` deliveries are due."""

    since: int
    meaning: str
    waiting: int


def away(workspace: Workspace) -> Away | None:
    """Whether the relay is away now, for every screen that says so."""
    db = workspace.store.read()
    status = relay_table.status(db)
    if status is None or status.state != "away":
        return None
    return Away(status.since, status.meaning, relay_table.waiting_for_relay(db, workspace.now()))
