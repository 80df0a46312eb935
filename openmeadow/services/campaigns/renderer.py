"""What one person's message says and how it goes out: fields, links, own pages, signature. Test copies too."""

from __future__ import annotations

import secrets
from collections.abc import Collection, Mapping
from dataclasses import dataclass

import numpy as np

from openmeadow.core.authentication.dkim import Signer
from openmeadow.core.authentication.hosts import return_domain
from openmeadow.core.delivery.plan import Variant
from openmeadow.core.errors import Missing, Refused
from openmeadow.core.ids import NOBODY, DeliveryId, SubscriberId
from openmeadow.core.message.assembly import Envelope, assemble
from openmeadow.core.message.personalisation import Body, Said, links, rules_in
from openmeadow.net.signed_tokens import Tokens
from openmeadow.services.campaigns import resend
from openmeadow.services.campaigns.preflight import asked_about
from openmeadow.services.senders.relay import relay
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings as settings_table
from openmeadow.store.campaigns import campaigns, content, deliveries
from openmeadow.store.campaigns.delivery_records import CampaignDelivery, QueuedDelivery
from openmeadow.store.campaigns.records import Addressed, Campaign, Version
from openmeadow.store.senders import senders
from openmeadow.store.subscribers import subscribers
from openmeadow.store.subscribers.records import Subscriber

TEXTS = ("subject", "html", "plain")


def person_fields(row: QueuedDelivery | Subscriber) -> dict[str, object]:
    """The merge fields of a subscriber row."""
    name = row.name or ""
    return {**row.fields, "name": name, "first_name": name.split(" ")[0], "email": row.email}


@dataclass
class Writer:
    """Makes one campaign's messages, person by person."""

    workspace: Workspace
    row: Campaign
    tokens: Tokens

    def __post_init__(self) -> None:
        db, row = self.workspace.store.read(), self.row
        settings = settings_table.settings(db)
        self.base = str(settings["public_url"]).rstrip("/")
        stored = campaigns.links(db, row.message) if row.message else []
        numbers = {r.url: r.id for r in stored if not r.trap}
        trap = next((r.id for r in stored if r.trap), 0)
        if not row.message:  # a draft: the same with numbers of its own
            numbers = {u: n for n, u in enumerate(links(row.html, row.plain), start=1)}
            trap = len(numbers) + 1
        self.numbers = numbers if row.track_clicks else {}
        self.trap = trap if row.track_clicks and settings["hidden_link"] else 0
        self.postal = str(settings["postal_address"])
        self.plan = row.plan
        self.urls = {v: k for k, v in numbers.items()} | {trap: f"{self.base}/trap"}
        self.asks = asked_about(self.workspace, row)
        self.track_opens = bool(settings["track_opens"] and row.track_opens)
        self.bodies: dict[tuple[int, str, str], Body] = {}
        self.rules: dict[int, list[str]] = {}
        self._signers: list[Signer] = []

    def signed(self, message: bytes, at: int) -> bytes:
        """The message with the signature of its domain before it, or both where it signs twice."""
        if not self._signers:
            r, name = self.row, self.row.domain_name or ""
            second = senders.second_keys(self.workspace.store.read(), r.domain_id or 0)
            self._signers = [Signer(name, r.selector or "", r.private_key or "")]
            self._signers += [Signer(name, k.selector, k.private_key) for k in second]
        return b"".join(s.header(message, at) for s in self._signers) + message

    def texts(self, version: int) -> Campaign | Version:
        """What a version says."""
        kept = content.version(self.workspace.store.read(), self.row.id, version)
        return self.row if kept is None else kept

    def body(self, version: int, variant: Variant | None) -> Body:
        """A version's body, under an variant's own subject or opening lines where it has them."""
        subject, preview = (variant.subject, variant.preview) if variant else ("", "")
        found = self.bodies.get((version, subject, preview))
        if found is None:
            t = self.texts(version)
            found = Body(
                subject or t.subject, preview or t.preview, t.html, t.plain, self.postal, self.numbers, self.trap
            )
            self.bodies[version, subject, preview] = found
        return found

    def rules_of(self, version: int) -> list[str]:
        """The rules that parts of a version are shown by."""
        if version not in self.rules:
            t = self.texts(version)
            self.rules[version] = list(dict.fromkeys(r for x in TEXTS for r in rules_in(getattr(t, x))))
        return self.rules[version]

    def held(self, version: int, subscribers: np.ndarray, without: Collection[str] = ()) -> list[set[str]]:
        """For each of some people (ascending ids) the rules of a version that hold."""
        rules = [r for r in self.rules_of(version) if r not in without]
        if not rules:
            return [set() for _ in subscribers]
        view = self.workspace.view_of(subscribers, self.workspace.pace())
        masks = [(r, view.mask(self.workspace.checked_rule(r, view))) for r in rules]
        return [{r for r, mask in masks if mask[i]} for i in range(len(subscribers))]

    def pages(self, delivery: DeliveryId, subscriber: SubscriberId) -> dict[str, str]:
        """The addresses of this person's own pages."""
        t = self.tokens
        out = {
            "preferences_url": f"{self.base}/p/{t.make('p', subscriber)}",
            "stay_url": f"{self.base}/k/{t.make('w', delivery)}",
            "view_url": f"{self.base}/m/{t.make('m', delivery)}",
        }
        for field, (purpose, _) in self.asks.items():
            out[field] = f"{self.base}/k/{self.tokens.make('r', delivery, purpose)}"
        return out

    def shown(self, d: CampaignDelivery, person: dict[str, object], variant: Variant | None, held: set[str]) -> Said:
        """The message for a browser: what it said, its links counted as in the mail, no image."""
        delivery, subscriber = d.id, d.subscriber
        return self.body(d.version or self.row.version, variant).say(
            person,
            lambda n: f"{self.base}/c/{self.tokens.make('c', delivery, n)}",
            f"{self.base}/u/{self.tokens.make('u', delivery)}",
            pages=self.pages(delivery, subscriber),
            held=held,
        )

    def said(
        self, d: QueuedDelivery | Addressed, person: Mapping[str, object], variant: Variant | None, held: set[str]
    ) -> Said:
        """What the message says to one person. A delivery 0 is a test: its links lead where they say, and nothing that
        its other addresses do is recorded."""
        t, delivery = self.tokens, d.id
        return self.body(d.version or self.row.version, variant).say(
            person,
            (lambda n: f"{self.base}/c/{t.make('c', delivery, n)}") if delivery else (lambda n: self.urls[n]),
            f"{self.base}/u/{t.make('u', delivery)}",
            f"{self.base}/o/{t.make('o', delivery)}" if self.track_opens else "",
            self.pages(DeliveryId(delivery), d.subscriber),
            held,
        )

    def message(
        self,
        d: QueuedDelivery | Addressed,
        person: Mapping[str, object],
        variant: Variant | None,
        held: set[str],
        at: int,
        message_id: str = "",
        label: str = "",
    ) -> bytes:
        """The message as it goes over the wire. ``label`` stands before the subject, ``message_id`` is its own: of tests."""
        t, row, delivery = self.tokens, self.row, d.id
        said, domain = self.said(d, person, variant, held), str(row.domain_name)
        purpose = (row.purpose_name or "").replace("<", "")
        plain = assemble(
            Said(f"{label}{said.subject}", said.html, said.plain),
            Envelope(
                row.from_name,
                row.from_text or "",
                d.email,
                message_id or t.message_id(DeliveryId(delivery), row.id, domain),
                at,
                f"{purpose} <purpose-{row.purpose}.{domain}>" if purpose else "",
                f"{self.base}/u/{t.make('u', delivery)}",
                f"c{row.id}:openmeadow",
                row.reply_to,
                t.unsubscribe_address(DeliveryId(delivery), return_domain(domain)),
            ),
        )
        return self.signed(plain, at)

    def sample(
        self, subscriber: SubscriberId, to: str, version: int = 0, without: Collection[str] = ()
    ) -> tuple[Addressed, dict[str, object], set[str]]:
        """(delivery 0, fields, rules that hold) of a chosen person, for previews and tests; of nobody with 0. ``without``
        are rules not to ask."""
        stored = subscribers.subscriber(self.workspace.store.read(), subscriber) if subscriber else None
        fields = person_fields(stored) if stored else dict(NO_FIELDS)
        version = version or self.row.version
        held = self.held(version, np.array([subscriber], np.int64), without)[0] if stored else set()
        return Addressed(0, SubscriberId(0), to or str(fields["email"]), version), fields, held


NO_FIELDS: dict[str, object] = {"name": "", "first_name": "", "email": "you@x.example"}


def in_browser(workspace: Workspace, tokens: Tokens, delivery: DeliveryId) -> Said:
    """One person's message, for the page that shows it in a browser."""
    d = deliveries.delivery(workspace.store.read(), delivery)
    row = campaigns.one(workspace.store.read(), d.campaign) if d is not None else None
    person = subscribers.subscriber(workspace.store.read(), d.subscriber) if d is not None else None
    if d is None or row is None or person is None or person.erased_at:
        raise Missing("This message does not exist any more.")
    writer = Writer(workspace, row, tokens)
    variants = resend.arms_in(d, writer.plan) if d.kind != "first" else [None]
    held = writer.held(d.version or row.version, np.array([d.subscriber], np.int64))[0]
    return writer.shown(d, person_fields(person), variants[d.variant], held)


def source_of(workspace: Workspace, tokens: Tokens, delivery: DeliveryId) -> bytes:
    """A message that was sent, made anew from its version, its person as they are now, and the moment it was sent."""
    d = deliveries.delivery(workspace.store.read(), delivery)
    row = campaigns.one(workspace.store.read(), d.campaign) if d is not None else None
    person = subscribers.subscriber(workspace.store.read(), d.subscriber) if d is not None else None
    if d is None or row is None or person is None or person.erased_at:
        raise Missing("This message does not exist any more.")
    sent = (deliveries.SENT, deliveries.FAILED, deliveries.UNCONFIRMED, deliveries.DEFERRED)
    if d.state not in sent or not row.private_key:
        raise Refused("This message was not sent, so it has no source.")
    writer = Writer(workspace, row, tokens)
    variants = resend.arms_in(d, writer.plan) if d.kind != "first" else [None]
    held = writer.held(d.version or row.version, np.array([d.subscriber], np.int64))[0]
    at = d.changed_at or workspace.now()
    return writer.message(
        Addressed(d.id, d.subscriber, person.email, d.version), person_fields(person), variants[d.variant], held, at
    )


def test_copy(
    workspace: Workspace,
    row: Campaign,
    to: str,
    who: str,
    *,
    subscriber: SubscriberId = NOBODY,
    mark: str = "",
    label: str = "[Test] ",
) -> int:
    """A copy as the chosen person would get it, sent to a colleague: the same code, headers, parts and fields; marked as
    a test, its links harmless. ``mark`` is its Message-ID where one is given. The number of the kept source."""
    if not row.from_text or not row.confirmed_at or not row.private_key:
        raise Refused("Choose a confirmed from address whose domain has a DKIM key.")
    now, domain = workspace.now(), str(row.domain_name)
    writer = Writer(workspace, row, Tokens(workspace.folder))
    d, fields, held = writer.sample(subscriber, to)
    own = mark or f"test.{row.id}.{now}.{secrets.token_hex(4)}@{domain}"
    message = writer.message(d, fields, None, held, now, f"<{own}>", label)
    out = relay(workspace)
    try:
        result = out.submit(f"test@{return_domain(domain)}", to, message)
    finally:
        out.close()
    if result.outcome != "taken":
        raise Refused(f"The relay rejected the test to {to}: {result.code} {result.text}.")
    with workspace.store.atomic() as db:
        return content.save_test_copy(db, row.id, now, who, to, message)
