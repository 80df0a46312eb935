"""The relay of this workspace: its settings, its check, and what real connections showed."""

from __future__ import annotations

import os
import secrets
from dataclasses import asdict, dataclass
from pathlib import Path

from openmeadow.core.authentication import dkim
from openmeadow.core.authentication.findings import HOLDS, MEND, UNKNOWN, RecordFinding
from openmeadow.core.delivery.relay_failures import Failure
from openmeadow.core.errors import Missing, Refused
from openmeadow.core.message.assembly import Envelope, assemble
from openmeadow.core.message.body import Said
from openmeadow.desk.desk import Desk
from openmeadow.store import relay as relay_table
from openmeadow.store import senders, workspace
from openmeadow.wire.smtp_client import (
    Connected,
    HandOver,
    Relay,
    RelayProblem,
    RelaySettings,
    TlsMode,
    is_loopback,
    try_relay,
)

PASSWORD_FILE = "MEADOW_RELAY_PASSWORD_FILE"
RECORD = "Relay TLS"
ALERT_AFTER = 300  # seconds that a relay may be away before somebody is told


def _helo_of(public_url: str) -> str:
    """The host of the public address; an address literal (RFC 5321 4.1.3) where it has no name."""
    host = public_url.partition("//")[2].partition("/")[0].partition(":")[0]
    return f"[{host}]" if host.replace(".", "").isdigit() else host or "localhost"


def relay_settings(desk: Desk) -> RelaySettings:
    """The relay's settings; the password from its setting or from the file that the environment names."""
    s = workspace.settings(desk.store.read())
    password, file = str(s["relay_password"]), os.environ.get(PASSWORD_FILE, "")
    if file and not password:
        try:
            password = Path(file).read_text(encoding="utf-8").rstrip("\r\n")
        except (OSError, UnicodeDecodeError) as e:
            raise Missing(
                f"The file {file} of {PASSWORD_FILE} cannot be opened; the relay's password stands in it."
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


def relay(desk: Desk) -> Relay:
    """A connection to the relay that is noted with what it turned out to be."""

    def note(c: Connected) -> None:
        with desk.store.atomic() as db:
            relay_table.record_connection(db, desk.now(), c.host, c.port, c.mode, c.version, c.verified, c.signed_in)

    return Relay(relay_settings(desk), note)


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
        tls = {"mode": self.mode, "version": self.version or None, "verified": self.verified}
        flat = asdict(self)
        return {k: flat[k] for k in ("state", "host", "port")} | {
            "tls": tls,
            "signed_in": self.signed_in,
            "meaning": self.meaning,
        }


def check(desk: Desk, send_to: str = "") -> RelayCheck:
    """Connect as a real send does, sign in, and hand over one small message to ``send_to`` where it is given."""
    s = relay_settings(desk)
    sender, message = _test_message(desk, send_to) if send_to else ("", b"")
    connected, problem = try_relay(s, sender, send_to, message)
    state, meaning, reached = "pass", "", True
    if problem is None:
        took = f" It took a message for {send_to}." if send_to else ""
        meaning = f"{_as_connected(connected)}{took}" if connected else took
    elif isinstance(problem, HandOver):
        state = "unknown" if problem.outcome in ("deferred", "in doubt") else "fail"
        words = f"{problem.code} {problem.text}".strip()
        meaning = f"The relay takes mail from us, and did not take the message for {send_to}: {words}."
    else:
        state, meaning = "fail", str(problem)
        if isinstance(problem, RelayProblem) and problem.failure.is_temporary:
            reached = problem.failure.failure is Failure.BUSY
            state = "unknown" if problem.failure.failure in (Failure.BUSY, Failure.NO_REPLY) else "fail"
    c = connected or Connected(s.host, s.port, s.mode.value, "", False, False)
    return RelayCheck(state, s.host, s.port, c.mode, c.version, c.verified, c.signed_in, meaning, reached)


def _as_connected(c: Connected) -> str:
    if not c.version:
        local = " It is on this machine, so nothing passes a network." if is_loopback(c.host) else ""
        return f"The relay at {c.host} port {c.port} takes our mail, in clear.{local}"
    verified = "its certificate verified" if c.verified else "its certificate not verified"
    signed_in = ", signed in" if c.signed_in else ""
    return f"The relay at {c.host} port {c.port} takes our mail by {c.version}, {verified}{signed_in}."


def _test_message(desk: Desk, to: str) -> tuple[str, bytes]:
    """(return path, message) of the check."""
    row, now, name = senders.ready_address(desk.store.read()), desk.now(), str(desk.setting("name"))
    text = Said(f"Relay check of {name}", "", f"The relay of {name} took this message, so it takes its mail.\n")
    if row is None or not row["private_key"]:
        domain = to.rpartition("@")[2]
        return to, assemble(text, Envelope(name, to, to, f"<check.{secrets.token_hex(8)}@{domain}>", now))
    domain = str(row["domain_name"])
    mark = f"<check.{secrets.token_hex(8)}@{domain}>"
    message = assemble(text, Envelope(name, str(row["address"]), to, mark, now))
    signed = dkim.Signer(domain, row["selector"], row["private_key"]).header(message, now) + message
    return f"check@bounce.{domain}", signed


def finding(desk: Desk) -> RecordFinding:
    """The record "Relay TLS", from what real connections were."""
    s = relay_settings(desk)
    kinds = relay_table.connections_to(desk.store.read(), s.host, s.port)
    where, expected = f"{s.host} port {s.port}", "TLS with a verified certificate"
    if not kinds:
        meaning = "Nothing was sent through it yet; check the relay to see how it is reached."
        return RecordFinding(RECORD, UNKNOWN, expected, f"no connection to {where} yet", meaning)
    last = kinds[0]
    if not last.version:
        local = is_loopback(s.host)
        meaning = (
            "It is on this machine, so nothing passes a network."
            if local
            else "Mail to the relay can be read on the way: let it offer STARTTLS, and set relay_tls to starttls."
        )
        return RecordFinding(
            RECORD, HOLDS if local else MEND, expected, f"the last connection to {where} was in clear", meaning
        )
    found = f"{last.version} to {where} in the last of {last.connections:,} connections like it"
    if last.verified:
        return RecordFinding(RECORD, HOLDS, expected, f"{found}, certificate verified", "Mail reaches the relay unread.")
    meaning = "Somebody could stand in for the relay: name the authority in relay_ca, and set relay_tls to starttls."
    return RecordFinding(RECORD, MEND, expected, f"{found}, certificate not verified", meaning)


def goes_in_clear(desk: Desk) -> bool:
    """Whether mail crosses a network unread-proof by nothing: the last connection to another host was in clear."""
    s = relay_settings(desk)
    kinds = relay_table.connections_to(desk.store.read(), s.host, s.port)
    return not is_loopback(s.host) and (not kinds[0].version if kinds else s.mode is TlsMode.NONE)


def note_away(desk: Desk, meaning: str) -> bool:
    """The relay takes nothing for now. True where that is new."""
    before = relay_table.status(desk.store.read())
    if before is not None and before.state == "away" and before.meaning == meaning:
        return False
    new = before is None or before.state != "away"
    since = desk.now() if before is None or new else before.since
    with desk.store.atomic() as db:
        relay_table.set_status(db, "away", since, meaning)
    return new


def note_up(desk: Desk) -> bool:
    """The relay takes mail again. True where it was away."""
    before = relay_table.status(desk.store.read())
    if before is None or before.state == "up":
        return False
    with desk.store.atomic() as db:
        relay_table.set_status(db, "up", desk.now(), "")
    return True


@dataclass(frozen=True)
class Away:
    """The relay takes nothing ``since`` a moment; ``waiting`` deliveries are due."""

    since: int
    meaning: str
    waiting: int


def away(desk: Desk) -> Away | None:
    """Whether the relay is away now, for every screen that says so."""
    db = desk.store.read()
    status = relay_table.status(db)
    if status is None or status.state != "away":
        return None
    return Away(status.since, status.meaning, relay_table.waiting_for_relay(db, desk.now()))
