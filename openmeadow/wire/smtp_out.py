"""Hand-over to a relay by SMTP. An answer is three-valued: taken, refused with a code, or not known."""

from __future__ import annotations

import smtplib
from dataclasses import dataclass

from openmeadow.core.errors import MeadowError

PER_CONNECTION = 500
TIMEOUT = 60


class RelayAway(MeadowError):
    """The relay cannot be reached; nothing was handed over."""


@dataclass(frozen=True)
class HandOver:
    """``outcome``: taken, deferred (4xx), refused (5xx) or in doubt (the connection broke after DATA began)."""

    outcome: str
    code: str = ""
    text: str = ""


class Relay:
    """One connection after another, each for a number of messages."""

    def __init__(self, host: str, port: int, helo: str) -> None:
        self._where, self._helo = (host, port), helo
        self._smtp: smtplib.SMTP | None = None
        self._left = 0

    def _connection(self) -> smtplib.SMTP:
        if self._smtp is None or self._left <= 0:
            self.close()
            try:
                self._smtp = smtplib.SMTP(*self._where, local_hostname=self._helo, timeout=TIMEOUT)
                self._smtp.ehlo_or_helo_if_needed()
            except (OSError, smtplib.SMTPException) as e:
                self._smtp = None
                host, port = self._where
                raise RelayAway(f"The relay at {host} port {port} does not answer; batches wait until it does.") from e
            self._left = PER_CONNECTION
        return self._smtp

    def ready(self) -> None:
        """Connects, so that a relay that is away is known before anything is marked."""
        self._connection()

    def hand_over(self, sender: str, recipient: str, message: bytes) -> HandOver:
        smtp = self._connection()
        self._left -= 1
        data_begun = False
        try:
            for code, text in (smtp.mail(sender), smtp.rcpt(recipient)):
                if code >= 400:
                    smtp.rset()
                    return _refusal(code, text)
            data_begun = True
            code, text = smtp.data(message)
            return _refusal(code, text) if code >= 400 else HandOver("taken", str(code), text.decode(errors="replace"))
        except smtplib.SMTPDataError as e:
            return _refusal(e.smtp_code, e.smtp_error)
        except (OSError, smtplib.SMTPException) as e:
            self._smtp = None
            return HandOver("in doubt" if data_begun else "deferred", "", f"the connection broke: {e}")

    def close(self) -> None:
        if self._smtp is not None:
            try:
                self._smtp.quit()
            except (OSError, smtplib.SMTPException):
                self._smtp.close()
            self._smtp = None


def _refusal(code: int, text: bytes | str) -> HandOver:
    words = text.decode(errors="replace") if isinstance(text, bytes) else text
    return HandOver("deferred" if code < 500 else "refused", str(code), words)
