"""What the headers of a message are for, in a sentence each."""

from __future__ import annotations

import email
import email.policy
from dataclasses import dataclass

MEANINGS = {
    "dkim-signature": "Proves that the domain sent it unchanged (RFC 6376); h= lists the signed headers.",
    "message-id": "Identifies this message; relay logs and bounces quote it.",
    "list-id": "Identifies the list, so that mail clients can sort by it (RFC 2919).",
    "list-unsubscribe": "How to unsubscribe: by web and by mail (RFC 2369).",
    "list-unsubscribe-post": "Allows one-click unsubscribe in the mail client (RFC 8058).",
    "feedback-id": "Lets providers report complaints by campaign.",
    "from": "The sender. Its domain must pass DKIM or SPF (RFC 7489).",
    "reply-to": "Where replies go, where that is not the sender's address.",
    "to": "The recipient. A non-ASCII domain is written as A-labels (RFC 5891).",
    "subject": "Non-ASCII characters are encoded words (RFC 2047).",
    "date": "When it was written.",
    "mime-version": "It has parts with types (RFC 2045).",
    "content-type": "Which parts it has: the plain-text version first, then HTML (RFC 2046).",
    "content-transfer-encoding": "How its lines are written so that none is too long (RFC 2045).",
}


@dataclass(frozen=True)
class ExplainedHeader:
    """``meaning`` is "" for a header that is not known here."""

    name: str
    value: str
    meaning: str


def explained(raw: bytes) -> tuple[ExplainedHeader, ...]:
    """The headers of a message in their order, each with what it is for."""
    found = email.message_from_bytes(raw, policy=email.policy.compat32)
    return tuple(
        ExplainedHeader(name, " ".join(str(value).split()), MEANINGS.get(name.lower(), ""))
        for name, value in found.items()
    )
