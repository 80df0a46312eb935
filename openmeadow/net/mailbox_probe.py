"""The polite question to a mail host: would you take mail for this address? RCPT without DATA, one connection a host."""

from __future__ import annotations

import contextlib
import secrets
import smtplib
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

from openmeadow.core.addresses.verdicts import mailbox_of

TIMEOUT = 10
PER_CONNECTION = 100
PAUSE = 0.05  # seconds between two questions to a host


@dataclass(frozen=True)
class Reply:
    """``answer`` is one of MAILBOX; ``said`` the host's own words."""

    address: str
    answer: str
    said: str


def _rcpt(smtp: smtplib.SMTP, address: str) -> tuple[int, str]:
    code, text = smtp.rcpt(address)
    return code, f"{code} {text.decode(errors='replace')}"


def ask(
    host: str,
    port: int,
    helo: str,
    addresses: Sequence[str],
    *,
    everything: bool | None = None,
    pause: float = PAUSE,
    sleep: Callable[[float], None] = time.sleep,
) -> Iterator[Reply]:
    """Each address of one host in turn. ``everything`` is what is known of whether it accepts every address; None asks
    with an address that nobody has."""
    for i in range(0, len(addresses), PER_CONNECTION):
        part = addresses[i : i + PER_CONNECTION]
        done = 0
        try:
            with smtplib.SMTP(host, port, local_hostname=helo, timeout=TIMEOUT) as smtp:
                smtp.ehlo_or_helo_if_needed()
                code, text = smtp.mail("")
                if code >= 400:
                    yield from (Reply(a, "no clear response", f"{code} {text.decode(errors='replace')}") for a in part)
                    continue
                if everything is None:
                    nobody = f"{secrets.token_hex(10)}@{part[0].rpartition('@')[2]}"
                    everything = mailbox_of(*_rcpt(smtp, nobody)) == "yes"
                for address in part:
                    sleep(pause)
                    code, said = _rcpt(smtp, address)
                    answer = mailbox_of(code, said)
                    yield Reply(address, "accepts everything" if answer == "yes" and everything else answer, said)
                    done += 1
                with contextlib.suppress(smtplib.SMTPException):
                    smtp.rset()
        except (OSError, smtplib.SMTPException) as e:
            yield from (Reply(a, "no clear response", f"no response: {e}") for a in part[done:])
