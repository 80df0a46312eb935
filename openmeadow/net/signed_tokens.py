"""Signed tokens for public addresses and return paths. They carry numbers, never an address."""

from __future__ import annotations

import base64
import hashlib
import hmac
import re
import secrets
import struct
from pathlib import Path
from typing import NamedTuple

from itsdangerous import Signer

from openmeadow.core.ids import CampaignId, DeliveryId

_SHAPE = struct.Struct(">sQI")
_RETURN_PATH = re.compile(r"\bb(\d{1,18})-([0-9a-f]{12})@", re.I)
_UNSUBSCRIBE = re.compile(r"\bu(\d{1,18})-([0-9a-f]{12})@", re.I)
_MESSAGE_ID = re.compile(r"\bd(\d{1,18})\.c\d{1,18}\.([0-9a-f]{12})@", re.I)


class Meant(NamedTuple):
    """``kind``: o open, c click, u unsubscribe, k confirm a from address, m view, p preferences,
    b a booking told back."""

    kind: str
    number: int
    link: int


class Tokens:
    """Made from the workspace's secret, a file in the data folder."""

    def __init__(self, folder: Path) -> None:
        path = folder / "secret"
        if not path.exists():
            path.touch(0o600)  # for its owner alone before anything stands in it
            path.write_bytes(secrets.token_bytes(32))
        self._know(path.read_bytes())

    def _know(self, secret: bytes) -> None:
        self.secret = secret
        self._key = Signer(secret, salt="public", sep="~", digest_method=hashlib.sha256).derive_key()

    def __getstate__(self) -> bytes:
        return self.secret

    def __setstate__(self, secret: bytes) -> None:
        self._know(secret)

    def make(self, kind: str, number: int, link: int = 0) -> str:
        """A signed token of a kind that carries a number, and a link's where there is one."""
        body = base64.urlsafe_b64encode(_SHAPE.pack(kind.encode(), number, link)).rstrip(b"=")
        # as itsdangerous' signer does it, with the key that it would derive anew each time
        mark = base64.urlsafe_b64encode(hmac.digest(self._key, body, "sha256")).rstrip(b"=")
        return (body + b"~" + mark).decode()

    def read(self, token: str, kind: str) -> Meant | None:
        """What a token means, or None when it was not made here for this use."""
        body = token.partition("~")[0]
        try:
            _, number, link = _SHAPE.unpack(base64.urlsafe_b64decode(body + "=" * (-len(body) % 4)))
            given = token.encode()
        except (ValueError, struct.error):
            return None
        # made anew and compared: one writing only, other letters for the same bits are not a token made here
        return Meant(kind, number, link) if hmac.compare_digest(self.make(kind, number, link).encode(), given) else None

    def return_path(self, delivery: DeliveryId, domain: str) -> str:
        """A return path of its own for each delivery (VERP)."""
        return f"b{delivery}-{self._mark('verp', delivery)}@{domain}"

    def message_id(self, delivery: DeliveryId, campaign: CampaignId, domain: str) -> str:
        """The Message-ID of a delivery, signed, so that a report that quotes it can be believed."""
        return f"<d{delivery}.c{campaign}.{self._mark('message', delivery)}@{domain}>"

    def unsubscribe_address(self, delivery: DeliveryId, domain: str) -> str:
        """Where a message to unsubscribe goes (RFC 2369)."""
        return f"u{delivery}-{self._mark('unsubscribe', delivery)}@{domain}"

    def unsubscribing(self, address: str) -> int | None:
        """The delivery that an address to unsubscribe was made for."""
        return self._signed(_UNSUBSCRIBE, "unsubscribe", address)

    def delivery_by_id(self, message_id: str) -> int | None:
        """The delivery of a Message-ID that was signed here."""
        return self._signed(_MESSAGE_ID, "message", message_id)

    def deliveries_in(self, line: str) -> set[int]:
        """All deliveries whose signed Message-ID or return path stands in a text."""
        found = {self._signed(_MESSAGE_ID, "message", m.group()) for m in _MESSAGE_ID.finditer(line)}
        found |= {self._signed(_RETURN_PATH, "verp", m.group()) for m in _RETURN_PATH.finditer(line)}
        return {d for d in found if d is not None}

    def _mark(self, use: str, delivery: DeliveryId) -> str:
        return hmac.digest(self.secret, f"{use}{delivery}".encode(), "sha256").hex()[:12]

    def _signed(self, shape: re.Pattern[str], use: str, text: str) -> int | None:
        found = shape.search(text)
        if found is None:
            return None
        delivery = int(found.group(1))
        return delivery if hmac.compare_digest(found.group(2).lower(), self._mark(use, DeliveryId(delivery))) else None

    def delivery_of(self, address: str) -> int | None:
        """The delivery of a return path that was signed here."""
        found = _RETURN_PATH.match(address)
        return self._signed(_RETURN_PATH, "verp", address) if found else None
