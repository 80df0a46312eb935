"""Proofs that need more than a look into the DNS: a signature that verifies, a relay that speaks TLS."""

from __future__ import annotations

import logging
import smtplib
import socket
import ssl

import dkim

from openmeadow.core.authentication.dkim import Signer
from openmeadow.core.authentication.findings import BROKEN, HOLDS, MEND, UNKNOWN, RecordFinding
from openmeadow.core.authentication.questions import Question
from openmeadow.wire.dns import Resolver

TIMEOUT = 5
logging.getLogger("dkimpy").setLevel(logging.CRITICAL)  # what it says of a bad key is said by the finding
_SAMPLE = (
    b"From: Proof <proof@%s>\r\nTo: proof@%s\r\nSubject: Proof\r\nDate: Thu, 12 Mar 2026 09:42:00 +0000\r\n"
    b"Message-ID: <proof@%s>\r\n\r\nA message to prove the key.\r\n"
)


def signature(domain: str, selector: str, private_key: str, at: int, resolver: Resolver) -> RecordFinding:
    """A message signed with the key in use, verified as a receiver would."""
    expected = "a message signed here verifies"
    name = domain.encode()
    message = _SAMPLE % (name, name, name)
    signed = Signer(domain, selector, private_key).header(message, at) + message
    asked: list[str] = []

    def txt(query: bytes, timeout: int = TIMEOUT) -> bytes | None:
        found = resolver.ask(Question(query.decode().rstrip("."), "TXT"))
        asked.append(found.status)
        return found.values[0].encode() if found.values else None

    try:
        good = bool(dkim.verify(signed, dnsfunc=txt))
    except dkim.DKIMException:
        good = False
    if good:
        return RecordFinding(
            "Signature", HOLDS, expected, f"verified with selector {selector}", "Receivers can prove it is you."
        )
    if "unknown" in asked:
        return RecordFinding("Signature", UNKNOWN, expected, "no answer", "Nothing is concluded; look again in a while.")
    return RecordFinding(
        "Signature", BROKEN, expected, f"does not verify with selector {selector}", "Receivers see your mail as unsigned."
    )


def relay_tls(host: str, port: int) -> RecordFinding:
    """Whether the relay offers TLS. One on this machine needs none."""
    expected = "STARTTLS"
    try:
        with smtplib.SMTP(host, port, timeout=TIMEOUT) as smtp:
            smtp.ehlo()
            if not smtp.has_extn("starttls"):
                local = host in ("localhost", "::1") or host.startswith("127.")
                return RecordFinding(
                    "Relay TLS",
                    HOLDS if local else MEND,
                    expected,
                    f"{host} port {port} offers no TLS",
                    "It is on this machine, so nothing passes a network."
                    if local
                    else "Mail to the relay can be read on the way; let it offer STARTTLS.",
                )
            smtp.starttls(context=ssl.create_default_context())
            return RecordFinding(
                "Relay TLS", HOLDS, expected, f"{host} port {port}, certificate valid", "Mail reaches it unread."
            )
    except ssl.SSLError as e:
        words = f"its certificate is not accepted: {e.reason or 'unknown reason'}"
        return RecordFinding("Relay TLS", MEND, expected, words, "The relay can be impersonated.")
    except (OSError, smtplib.SMTPException):
        return RecordFinding(
            "Relay TLS", UNKNOWN, expected, f"{host} port {port} does not answer", "Nothing is concluded."
        )


def tracking_tls(host: str, *, https: bool) -> RecordFinding:
    """Whether links lead to https with a valid certificate."""
    record, expected = "Tracking TLS", f"https at {host}"
    if not https:
        meaning = "Links in mail are not https; one-click unsubscribe needs it (RFC 8058). Set public_url to https."
        return RecordFinding(record, MEND, expected, "the public address is http", meaning)
    try:
        with (
            socket.create_connection((host, 443), TIMEOUT) as plain,
            ssl.create_default_context().wrap_socket(plain, server_hostname=host) as tls,
        ):
            until = str((tls.getpeercert() or {}).get("notAfter", "an unknown day"))
        return RecordFinding(record, HOLDS, expected, f"certificate valid until {until}", "Links can be followed safely.")
    except ssl.SSLError as e:
        words = f"its certificate is not accepted: {e.reason or 'unknown reason'}"
        return RecordFinding(record, BROKEN, expected, words, "Readers are warned when they follow a link.")
    except OSError:
        return RecordFinding(record, UNKNOWN, expected, f"{host} does not answer", "Nothing is concluded.")
