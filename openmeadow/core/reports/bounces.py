"""What a bounce means for the address: hard, soft, blocked or unknown (RFC 3463, 5248)."""

from __future__ import annotations

import re

from openmeadow.core.states import BounceClass

# what is counted of a bounce beside sends; other classes are no trouble of the list or the sender
COUNTED = {BounceClass.HARD: "hard bounces", BounceClass.BLOCKED: "blocked"}
HARD_CODES = {"5.1.1", "5.1.2", "5.1.10", "5.2.1"}
FULL = "5.2.2"
_ENHANCED = re.compile(r"(?<![\d.])([245])\.(\d{1,3})\.(\d{1,3})(?!\d|\.\d)")  # and no part of an IP address
_NO_SUCH_USER = re.compile(
    r"no such (user|mailbox|recipient)|user unknown|unknown user|mailbox (not found|unavailable"
    r"|does not exist)|does not exist|recipient (rejected|unknown)|invalid recipient",
    re.I,
)
_POLICY = re.compile(r"polic|reputation|block ?list|blocked|spam|listed at|too many complaints", re.I)
_NUMBERS = re.compile(
    r"<[^<>]{0,320}>|[^\s@]{1,64}@[^\s@]{1,255}|\b[0-9a-f]{8,}\b|\b\d{1,3}(?:\.\d{1,3}){3}\b|\d{4,}", re.I
)
LONGEST_TEXT = 160  # of a refusal's text
_SMTP_CODE = re.compile(r"^[245]\d\d\b[\s-]*")


def bounce_class(code: str | None, diagnostic: str | None) -> BounceClass:
    """``code`` is an SMTP or enhanced status code; an enhanced one in the diagnostic is read as well."""
    text = f"{code or ''} {diagnostic or ''}"
    codes = list(_ENHANCED.finditer(text))
    found = next((c for c in codes if not c.group().endswith(".0.0")), codes[0] if codes else None)  # x.0.0 says nothing
    if found:
        enhanced = found.group()
        if enhanced in HARD_CODES:
            return BounceClass.HARD
        # a 4.7.x is throttling or greylisting until its words say more
        if (found.group(2) == "7" and found.group(1) != "4") or _POLICY.search(diagnostic or ""):
            return BounceClass.BLOCKED
        return BounceClass.SOFT if enhanced == FULL or found.group(1) == "4" else BounceClass.UNKNOWN
    if _POLICY.search(diagnostic or ""):
        return BounceClass.BLOCKED
    if re.match(r"\s*4\d\d\b", text):
        return BounceClass.SOFT
    if re.match(r"\s*550\b", text) and _NO_SUCH_USER.search(diagnostic or ""):
        return BounceClass.HARD
    return BounceClass.UNKNOWN


def plain_reason(code: str | None, diagnostic: str | None) -> tuple[str, str]:
    """The code of a refusal and its text, each once, without its numbers and addresses, so that equal ones read alike.
    The enhanced code (RFC 3463) goes before the SMTP code."""
    text = " ".join(f"{code or ''} {diagnostic or ''}".split())
    enhanced = _ENHANCED.search(text)
    smtp = _SMTP_CODE.match(text)
    shown = enhanced.group() if enhanced else smtp.group().strip(" -") if smtp else (code or "").strip()
    rest = _ENHANCED.sub(" ", text).strip()
    while leads := _SMTP_CODE.match(rest):
        rest = rest[leads.end() :].strip()
    if rest == shown:
        rest = ""
    return shown, " ".join(_NUMBERS.sub("…", rest).split())[:LONGEST_TEXT]
