"""A message as it goes over the wire (RFC 5322, 2045-2047, 2369, 8058, 2919)."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime
from email.headerregistry import Address
from email.message import EmailMessage
from email.policy import SMTP
from email.utils import format_datetime

from openmeadow.core.message.body import Said

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


def assemble(said: Said, e: Envelope) -> bytes:
    """The message with CRLF line ends, unsigned; the plain-text twin first, as RFC 2046 wants."""
    m = EmailMessage(policy=_POLICY)
    m["From"] = Address(e.from_name, addr_spec=e.from_address) if e.from_name else e.from_address
    m["To"] = e.to_address
    m["Subject"] = said.subject
    m["Date"] = format_datetime(datetime.fromtimestamp(e.at, UTC))
    if e.list_id and not e.list_id.isascii():
        m["List-Id"] = e.list_id
    m.set_content(said.plain, cte="quoted-printable")
    if said.html:
        m.add_alternative(said.html, subtype="html", cte="quoted-printable")
    return _word_for_word(e) + m.as_bytes()


def _word_for_word(e: Envelope) -> bytes:
    """Headers that machines read as they stand. The library would fold a long address into encoded words (RFC 2047),
    which is not allowed here, and no receiver would find the address in it."""
    lines = [
        ("Message-ID", e.message_id),
        ("List-Id", e.list_id if e.list_id.isascii() else ""),
        ("List-Unsubscribe", f"<{e.unsubscribe}>" if e.unsubscribe else ""),
        ("List-Unsubscribe-Post", "List-Unsubscribe=One-Click" if e.unsubscribe else ""),
        ("Feedback-ID", e.feedback_id),
    ]
    out = []
    for name, value in lines:
        if value:
            clean = value.replace("\r", "").replace("\n", "")
            folded = f"{name}: {clean}" if len(name) + len(clean) < LONG_LINE else f"{name}:\r\n {clean}"
            out.append(folded + "\r\n")
    return "".join(out).encode("ascii", "replace")
