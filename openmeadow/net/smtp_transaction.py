"""One message over a connection: MAIL, RCPT, DATA and the message itself (RFC 5321, 6531). Where the relay offers it the
three commands go in one write and their replies are read together (RFC 2920): one way to the relay and back instead of
three."""

from __future__ import annotations

import smtplib
from dataclasses import dataclass

from openmeadow.core.delivery.smtp_refusals import Stage, Whose, whose

SERVICE_CLOSING, GO_ON = 421, 354
STAGES = (Stage.SENDER, Stage.RECIPIENT, Stage.CONTENT)


@dataclass(frozen=True)
class Submission:
    """``outcome``: taken, deferred (4xx), refused (5xx) or unconfirmed (the connection broke after DATA began)."""

    outcome: str
    code: str = ""
    text: str = ""
    about: Whose = Whose.RECIPIENT


class Transaction:
    """``stage`` is how far it has come, ``open`` whether the connection takes another one after it. ``together`` sends the
    commands in one write; content has begun then only once the relay has asked for it."""

    def __init__(self, smtp: smtplib.SMTP, *, together: bool) -> None:
        self._smtp, self._together = smtp, together
        self.stage, self.open = Stage.SENDER, True

    def run(self, sender: str, recipient: str, message: bytes, *, beyond_ascii: bool = False) -> Submission:
        """Carry it out. Raises ``OSError`` and ``smtplib.SMTPException`` where the connection breaks."""
        smtp = self._smtp
        options = " SMTPUTF8 BODY=8BITMIME" if beyond_ascii else ""
        smtp.command_encoding = "utf-8" if beyond_ascii else "ascii"
        commands = f"MAIL FROM:<{sender}>{options}", f"RCPT TO:<{recipient}>", "DATA"
        if any(c in "".join(commands) for c in "\r\n"):
            raise ValueError("an address must not contain a line break")
        if self._together:
            smtp.send("".join(f"{c}\r\n" for c in commands))
        for i, (stage, command) in enumerate(zip(STAGES, commands, strict=True)):
            if not self._together:
                self.stage = stage
                smtp.putcmd(command)
            code, text = smtp.getreply()
            self.stage = stage
            refusal = None if code == GO_ON and stage is Stage.CONTENT else refusal_of(stage, code, text)
            if refusal is None and stage is Stage.CONTENT and code != GO_ON:
                refusal = Submission("refused", str(code), words_of(text))  # it says yes and does not ask for the message
            if refusal is not None:
                self._leave(code, len(commands) - 1 - i if self._together else 0)
                return refusal
        smtp.send(_stuffed(message))
        code, text = smtp.getreply()
        self.open = code != SERVICE_CLOSING
        return refusal_of(Stage.CONTENT, code, text) or Submission("taken", str(code), words_of(text))

    def _leave(self, code: int, unread: int) -> None:
        """Bring the connection back to where the next message begins, after a refusal with so many replies not yet read.
        Where that fails, it is not used again."""
        self.open = False
        if code == SERVICE_CLOSING:
            return
        try:
            replies = [self._smtp.getreply()[0] for _ in range(unread)]
            if GO_ON in replies[-1:]:  # nobody is to get it: a message without a line, which the relay refuses
                self._smtp.send(b".\r\n")
                self._smtp.getreply()
            self._smtp.rset()
            self.open = True
        except (OSError, smtplib.SMTPException):
            pass


def _stuffed(message: bytes) -> bytes:
    """As the message goes over the line. ``smtplib``'s own look for lines that begin with a dot takes as long as everything
    else of a message."""
    stuffed = message.replace(b"\n.", b"\n..")
    first, last = b"." if stuffed.startswith(b".") else b"", b"" if stuffed.endswith(b"\r\n") else b"\r\n"
    return first + stuffed + last + b".\r\n"


def words_of(text: bytes | str) -> str:
    """The words of a reply, in one line."""
    words = text.decode(errors="replace") if isinstance(text, bytes) else text
    return " ".join(words.split())


def refusal_of(stage: Stage, code: int, text: bytes | str) -> Submission | None:
    """None where the relay says yes."""
    if 200 <= code < 400:
        return None
    if code < 400:  # no answer that the protocol knows: smtplib says -1 for a line that is none
        raise smtplib.SMTPServerDisconnected("the relay does not speak SMTP")
    words = words_of(text)
    about = whose(stage, str(code), words)
    return Submission("deferred" if code < 500 else "refused", str(code), words, about)
