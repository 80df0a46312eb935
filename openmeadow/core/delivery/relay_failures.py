"""Why a relay takes nothing from us, and what to do about it: one row for each failure."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum


class Failure(StrEnum):
    """What went wrong on the way to a relay, or with its answer to us."""

    NAME_NOT_FOUND = "name not found"
    CONNECTION_REFUSED = "connection refused"
    NO_REPLY = "no reply"
    BUSY = "busy"
    NO_TLS = "no TLS offered"
    CERTIFICATE = "certificate not trusted"
    TLS_FAILED = "TLS failed"
    CLEAR_PASSWORD = "password over a clear connection"
    NO_SIGN_IN = "no sign-in offered"
    SIGN_IN_REFUSED = "login refused"
    US_REFUSED = "we are refused"
    SENDER_REFUSED = "sender refused"
    RECIPIENT_REFUSED = "recipient refused"
    MESSAGE_REFUSED = "message refused"


# what happened; what to do. Filled in with the relay as {relay}, its host as {host} and its words as {words}
_SENTENCES: dict[Failure, tuple[str, str]] = {
    Failure.NAME_NOT_FOUND: (
        "The name {host} is not found in the DNS.",
        "Look for a typing mistake in relay_host, and whether this machine can look names up.",
    ),
    Failure.CONNECTION_REFUSED: (
        "The relay at {relay} does not answer: the connection is refused.",
        "See that the relay runs, that relay_port is its port, and that no firewall stands in between.",
    ),
    Failure.NO_REPLY: (
        "The relay at {relay} does not answer{words}.",
        "See that it runs, that relay_port is its port, and that no firewall swallows the connection.",
    ),
    Failure.BUSY: (
        "The relay at {relay} takes nothing for the moment: {words}.",
        "It is tried again by itself; if it stays so, ask whoever runs the relay.",
    ),
    Failure.NO_TLS: (
        "The relay at {relay} offers no TLS, and relay_tls asks for it.",
        "Use the port that offers STARTTLS (mostly 587), or set relay_tls to tls for one that speaks TLS at once (mostly 465).",
    ),
    Failure.CERTIFICATE: (
        "The certificate of the relay at {relay} is not trusted: {words}.",
        "Set relay_host to the name in the certificate; for an authority of your own, name its file in relay_ca.",
    ),
    Failure.TLS_FAILED: (
        "The relay at {relay} and Open Meadow cannot agree on TLS: {words}.",
        "relay_tls is starttls for a port that begins in clear (mostly 587) and tls for one that does not (mostly 465).",
    ),
    Failure.CLEAR_PASSWORD: (
        "The connection to the relay at {relay} is not encrypted and verified, so the password was not sent.",
        "Set relay_tls to starttls or tls, and relay_ca where the authority is your own; or leave relay_user empty.",
    ),
    Failure.NO_SIGN_IN: (
        "The relay at {relay} offers no way to sign in that is known here.",
        "Use its submission port (mostly 587), or leave relay_user empty where it knows you by your address.",
    ),
    Failure.SIGN_IN_REFUSED: (
        "The relay at {relay} refused the login: {words}.",
        "Set relay_user and relay_password again; some relays want a password made for programs.",
    ),
    Failure.US_REFUSED: (
        "The relay at {relay} refuses us: {words}.",
        "Ask whoever runs it to let this machine in; relay_helo is the name it hears.",
    ),
    Failure.SENDER_REFUSED: (
        "The relay at {relay} refused the sender: {words}.",
        "The account must be allowed to send for this domain: see its allowed senders and return paths.",
    ),
    Failure.RECIPIENT_REFUSED: (
        "The relay at {relay} refused the recipient: {words}.",
        "If the address exists, the relay may pass on mail for its own domains only.",
    ),
    Failure.MESSAGE_REFUSED: ("The relay at {relay} refused the message: {words}.", "Its words say what it objects to."),
}
assert set(_SENTENCES) == set(Failure)

TEMPORARY = {Failure.NAME_NOT_FOUND, Failure.CONNECTION_REFUSED, Failure.NO_REPLY, Failure.BUSY}


@dataclass(frozen=True)
class RelayFailure:
    """A failure at one relay, with the relay's own words."""

    failure: Failure
    host: str
    port: int
    words: str = ""

    def _said(self, text: str) -> str:
        words = " ".join(self.words.split()).rstrip(".")[:300]
        if self.failure is Failure.NO_REPLY and words:
            words = f" ({words})"
        return text.format(relay=f"{self.host} port {self.port}", host=self.host, words=words)

    @property
    def sentence(self) -> str:
        """What happened."""
        return self._said(_SENTENCES[self.failure][0])

    @property
    def remedy(self) -> str:
        """What to do."""
        return _SENTENCES[self.failure][1]

    @property
    def meaning(self) -> str:
        return f"{self.sentence} {self.remedy}"

    @property
    def is_temporary(self) -> bool:
        """Whether it is tried again by itself; the others wait for somebody to repair them."""
        return self.failure in TEMPORARY
