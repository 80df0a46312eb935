"""Signed tokens for public addresses and return paths. They carry numbers, never an address."""

from __future__ import annotations

import base64
import hashlib
import hmac
import secrets
import struct
from pathlib import Path
from typing import NamedTuple

from itsdangerous import BadSignature, Signer

_SHAPE = struct.Struct(">sQI")


class Meant(NamedTuple):
    """``kind``: o open, c click, u unsubscribe, k confirm a from-address, m view, p preferences,
    b a booking told back."""

    kind: str
    number: int
    link: int


class Tokens:
    """Made from the workspace's secret, a file in the data folder."""

    def __init__(self, folder: Path) -> None:
        path = folder / "secret"
        if not path.exists():
            path.write_bytes(secrets.token_bytes(32))
            path.chmod(0o600)
        self.secret = path.read_bytes()
        self._signer = Signer(self.secret, salt="public", sep="~", digest_method=hashlib.sha256)
        self._key = self._signer.derive_key()

    def make(self, kind: str, number: int, link: int = 0) -> str:
        body = base64.urlsafe_b64encode(_SHAPE.pack(kind.encode(), number, link)).rstrip(b"=")
        # as the signer does it, with the key that it would derive anew each time
        mark = base64.urlsafe_b64encode(hmac.digest(self._key, body, "sha256")).rstrip(b"=")
        return (body + b"~" + mark).decode()

    def read(self, token: str, kind: str) -> Meant | None:
        """What a token means, or None when it was not made here for this use."""
        try:
            body = self._signer.unsign(token.encode("ascii", "strict"))
            k, number, link = _SHAPE.unpack(base64.urlsafe_b64decode(body + b"=" * (-len(body) % 4)))
        except (BadSignature, ValueError, struct.error, UnicodeError):
            return None
        # one writing only: other letters for the same bits are not a token made here
        return Meant(kind, number, link) if k.decode() == kind and self.make(kind, number, link) == token else None

    def _verp_mark(self, delivery: int) -> str:
        return hmac.new(self.secret, f"verp{delivery}".encode(), hashlib.sha256).hexdigest()[:12]

    def return_path(self, delivery: int, domain: str) -> str:
        """A return path of its own for each delivery (VERP)."""
        return f"b{delivery}-{self._verp_mark(delivery)}@{domain}"

    def delivery_of(self, address: str) -> int | None:
        local = address.partition("@")[0].lower()
        number, _, mark = local.removeprefix("b").partition("-")
        if not local.startswith("b") or not number.isdigit():
            return None
        return int(number) if hmac.compare_digest(mark, self._verp_mark(int(number))) else None
