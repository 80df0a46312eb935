"""A message as it goes over the wire (RFC 5322, 2045-2047, 2369, 8058, 2919)."""

from __future__ import annotations

import quopri
import re
from dataclasses import dataclass
from datetime import UTC, datetime
from email.headerregistry import Address
from email.policy import SMTP
from email.utils import format_datetime
from functools import lru_cache

from openmeadow.core.addresses.syntax import wire_form
from openmeadow.core.message.personalisation import Said

_POLICY = SMTP.clone(max_line_length=76)
LONG_LINE = 76


@dataclass(frozen=True)
class Envelope:
    """Who to whom, and the addresses that go with it. ``unsubscribe`` is the one-click address."""

    from_name: str
    from_address: str
    to_address: str
    message_id: str
    at: int
    list_id: str = ""
    unsubscribe: str = ""
    feedback_id: str = ""
    reply_to: str = ""
    unsubscribe_mail: str = ""  # the address that unsubscribes who writes to it


def assemble(said: Said, e: Envelope) -> bytes:
    """The message with CRLF line ends, unsigned; the plain-text version first, as RFC 2046 wants.

    The library writes each header's line once and it is kept; the parts are put together here, because the library's
    tree of a message takes longer than handing it over."""
    lines = [
        _line("From", _from(e.from_name, e.from_address)),
        _to(e.to_address),
        _line("Subject", said.subject),
        _line("Reply-To", e.reply_to) if e.reply_to else b"",
        f"Date: {_date(e.at)}\r\n".encode(),
        _line("List-Id", e.list_id) if e.list_id and not e.list_id.isascii() else b"",
        b"MIME-Version: 1.0\r\n",
    ]
    head = _word_for_word(e) + b"".join(lines)
    if not said.html:
        return head + _part("plain", said.plain)
    parts = b"".join(b"--" + _BETWEEN + b"\r\n" + _part(k, t) for k, t in (("plain", said.plain), ("html", said.html)))
    return head + b'Content-Type: multipart/alternative; boundary="' + _BETWEEN + b'"\r\n\r\n' + parts + _END


_PLAIN_ADDRESS = re.compile(r"[\w.+-]{1,40}@[\w.-]{1,30}", re.ASCII).fullmatch  # fits its line and needs no quoting
_BETWEEN = b"=_alternative"  # an equals sign and an underline never stand together in quoted-printable
_END = b"--" + _BETWEEN + b"--\r\n"


def _to(address: str) -> bytes:
    """The recipient, its domain in A-labels. A local part beyond ASCII stands as it is, in UTF-8 (RFC 6532)."""
    address, beyond_ascii = wire_form(address)
    if _PLAIN_ADDRESS(address) or beyond_ascii:
        return f"To: {address}\r\n".encode()
    return _line("To", address)


@lru_cache(64)
def _from(name: str, address: str) -> str:
    return str(Address(name, addr_spec=address)) if name else address


@lru_cache(4096)
def _line(name: str, value: str) -> bytes:
    """One header, folded and encoded by the library."""
    return bytes(_POLICY.fold_binary(*_POLICY.header_store_parse(name, value)))


@lru_cache(64)
def _date(at: int) -> str:
    return format_datetime(datetime.fromtimestamp(at, UTC))


def _part(subtype: str, text: str) -> bytes:
    """A part with its headers, in quoted-printable (RFC 2045)."""
    head = f'Content-Type: text/{subtype}; charset="utf-8"\r\nContent-Transfer-Encoding: quoted-printable\r\n\r\n'
    lines = text.replace("\r\n", "\n").replace("\r", "\n").encode()
    body = quopri.encodestring(lines if lines.endswith(b"\n") else lines + b"\n")
    return head.encode() + body.replace(b"\n", b"\r\n")


def _ways_out(e: Envelope) -> list[str]:
    """Where one can unsubscribe (RFC 2369): by the web first, then by mail."""
    by_mail = f"mailto:{e.unsubscribe_mail}?subject=unsubscribe" if e.unsubscribe_mail else ""
    return [u for u in (e.unsubscribe, by_mail) if u]


def _word_for_word(e: Envelope) -> bytes:
    """Headers that machines read as they stand. The library would fold a long address into encoded words (RFC 2047),
    which is not allowed here, and no receiver would find the address in it."""
    lines = [
        ("Message-ID", e.message_id),
        ("List-Id", e.list_id if e.list_id.isascii() else ""),
        ("List-Unsubscribe", ", ".join(f"<{u}>" for u in _ways_out(e))),
        ("List-Unsubscribe-Post", "List-Unsubscribe=One-Click" if e.unsubscribe else ""),
        ("Feedback-ID", e.feedback_id),  # a convention of some providers, not a standard
    ]
    out = []
    for name, value in lines:
        if value:
            clean = value.replace("\r", "").replace("\n", "")
            folded = f"{name}: {clean}" if len(name) + len(clean) < LONG_LINE else f"{name}:\r\n {clean}"
            out.append(folded + "\r\n")
    return "".join(out).encode("ascii", "replace")
