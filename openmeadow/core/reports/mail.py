"""Mail that came back, read: a bounce (RFC 3464 or one of the writings of before), a complaint (RFC 5965), an automatic
reply (RFC 3834), or none of these."""

from __future__ import annotations

import email
import email.message
import email.policy
import re
from dataclasses import dataclass

from flufl.bounce import all_failures

from openmeadow.core.errors import MeadowError
from openmeadow.core.reports.bounces import bounce_class
from openmeadow.core.reports.limits import DEEPEST, MESSAGE_BYTES, REPORTED_RECIPIENTS
from openmeadow.core.states import BounceClass

BOUNCE, COMPLAINT, REPLY, OTHER = "bounce", "complaint", "automatic reply", "other"
_STATUS = re.compile(r"\b[245]\.\d{1,3}\.\d{1,3}\b")
_REPLY_CODE = re.compile(r"\b[45]\d\d\b[ -]")
_BETWEEN = re.compile(r"[\s<>;,\"]+")
LONGEST_FIELD = 1_000


class Unreadable(MeadowError):
    """A report that cannot be taken, with the reason."""


@dataclass(frozen=True)
class Recipient:
    """One address of a report. ``action`` as in RFC 3464 (failed, delayed, delivered, relayed, expanded) or
    ``complained``; ``class_`` hard, soft, blocked or unknown, "" where nothing failed."""

    address: str
    action: str
    class_: str
    code: str
    diagnostic: str


@dataclass(frozen=True)
class Returned:
    """``original_id`` is the Message-ID of the mail it is about, ``original_to`` its recipient, where they are quoted."""

    kind: str
    recipients: tuple[Recipient, ...]
    original_id: str = ""
    original_to: str = ""


def _depth(message: email.message.Message, at: int = 0) -> int:
    if at > DEEPEST:
        return at
    payload = message.get_payload()
    parts = [p for p in payload if isinstance(p, email.message.Message)] if isinstance(payload, list) else []
    return max((_depth(p, at + 1) for p in parts), default=at)


def parsed(raw: bytes) -> email.message.Message:
    """The message, or ``Unreadable`` with its limit."""
    if len(raw) > MESSAGE_BYTES:
        raise Unreadable(f"The message is larger than {MESSAGE_BYTES // 1024 // 1024} MB.")
    try:
        message = email.message_from_bytes(raw, policy=email.policy.compat32)
        if _depth(message) > DEEPEST:
            raise Unreadable(f"The message has parts within parts more than {DEEPEST} deep.")
    except RecursionError:
        raise Unreadable(f"The message has parts within parts more than {DEEPEST} deep.") from None
    return message


def _typed(value: object) -> str:
    """What stands behind the type of a field such as ``rfc822; a@b.example`` or ``smtp; 550 no``."""
    text = " ".join(str(value or "").split())
    return text.partition(";")[2].strip() if ";" in text else text


def _clean(address: str) -> str:
    """The first thing in a text that looks like an address; each character is looked at once."""
    for word in _BETWEEN.split(address[:LONGEST_FIELD]):
        local, at, domain = word.partition("@")
        if at and local and "." in domain.strip("."):
            return word
    return address[:LONGEST_FIELD].strip().strip("<>")


def _group_fields(part: email.message.Message) -> list[email.message.Message]:
    payload = part.get_payload()
    if isinstance(payload, list):
        return [g for g in payload if isinstance(g, email.message.Message)]
    text = part.get_payload(decode=True)
    blocks = re.split(r"\r?\n[ \t]*\r?\n", text.decode("utf-8", "replace") if isinstance(text, bytes) else str(text))
    return [email.message_from_string(b + "\n\n") for b in blocks if b.strip()]


def _statuses(message: email.message.Message) -> list[Recipient]:
    out = []
    for part in message.walk():
        if part.get_content_type() not in ("message/delivery-status", "message/global-delivery-status"):
            continue
        for group in _group_fields(part):
            who = group.get("Final-Recipient") or group.get("Original-Recipient")
            if who is None:
                continue
            action = " ".join(str(group.get("Action", "failed")).split()).lower().partition(" ")[0] or "failed"
            code = _STATUS.search(str(group.get("Status", "")))
            diagnostic = _typed(group.get("Diagnostic-Code"))[:LONGEST_FIELD]
            status = code.group() if code else ""
            failed = action in ("failed", "delayed")
            judged = bounce_class(status or _first(_REPLY_CODE, diagnostic), diagnostic) if failed else ""
            out.append(Recipient(_clean(_typed(who)), action, judged, status, diagnostic))
            if len(out) >= REPORTED_RECIPIENTS:
                return out
    return out


def _first(pattern: re.Pattern[str], text: str) -> str:
    found = pattern.search(text)
    return found.group().strip(" -") if found else ""


def _original(message: email.message.Message) -> tuple[str, str]:
    """Message-ID and To of the mail a report is about, from the part that quotes it."""
    for part in message.walk():
        kind = part.get_content_type()
        if kind == "message/rfc822":
            payload = part.get_payload()
            inner = payload[0] if isinstance(payload, list) and payload else None
        elif kind in ("text/rfc822-headers", "message/rfc822-headers"):
            text = part.get_payload(decode=True)
            inner = email.message_from_bytes(text) if isinstance(text, bytes) else None
        else:
            continue
        if isinstance(inner, email.message.Message):
            return str(inner.get("Message-ID", "")).strip(), _clean(str(inner.get("To", "")))
    return "", ""


def _complaint(message: email.message.Message) -> list[Recipient]:
    for part in message.walk():
        if part.get_content_type() != "message/feedback-report":
            continue
        groups = _group_fields(part)
        fields = groups[0] if groups else part
        kind = " ".join(str(fields.get("Feedback-Type", "")).split()).lower() or "abuse"
        to = fields.get("Original-Rcpt-To") or fields.get("Removal-Recipient") or _original(message)[1]
        if kind == "not-spam":
            return []
        return [Recipient(_clean(str(to)) if to else "", "complained", "", "", kind)]
    return []


def _automatic(message: email.message.Message) -> bool:
    """RFC 3834: an answer a machine gave; never an answer of a person, never a bounce."""
    said = str(message.get("Auto-Submitted", "no")).partition(";")[0].strip().lower()
    subject = str(message.get("Subject", "")).lower()
    return (
        said in ("auto-replied", "auto-notified")
        or "X-Autoreply" in message
        or "X-Autorespond" in message
        or str(message.get("Precedence", "")).strip().lower() == "auto_reply"
        or subject.startswith(("out of office", "automatic reply", "auto:", "away from"))
    )


def _old_writing(message: email.message.Message) -> list[Recipient]:
    """Bounces without a status part; by the writings that flufl.bounce knows."""
    temporary, permanent = all_failures(message)
    text = _text_of(message)
    code, reply = _first(_STATUS, text), _first(_REPLY_CODE, text)
    line = next((" ".join(x.split()) for x in text.splitlines() if _STATUS.search(x) or _REPLY_CODE.search(x)), "")
    line = line or next(
        (" ".join(x.split()) for x in text.splitlines() if bounce_class("550", x) == BounceClass.HARD), ""
    )
    out = []
    for addresses, action in ((permanent, "failed"), (temporary, "delayed")):
        for a in sorted(addresses):
            address = a.decode("utf-8", "replace") if isinstance(a, bytes) else str(a)
            judged = bounce_class(code or reply or ("550" if action == "failed" else "450"), line)
            out.append(Recipient(_clean(address), action, judged, code or reply, line[:500]))
    return out


def _text_of(message: email.message.Message) -> str:
    for part in message.walk():
        if part.get_content_type() == "text/plain":
            body = part.get_payload(decode=True)
            if isinstance(body, bytes):
                return body.decode("utf-8", "replace")[:100_000]
    return ""


def read(raw: bytes) -> Returned:
    """What a message that came back says."""
    message = parsed(raw)
    complaints = _complaint(message)
    if any(p.get_content_type() == "message/feedback-report" for p in message.walk()):
        return Returned(COMPLAINT, tuple(complaints), *_original(message))
    statuses = _statuses(message)
    if statuses:
        return Returned(BOUNCE, tuple(statuses), *_original(message))
    if _automatic(message):
        return Returned(REPLY, ())
    try:
        old = _old_writing(message)
    except Exception:  # a detector that trips over hostile text has found nothing
        old = []
    return Returned(BOUNCE if old else OTHER, tuple(old), *_original(message))
