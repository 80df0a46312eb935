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
    SIGN_IN_REFUSED = "login rejected"
    US_REFUSED = "client rejected"
    SENDER_REFUSED = "sender rejected"
    RECIPIENT_REFUSED = "recipient rejected"
    MESSAGE_REFUSED = "message rejected"


# what happened; what to do. Filled in with the relay as {relay}, its host as {host} and its words as {words}
_SENTENCES: dict[Failure, tuple[str, str]] = {
    Failure.NAME_NOT_FOUND: (
        "The name {host} is not found in the DNS.",
        "Check relay_host for a typo, and that this machine can resolve names.",
    ),
    Failure.CONNECTION_REFUSED: (
        "The relay at {relay} does not respond: the connection was refused.",
        "Check that the relay is running, that relay_port is right, and that no firewall blocks it.",
    ),
    Failure.NO_REPLY: (
        "The relay at {relay} does not respond{words}.",
        "Check that it is running, that relay_port is right, and that no firewall blocks it.",
    ),
    Failure.BUSY: (
        "The relay at {relay} accepts no mail at the moment: {words}.",
        "It is retried automatically. If it persists, ask the operator of the relay.",
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
        "The relay at {relay} offers no supported sign-in method.",
        "Use its submission port (mostly 587), or leave relay_user empty where it knows you by your address.",
    ),
    Failure.SIGN_IN_REFUSED: (
        "The relay at {relay} rejected the sign-in: {words}.",
        "Set relay_user and relay_password again. Some relays need an app password.",
    ),
    Failure.US_REFUSED: (
        "The relay at {relay} rejects us: {words}.",
        "Ask its operator to allow this machine; relay_helo is the name we give.",
    ),
    Failure.SENDER_REFUSED: (
        "The relay at {relay} rejected the sender: {words}.",
        "The account must be allowed to send for this domain: see its allowed senders and return paths.",
    ),
    Failure.RECIPIENT_REFUSED: (
        "The relay at {relay} rejected the recipient: {words}.",
        "If the address exists, the relay may accept mail only for its own domains.",
    ),
    Failure.MESSAGE_REFUSED: ("The relay at {relay} rejected the message: {words}.", "Its reply says why."),
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
        """What it means, in a sentence."""
        return f"{self.sentence} {self.remedy}"

    @property
    def is_temporary(self) -> bool:
        """Whether it is tried again by itself; the others wait for somebody to repair them."""
        return self.failure in TEMPORARY
