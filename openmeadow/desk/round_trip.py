"""A message that really goes round: by the relay to our own return domain, back at the intake, its one-click pressed."""

from __future__ import annotations

import email
import hashlib
import hmac
import re
import urllib.parse
from typing import Any

from openmeadow.core.authentication import dkim
from openmeadow.core.authentication.findings import BROKEN, HOLDS, UNKNOWN, RecordFinding
from openmeadow.core.message.assembly import Envelope, assemble
from openmeadow.core.message.body import Said
from openmeadow.desk import relay as desk_relay
from openmeadow.desk import senders as desk_senders
from openmeadow.desk.desk import Desk
from openmeadow.store import senders
from openmeadow.wire.http_client import Unreachable, fetch
from openmeadow.wire.tokens import Tokens

EVERY, GIVEN_UP = 86_400, 3600
REFUSED, UNREACHED = -1, -2  # in place of the moment of the click
_LINK = re.compile(r"<(https?://[^<>\s]+)>")
_TO = re.compile(r"proof-(\d+)-([0-9a-f]{12})@", re.I)
RECORD = "Round trip"


def _mark(tokens: Tokens, domain: int) -> str:
    return hmac.new(tokens.secret, f"proof{domain}".encode(), hashlib.sha256).hexdigest()[:12]


def send(desk: Desk, id: int) -> bool:
    """Send the message for a domain; True when the relay took it. None goes while the public address does not answer
    from here: its one-click could not be pressed."""
    row, tokens, now = senders.domain(desk.store.read(), id), Tokens(desk.folder), desk.now()
    if (
        row is None
        or not row["private_key"]
        or not _answers(f"{str(desk.setting('public_url')).rstrip('/')}/healthz", _own(desk))
    ):
        return False
    back = desk_senders.return_domain(row["name"])
    to = f"proof-{id}-{_mark(tokens, id)}@{back}"
    link = f"{str(desk.setting('public_url')).rstrip('/')}/u/{tokens.make('q', id)}"
    said = Said("Round trip", "", "A message that goes round, to prove the way back.\n")
    envelope = Envelope(
        "Open Meadow", f"proof@{row['name']}", to, f"<proof.{id}.{now}@{row['name']}>", now, unsubscribe=link
    )
    message = assemble(said, envelope)
    message = dkim.Signer(row["name"], row["selector"], row["private_key"]).header(message, now) + message
    with desk.store.atomic() as db:
        senders.set_proof(db, id, "click", None)
    out = desk_relay.relay(desk)
    try:
        taken = out.hand_over(f"proof@{back}", to, message).outcome == "taken"
    finally:
        out.close()
    with desk.store.atomic() as db:
        senders.set_proof(db, id, "sent", now if taken else None)
    return taken


def is_ours(tokens: Tokens, to: str) -> bool:
    """Whether an address was made here for one of these."""
    found = _TO.match(to)
    return found is not None and hmac.compare_digest(found.group(2).lower(), _mark(tokens, int(found.group(1))))


def came_back(desk: Desk, tokens: Tokens, to: str, raw: bytes) -> bool:
    """Whether a message at the intake is one of these; then it is noted, and its one-click is pressed."""
    found = _TO.match(to)
    if found is None or not is_ours(tokens, to):
        return False
    id = int(found.group(1))
    with desk.store.atomic() as db:
        senders.set_proof(db, id, "back", desk.now())
    message = email.message_from_bytes(raw)
    link = _LINK.search(" ".join(str(message.get("List-Unsubscribe", "")).split()))
    if link and message.get("List-Unsubscribe-Post") == "List-Unsubscribe=One-Click":
        data = urllib.parse.urlencode({"List-Unsubscribe": "One-Click"}).encode()
        form = {"Content-Type": "application/x-www-form-urlencoded"}
        try:
            reply = fetch(link.group(1), method="POST", body=data, headers=form, allowed=_own(desk), largest=100)
            if reply.status >= 400:
                _not_pressed(desk, id, REFUSED)
        except Unreachable:
            _not_pressed(desk, id, UNREACHED)
    else:  # the headers were lost on the way
        _not_pressed(desk, id, UNREACHED)
    return True


def _not_pressed(desk: Desk, id: int, why: int) -> None:
    with desk.store.atomic() as db:
        senders.set_proof(db, id, "click", why)


def _own(desk: Desk) -> list[str]:
    """The public address is ours: it may stand in our own network."""
    return [urllib.parse.urlsplit(str(desk.setting("public_url"))).hostname or "", *desk.setting("inside_hosts")]


def _answers(url: str, allowed: list[str]) -> bool:
    try:
        return fetch(url, allowed=allowed, seconds=3).status == 200
    except Unreachable:
        return False


def pressed(desk: Desk, id: int) -> None:
    with desk.store.atomic() as db:
        senders.set_proof(db, id, "click", desk.now())


def due(row: Any, now: int) -> bool:
    """Once a day, and again after an hour in which nothing came back."""
    if row["private_key"] is None:
        return False
    sent, back = row["proof_sent_at"], row["proof_back_at"]
    return sent is None or now - sent >= (EVERY if back is not None and back >= sent else GIVEN_UP)


def finding(row: Any, now: int) -> RecordFinding | None:
    """What the last one showed; None while that is open."""
    expected = "a message of ours comes back to the intake, and its one-click works"
    sent, back, click = row["proof_sent_at"], row["proof_back_at"], row["proof_click_at"]
    if sent is None:
        return None
    if back is not None and back >= sent:
        if click is not None and click >= sent:
            found = f"back after {back - sent} s, one-click answered"
            return RecordFinding(RECORD, HOLDS, expected, found, "Bounces come in, and one click unsubscribes.")
        if click == REFUSED:
            found = "came back, but its one-click was refused"
            return RecordFinding(RECORD, BROKEN, expected, found, "The public address leads to something else.")
        if click == UNREACHED:
            found = "came back; its one-click could not be reached from here"
            return RecordFinding(RECORD, UNKNOWN, expected, found, "Nothing is concluded; it is tried again.")
        return None  # its one-click is being pressed
    if now - sent < GIVEN_UP:
        return None
    meaning = "Mail to the return domain does not reach the intake; bounces that come later are lost. Look at its MX."
    return RecordFinding(RECORD, UNKNOWN, expected, "did not come back within an hour", meaning)
