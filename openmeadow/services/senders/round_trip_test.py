"""A message that really goes round: by the relay to our own return domain, back at the intake, its one-click pressed."""

from __future__ import annotations

import email
import hashlib
import hmac
import re
import urllib.parse

from openmeadow.core.authentication import dkim
from openmeadow.core.authentication.findings import FAIL, PASS, UNKNOWN, RecordFinding
from openmeadow.core.authentication.hosts import return_domain
from openmeadow.core.message.assembly import Envelope, assemble
from openmeadow.core.message.personalisation import Said
from openmeadow.core.moments import DAY, HOUR
from openmeadow.net.http_client import Unreachable, fetch
from openmeadow.net.signed_tokens import Tokens
from openmeadow.services.senders import relay as relay_service
from openmeadow.services.workspace import Workspace
from openmeadow.store.senders import senders
from openmeadow.store.senders.records import Domain

EVERY, GIVEN_UP = DAY, HOUR
REFUSED, UNREACHED = -1, -2  # in place of the moment of the click
_LINK = re.compile(r"<(https?://[^<>\s]+)>")
_TO = re.compile(r"proof-(\d+)-([0-9a-f]{12})@", re.I)
RECORD = "Bounce and unsubscribe test"


def _mark(tokens: Tokens, domain: int) -> str:
    return hmac.new(tokens.secret, f"proof{domain}".encode(), hashlib.sha256).hexdigest()[:12]


def send(workspace: Workspace, row_id: int) -> bool:
    """Send the message for a domain; True when the relay took it. None goes while the public address does not answer
    from here: its one-click could not be pressed."""
    row, tokens, now = senders.domain(workspace.store.read(), row_id), Tokens(workspace.folder), workspace.now()
    if (
        row is None
        or not row.private_key
        or not _answers(f"{str(workspace.setting('public_url')).rstrip('/')}/healthz", _own(workspace))
    ):
        return False
    back = return_domain(row.name)
    to = f"proof-{row_id}-{_mark(tokens, row_id)}@{back}"
    link = f"{str(workspace.setting('public_url')).rstrip('/')}/u/{tokens.make('q', row_id)}"
    said = Said("Delivery test", "", "Test email for bounce and unsubscribe handling.\n")
    envelope = Envelope(
        "Open Meadow", f"proof@{row.name}", to, f"<proof.{row_id}.{now}@{row.name}>", now, unsubscribe=link
    )
    message = assemble(said, envelope)
    message = dkim.sign(message, row.name, row.selector, row.private_key, now)
    with workspace.store.atomic() as db:
        senders.set_proof(db, row_id, "click", None)
    out = relay_service.relay(workspace)
    try:
        taken = out.submit(f"proof@{back}", to, message).outcome == "taken"
    finally:
        out.close()
    with workspace.store.atomic() as db:
        senders.set_proof(db, row_id, "sent", now if taken else None)
    return taken


def is_ours(tokens: Tokens, to: str) -> bool:
    """Whether an address was made here for one of these."""
    found = _TO.match(to)
    return found is not None and hmac.compare_digest(found.group(2).lower(), _mark(tokens, int(found.group(1))))


def came_back(workspace: Workspace, tokens: Tokens, to: str, raw: bytes) -> bool:
    """Whether a message at the intake is one of these; then it is noted, and its one-click is pressed."""
    found = _TO.match(to)
    if found is None or not is_ours(tokens, to):
        return False
    row_id = int(found.group(1))
    with workspace.store.atomic() as db:
        senders.set_proof(db, row_id, "back", workspace.now())
    message = email.message_from_bytes(raw)
    link = _LINK.search(" ".join(str(message.get("List-Unsubscribe", "")).split()))
    if link and message.get("List-Unsubscribe-Post") == "List-Unsubscribe=One-Click":
        data = urllib.parse.urlencode({"List-Unsubscribe": "One-Click"}).encode()
        form = {"Content-Type": "application/x-www-form-urlencoded"}
        try:
            reply = fetch(link.group(1), method="POST", body=data, headers=form, allowed=_own(workspace), largest=100)
            if reply.status >= 400:
                _not_pressed(workspace, row_id, REFUSED)
        except Unreachable:
            _not_pressed(workspace, row_id, UNREACHED)
    else:  # the headers were lost on the way
        _not_pressed(workspace, row_id, UNREACHED)
    return True


def _not_pressed(workspace: Workspace, row_id: int, why: int) -> None:
    with workspace.store.atomic() as db:
        senders.set_proof(db, row_id, "click", why)


def _own(workspace: Workspace) -> list[str]:
    """The public address is ours: it may stand in our own network."""
    return [
        urllib.parse.urlsplit(str(workspace.setting("public_url"))).hostname or "",
        *workspace.setting("inside_hosts"),
    ]


def _answers(url: str, allowed: list[str]) -> bool:
    try:
        return fetch(url, allowed=allowed, seconds=3).status == 200
    except Unreachable:
        return False


def pressed(workspace: Workspace, row_id: int) -> None:
    """Keep that the unsubscribe of a round trip's message was pressed."""
    with workspace.store.atomic() as db:
        senders.set_proof(db, row_id, "click", workspace.now())


def due(row: Domain, now: int) -> bool:
    """Once a day, and again after an hour in which nothing came back."""
    if row.private_key is None:
        return False
    sent, back = row.proof_sent_at, row.proof_back_at
    return sent is None or now - sent >= (EVERY if back is not None and back >= sent else GIVEN_UP)


def finding(row: Domain, now: int) -> RecordFinding | None:
    """What the last one showed; None while that is open."""
    expected = "a test message returns to the intake, and its one-click unsubscribe works"
    sent, back, click = row.proof_sent_at, row.proof_back_at, row.proof_click_at
    if sent is None:
        return None
    if back is not None and back >= sent:
        if click is not None and click >= sent:
            found = f"returned after {back - sent} s, one-click unsubscribe works"
            return RecordFinding(RECORD, PASS, expected, found, "Bounces and one-click unsubscribe work.")
        if click == REFUSED:
            found = "returned, but its one-click unsubscribe was rejected"
            return RecordFinding(RECORD, FAIL, expected, found, "The public address leads to another server.")
        if click == UNREACHED:
            found = "returned; its one-click unsubscribe could not be reached from here"
            return RecordFinding(RECORD, UNKNOWN, expected, found, "Inconclusive; it will be retried.")
        return None  # its one-click is being pressed
    if now - sent < GIVEN_UP:
        return None
    meaning = "Mail to the return domain does not reach the intake, so later bounces are lost. Check its MX record."
    return RecordFinding(RECORD, UNKNOWN, expected, "did not return within an hour", meaning)
