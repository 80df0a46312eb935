"""Proofs that need more than a look into the DNS: a signature that verifies, links that lead to https."""

from __future__ import annotations

import logging
import socket
import ssl

import dkim

from openmeadow.core.authentication.dkim import Signer
from openmeadow.core.authentication.findings import FAIL, PASS, UNKNOWN, WARNING, RecordFinding
from openmeadow.core.authentication.questions import Question
from openmeadow.net.dns import Resolver

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
            "Signature", PASS, expected, f"verified with selector {selector}", "Receivers can verify that it is from you."
        )
    if "unknown" in asked:
        return RecordFinding("Signature", UNKNOWN, expected, "no reply", "Inconclusive; try again later.")
    return RecordFinding(
        "Signature", FAIL, expected, f"does not verify with selector {selector}", "Your mail is treated as unsigned."
    )


def tracking_tls(host: str, *, https: bool) -> RecordFinding:
    """Whether links lead to https with a valid certificate."""
    record, expected = "Tracking TLS", f"https at {host}"
    if not https:
        meaning = "Links in mail are not https; one-click unsubscribe needs it (RFC 8058). Set public_url to https."
        return RecordFinding(record, WARNING, expected, "the public address is http", meaning)
    try:
        with (
            socket.create_connection((host, 443), TIMEOUT) as plain,
            ssl.create_default_context().wrap_socket(plain, server_hostname=host) as tls,
        ):
            until = str((tls.getpeercert() or {}).get("notAfter", "an unknown day"))
        return RecordFinding(record, PASS, expected, f"certificate valid until {until}", "Links are secure.")
    except ssl.SSLError as e:
        words = f"its certificate is not accepted: {e.reason or 'unknown reason'}"
        return RecordFinding(record, FAIL, expected, words, "Browsers warn people who follow a link.")
    except OSError:
        return RecordFinding(record, UNKNOWN, expected, f"{host} does not respond", "Inconclusive.")
