"""What one person's message says and its signatures, from plain data alone, so that another process can make it too. It
loads neither the database nor what computes on columns."""

from __future__ import annotations

import pickle
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Any

from openmeadow.core.authentication.dkim import Signer
from openmeadow.core.ids import CampaignId, DeliveryId, SubscriberId
from openmeadow.core.message.assembly import Envelope, assemble
from openmeadow.core.message.personalisation import Body, Said
from openmeadow.core.message.templates import FieldMistake
from openmeadow.net.signed_tokens import Tokens


@dataclass(frozen=True, slots=True)
class Text:
    """What a version of a campaign says, before anybody's fields."""

    subject: str
    preview: str
    html: str
    plain: str


@dataclass(frozen=True, slots=True)
class Addressee:
    """Whom a message is written to: their fields, the variant's own subject and opening lines ("" for the version's), the
    rules that hold for them. Delivery 0 is a test or a preview."""

    delivery: DeliveryId
    subscriber: SubscriberId
    email: str
    version: int
    fields: Mapping[str, object]
    subject: str = ""
    preview: str = ""
    held: Collection[str] = ()


@dataclass
class Composer:
    """What all messages of a campaign have in common. ``numbers`` are its links' (none where clicks are not tracked),
    ``trap`` that of the hidden one (0 for none), ``urls`` where each leads; ``asks`` the purposes that a consent request asks
    for by field; ``keys`` selector and private key of each signature; ``texts`` the versions that are asked for."""

    tokens: Tokens
    campaign: CampaignId
    base: str
    from_name: str
    from_address: str
    reply_to: str
    domain: str
    unsubscribe_domain: str
    list_id: str
    postal: str
    numbers: Mapping[str, int]
    trap: int
    urls: Mapping[int, str]
    asks: Mapping[str, int]
    tracks_opens: bool
    keys: Sequence[tuple[str, str]]
    texts: dict[int, Text] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self._bodies: dict[tuple[int, str, str], Body] = {}
        self._signers: list[Signer] = []

    def __getstate__(self) -> dict[str, Any]:
        return {**self.__dict__, "_bodies": {}, "_signers": []}  # compiled anew where they are needed

    def body(self, version: int, subject: str = "", preview: str = "") -> Body:
        """A version's body, under a variant's own subject or opening lines where it has them."""
        found = self._bodies.get((version, subject, preview))
        if found is None:
            t = self.texts[version]
            found = Body(
                subject or t.subject, preview or t.preview, t.html, t.plain, self.postal, self.numbers, self.trap
            )
            self._bodies[version, subject, preview] = found
        return found

    def _pages(self, to: Addressee) -> dict[str, str]:
        """The addresses of this person's own pages."""
        t = self.tokens
        out = {
            "preferences_url": f"{self.base}/p/{t.make('p', to.subscriber)}",
            "stay_url": f"{self.base}/k/{t.make('w', to.delivery)}",
            "view_url": f"{self.base}/m/{t.make('m', to.delivery)}",
        }
        for name, purpose in self.asks.items():
            out[name] = f"{self.base}/k/{t.make('r', to.delivery, purpose)}"
        return out

    def said(self, to: Addressee, *, in_browser: bool = False) -> Said:
        """What the message says to one person. A test's links lead where they say, and nothing that its other addresses do
        is recorded. In a browser its links count as in the mail, without the image."""
        t, delivery = self.tokens, to.delivery
        return self.body(to.version, to.subject, to.preview).say(
            to.fields,
            (lambda n: f"{self.base}/c/{t.make('c', delivery, n)}") if delivery else (lambda n: self.urls[n]),
            f"{self.base}/u/{t.make('u', delivery)}",
            f"{self.base}/o/{t.make('o', delivery)}" if self.tracks_opens and not in_browser else "",
            self._pages(to),
            to.held,
        )

    def message(self, to: Addressee, at: int, message_id: str = "", label: str = "") -> bytes:
        """The message as it goes over the wire. ``label`` stands before the subject, ``message_id`` is its own: of tests."""
        t, said = self.tokens, self.said(to)
        plain = assemble(
            Said(f"{label}{said.subject}", said.html, said.plain),
            Envelope(
                self.from_name,
                self.from_address,
                to.email,
                message_id or t.message_id(to.delivery, self.campaign, self.domain),
                at,
                self.list_id,
                f"{self.base}/u/{t.make('u', to.delivery)}",
                f"c{self.campaign}:openmeadow",
                self.reply_to,
                t.unsubscribe_address(to.delivery, self.unsubscribe_domain),
            ),
        )
        return self._signed(plain, at)

    def _signed(self, message: bytes, at: int) -> bytes:
        """The message with the signature of its domain before it, or both where it signs twice."""
        if not self._signers:
            self._signers = [Signer(self.domain, selector, key) for selector, key in self.keys]
        return b"".join(s.header(message, at) for s in self._signers) + message


@lru_cache(maxsize=4)
def _unpacked(composer: bytes) -> Composer:
    found: Composer = pickle.loads(composer)
    return found


def compose(request: bytes) -> list[bytes | str]:
    """For another process: (a pickled composer, addressees, the moment) pickled, and each one's message, or why it
    cannot be written."""
    packed, people, at = pickle.loads(request)
    out = list[bytes | str]()
    for to in people:
        try:
            out.append(_unpacked(packed).message(to, at))
        except FieldMistake as e:
            out.append(str(e))
    return out
