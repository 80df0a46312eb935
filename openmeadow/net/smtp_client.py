"""The one way to the relay, for sends, tests, confirmations, alerts and checks (RFC 5321, 3207, 4954, 6531).

The answer to a message is accepted, deferred, refused or not known. What the relay says about us, and not about the
message's recipient, is raised: ``RelayAway`` passes by itself, ``RelayRefuses`` waits until somebody repairs it.
"""

from __future__ import annotations

import contextlib
import smtplib
import socket
import ssl
from collections.abc import Callable
from dataclasses import dataclass
from enum import StrEnum

from openmeadow.core.addresses.syntax import wire_form
from openmeadow.core.delivery.relay_failures import Failure, RelayFailure
from openmeadow.core.delivery.smtp_refusals import Stage, Whose
from openmeadow.core.errors import MeadowError
from openmeadow.net.smtp_transaction import Submission, Transaction, words_of

PER_CONNECTION = 500
TIMEOUT, CHECK_TIMEOUT = 60, 10  # seconds


class TlsMode(StrEnum):
    """``STARTTLS`` is required and verified; ``TLS`` from the first byte; ``OPPORTUNISTIC`` where it is offered."""

    STARTTLS = "starttls"
    TLS = "tls"
    OPPORTUNISTIC = "opportunistic"
    NONE = "none"


def is_loopback(host: str) -> bool:
    """Whether a host is this machine itself."""
    return host in ("localhost", "::1") or host.startswith("127.")


@dataclass(frozen=True)
class RelaySettings:
    """How the relay is reached. ``tls`` "" is the default: required for every host but one on this machine."""

    host: str
    port: int
    helo: str
    user: str = ""
    password: str = ""
    tls: str = ""
    ca: str = ""

    @property
    def mode(self) -> TlsMode:
        """How the connection is encrypted."""
        if self.tls:
            return TlsMode(self.tls)
        return TlsMode.OPPORTUNISTIC if is_loopback(self.host) else TlsMode.STARTTLS


@dataclass(frozen=True)
class Connected:
    """What a connection turned out to be. ``version`` is the TLS version, "" for a connection in clear."""

    host: str
    port: int
    mode: str
    version: str
    verified: bool
    signed_in: bool


class RelayProblem(MeadowError):
    """The relay takes nothing from us; nothing was sent, and nobody is marked."""

    def __init__(self, failure: RelayFailure) -> None:
        super().__init__(failure.meaning)
        self.failure = failure


class RelayAway(RelayProblem):
    """It passes by itself: the relay cannot be reached, or takes nothing for the moment."""


class RelayRefuses(RelayProblem):
    """It waits until somebody repairs it: a login, a certificate, a sender that may not send."""


class Unsendable(MeadowError):
    """This recipient cannot be written to through this relay; the sentence says why. Nobody else is concerned."""


class Relay:
    """One connection after another, each for a number of messages. ``on_connect`` is told of each."""

    def __init__(
        self, settings: RelaySettings, on_connect: Callable[[Connected], None] | None = None, timeout: float = TIMEOUT
    ) -> None:
        self.settings, self._on_connect, self._timeout = settings, on_connect, timeout
        self._smtp: smtplib.SMTP | None = None
        self._left = 0
        self._together = True  # the commands of a message, where the relay offers it
        self.connected: Connected | None = None

    def ready(self) -> None:
        """Connects, so that what is wrong with the relay is known before anything is marked."""
        self._connection()

    def submit(self, sender: str, recipient: str, message: bytes) -> Submission:
        """One message for one recipient. Raises ``RelayAway``, ``RelayRefuses`` and ``Unsendable``; nothing is sent
        over then."""
        try:
            to, beyond_ascii = wire_form(recipient)
            back, _ = wire_form(sender) if sender else ("", False)
        except ValueError as e:
            raise Unsendable(f"{recipient[:80]} is not a valid recipient: {e}.") from e
        for try_ in (1, 2):
            smtp = self._connection()
            if beyond_ascii and not smtp.has_extn("smtputf8"):
                raise Unsendable("the relay does not support non-ASCII addresses (SMTPUTF8)")
            self._left -= 1
            together = self._together and try_ == 1 and smtp.has_extn("pipelining")
            transaction = Transaction(smtp, together=together)
            try:
                given = transaction.run(back, to, message, beyond_ascii=beyond_ascii)
                if not transaction.open:
                    self._drop()
                return self._judged(transaction.stage, given)
            except (OSError, smtplib.SMTPException) as e:
                self._drop()
                if transaction.stage is Stage.CONTENT:
                    return Submission("unconfirmed", "", f"connection lost: {e}")
                if together and (transaction.stage is not Stage.SENDER or _timed_out(e)):
                    self._together = False  # it, or something between, does not do what it offers
                if transaction.stage is Stage.SENDER and try_ == 2:
                    raise RelayAway(self._failure(Failure.NO_REPLY, "it closed the connection")) from e
        return Submission("deferred", "", "the relay closed the connection at this recipient", Whose.POLICY)

    def close(self) -> None:
        """Say goodbye and close the connection, where there is one."""
        if self._smtp is not None:
            try:
                self._smtp.quit()
            except (OSError, smtplib.SMTPException):
                self._smtp.close()
            self._smtp = None

    def _drop(self) -> None:
        if self._smtp is not None:
            self._smtp.close()
            self._smtp = None

    def _judged(self, stage: Stage, refusal: Submission) -> Submission:
        """What was taken, or the refusal of a recipient; what is about us is raised."""
        if refusal.about is not Whose.SENDER:
            return refusal
        words = f"{refusal.code} {refusal.text}"
        if refusal.outcome == "deferred":
            raise RelayAway(self._failure(Failure.BUSY, words))
        kind = {Stage.SENDER: Failure.SENDER_REFUSED, Stage.RECIPIENT: Failure.RECIPIENT_REFUSED}
        if refusal.code in ("530", "534", "535", "538"):
            raise RelayRefuses(self._failure(Failure.US_REFUSED, words))
        raise RelayRefuses(self._failure(kind.get(stage, Failure.MESSAGE_REFUSED), words))

    def _failure(self, failure: Failure, words: str = "") -> RelayFailure:
        return RelayFailure(failure, self.settings.host, self.settings.port, words)

    def _connection(self) -> smtplib.SMTP:
        if self._smtp is None or self._left <= 0:
            self.close()
            self._smtp, self.connected = self._open()
            self._left = PER_CONNECTION
            if self._on_connect is not None:
                self._on_connect(self.connected)
        return self._smtp

    def _open(self) -> tuple[smtplib.SMTP, Connected]:
        s = self.settings
        if s.mode is not TlsMode.OPPORTUNISTIC:
            return self._opened(verify=True)
        try:
            return self._opened(verify=True)
        except RelayRefuses as e:
            # encrypted to somebody unknown is still better than in clear; no password goes there
            if e.failure.failure is Failure.CERTIFICATE:
                return self._opened(verify=False)
            raise

    def _context(self, verify: bool) -> ssl.SSLContext:
        try:
            context = ssl.create_default_context(cafile=self.settings.ca or None)
        except (OSError, ssl.SSLError) as e:
            words = f"the file of relay_ca, {self.settings.ca}, cannot be read"
            raise RelayRefuses(self._failure(Failure.CERTIFICATE, words)) from e
        if not verify:
            context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
        return context

    def _opened(self, *, verify: bool) -> tuple[smtplib.SMTP, Connected]:
        """A connection on which mail may go, by the rules of the settings; else the reason is raised."""
        s = self.settings
        smtp: smtplib.SMTP | None = None
        try:
            if s.mode is TlsMode.TLS:
                smtp = smtplib.SMTP_SSL(local_hostname=s.helo, timeout=self._timeout, context=self._context(verify))
            else:
                smtp = smtplib.SMTP(local_hostname=s.helo, timeout=self._timeout)
            smtp._host = s.host  # type: ignore[attr-defined]  # the name that the certificate is held against
            self._accept(*smtp.connect(s.host, s.port))
            self._hello(smtp)
            if s.mode in (TlsMode.STARTTLS, TlsMode.OPPORTUNISTIC):
                if smtp.has_extn("starttls"):
                    smtp.starttls(context=self._context(verify))
                    self._hello(smtp)
                elif s.mode is TlsMode.STARTTLS:
                    raise RelayRefuses(self._failure(Failure.NO_TLS))
            version = smtp.sock.version() if isinstance(smtp.sock, ssl.SSLSocket) else None
            verified = bool(version) and verify
            if s.user:
                self._sign_in(smtp, verified)
            return smtp, Connected(s.host, s.port, s.mode.value, version or "", verified, bool(s.user))
        except BaseException as e:
            if smtp is not None:
                smtp.close()
            if isinstance(e, OSError | smtplib.SMTPException | ValueError):
                raise self._problem(e) from e
            raise

    def _hello(self, smtp: smtplib.SMTP) -> None:
        code, text = smtp.ehlo()
        if code >= 500:
            code, text = smtp.helo()
        self._accept(code, text)

    def _accept(self, code: int, text: bytes | str) -> None:
        if code < 200:
            raise RelayAway(self._failure(Failure.NO_REPLY, "its reply is not SMTP"))
        if code >= 400:
            words = f"{code} {words_of(text)}"
            if code < 500:
                raise RelayAway(self._failure(Failure.BUSY, words))
            raise RelayRefuses(self._failure(Failure.US_REFUSED, words))

    def _sign_in(self, smtp: smtplib.SMTP, verified: bool) -> None:
        if not verified:
            raise RelayRefuses(self._failure(Failure.CLEAR_PASSWORD))
        if not smtp.has_extn("auth"):
            raise RelayRefuses(self._failure(Failure.NO_SIGN_IN))
        try:
            smtp.login(self.settings.user, self.settings.password)
        except smtplib.SMTPAuthenticationError as e:
            words = f"{e.smtp_code} {words_of(e.smtp_error)}"
            if e.smtp_code < 500:
                raise RelayAway(self._failure(Failure.BUSY, words)) from e
            raise RelayRefuses(self._failure(Failure.SIGN_IN_REFUSED, words)) from e
        except smtplib.SMTPNotSupportedError as e:
            raise RelayRefuses(self._failure(Failure.NO_SIGN_IN)) from e
        except UnicodeError as e:
            words = "relay_user and relay_password must be ASCII for this relay"
            raise RelayRefuses(self._failure(Failure.SIGN_IN_REFUSED, words)) from e

    def _problem(self, e: Exception) -> RelayProblem:
        """What a failed connection means."""
        if isinstance(e, ssl.SSLCertVerificationError):
            return RelayRefuses(self._failure(Failure.CERTIFICATE, e.verify_message or "it cannot be verified"))
        if isinstance(e, ssl.SSLError):
            return RelayRefuses(
                self._failure(Failure.TLS_FAILED, (e.reason or "the handshake failed").replace("_", " ").lower())
            )
        if isinstance(e, socket.gaierror | UnicodeError):
            return RelayAway(self._failure(Failure.NAME_NOT_FOUND))
        if isinstance(e, ConnectionRefusedError):
            return RelayAway(self._failure(Failure.CONNECTION_REFUSED))
        if isinstance(e, smtplib.SMTPResponseException):
            words = f"{e.smtp_code} {words_of(e.smtp_error)}"
            if 0 < e.smtp_code < 500:
                return RelayAway(self._failure(Failure.BUSY, words))
            if e.smtp_code >= 500:
                return RelayRefuses(self._failure(Failure.US_REFUSED, words))
        words = "no reply in time" if isinstance(e, TimeoutError) else "it closed the connection"
        return RelayAway(self._failure(Failure.NO_REPLY, words))


def try_relay(
    settings: RelaySettings, sender: str = "", recipient: str = "", message: bytes = b""
) -> tuple[Connected | None, RelayProblem | Unsendable | Submission | None]:
    """The check of a relay by the code of a real send: connect, sign in, and send one message where one is given.
    What the connection was, and what went wrong (None: nothing)."""
    relay = Relay(settings, timeout=CHECK_TIMEOUT)
    try:
        relay.ready()
        if recipient:
            given = relay.submit(sender, recipient, message)
            return relay.connected, None if given.outcome == "taken" else given
        return relay.connected, None
    except (RelayProblem, Unsendable) as e:
        return relay.connected, e
    finally:
        with contextlib.suppress(OSError):
            relay.close()


def _timed_out(e: Exception) -> bool:
    """``smtplib`` says of a reply that does not come that the connection was closed."""
    return isinstance(e, TimeoutError) or isinstance(e.__context__, TimeoutError)
