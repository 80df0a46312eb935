"""What one person's message says and how it goes out: fields, links, own pages, signature. Test copies too."""

from __future__ import annotations

import secrets
from collections.abc import Collection, Mapping
from dataclasses import dataclass

import numpy as np

from openmeadow.core.authentication.hosts import return_domain
from openmeadow.core.delivery.plan import Variant
from openmeadow.core.errors import Missing, Refused
from openmeadow.core.ids import NO_DELIVERY, NOBODY, DeliveryId, SubscriberId
from openmeadow.core.message.personalisation import Said, links, rules_in
from openmeadow.net.signed_tokens import Tokens
from openmeadow.services.campaigns import resend
from openmeadow.services.campaigns.composer import Addressee, Composer, Text
from openmeadow.services.campaigns.preflight import asked_about
from openmeadow.services.senders.relay import relay
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings as settings_table
from openmeadow.store.campaigns import campaigns, content, deliveries
from openmeadow.store.campaigns.delivery_records import CampaignDelivery, Delivery, QueuedDelivery
from openmeadow.store.campaigns.records import Campaign, Version
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
    """Makes one campaign's messages, person by person. ``composer`` is what does it, without the workspace."""

    workspace: Workspace
    row: Campaign
    tokens: Tokens

    def __post_init__(self) -> None:
        db, row = self.workspace.store.read(), self.row
        settings, domain = settings_table.settings(db), row.domain_name or ""
        self.base, self.plan = str(settings["public_url"]).rstrip("/"), row.plan
        stored = campaigns.links(db, row.message) if row.message else []
        numbers = {r.url: r.id for r in stored if not r.trap}
        trap = next((r.id for r in stored if r.trap), 0)
        if not row.message:  # a draft: the same with numbers of its own
            numbers = {u: n for n, u in enumerate(links(row.html, row.plain), start=1)}
            trap = len(numbers) + 1
        purpose = (row.purpose_name or "").replace("<", "")
        second = senders.second_keys(db, row.domain_id or 0)
        self.composer = Composer(
            self.tokens,
            row.id,
            self.base,
            row.from_name,
            row.from_text or "",
            row.reply_to,
            domain,
            return_domain(domain),
            f"{purpose} <purpose-{row.purpose}.{domain}>" if purpose else "",
            str(settings["postal_address"]),
            numbers if row.track_clicks else {},
            trap if row.track_clicks and settings["hidden_link"] else 0,
            {v: k for k, v in numbers.items()} | {trap: f"{self.base}/trap"},
            {name: purpose for name, (purpose, _) in asked_about(self.workspace, row).items()},
            bool(settings["track_opens"] and row.track_opens),
            [(row.selector or "", row.private_key or ""), *((k.selector, k.private_key) for k in second)],
        )
        self.rules: dict[int, list[str]] = {}

    def stored(self, version: int) -> Campaign | Version:
        """A version as it is kept."""
        return content.version(self.workspace.store.read(), self.row.id, version) or self.row

    def texts(self, version: int) -> Text:
        """What a version says."""
        found = self.composer.texts.get(version)
        if found is None:
            kept = self.stored(version)
            found = Text(kept.subject, kept.preview, kept.html, kept.plain)
            self.composer.texts[version] = found
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

    def addressee(
        self, d: Delivery, email: str, fields: Mapping[str, object], variant: Variant | None, held: Collection[str]
    ) -> Addressee:
        """Whom a delivery's message is written to."""
        version = d.version or self.row.version
        self.texts(version)  # known to the composer
        subject, preview = (variant.subject, variant.preview) if variant else ("", "")
        return Addressee(d.id, d.subscriber, email, version, fields, subject, preview, held)

    def sample(
        self, subscriber: SubscriberId, to: str = "", version: int = 0, without: Collection[str] = ()
    ) -> Addressee:
        """Whom a test or a preview is written to: with the fields of a chosen person and the rules that hold for them; of
        nobody with 0. ``without`` are rules not to ask."""
        stored = subscribers.subscriber(self.workspace.store.read(), subscriber) if subscriber else None
        fields = person_fields(stored) if stored else dict(NO_FIELDS)
        version = version or self.row.version
        held = self.held(version, np.array([subscriber], np.int64), without)[0] if stored else set()
        self.texts(version)
        return Addressee(NO_DELIVERY, NOBODY, to or str(fields["email"]), version, fields, held=held)


NO_FIELDS: dict[str, object] = {"name": "", "first_name": "", "email": "you@x.example"}


def _composed(workspace: Workspace, tokens: Tokens, d: CampaignDelivery | None) -> tuple[Composer, Addressee, Campaign]:
    """What makes a delivery's message anew: from its version, for its person as they are now."""
    row = campaigns.one(workspace.store.read(), d.campaign) if d is not None else None
    person = subscribers.subscriber(workspace.store.read(), d.subscriber) if d is not None else None
    if d is None or row is None or person is None or person.erased_at:
        raise Missing("This message does not exist any more.")
    writer = Writer(workspace, row, tokens)
    variants = resend.arms_in(d, writer.plan) if d.kind != "first" else [None]
    held = writer.held(d.version or row.version, np.array([d.subscriber], np.int64))[0]
    return writer.composer, writer.addressee(d, person.email, person_fields(person), variants[d.variant], held), row


def in_browser(workspace: Workspace, tokens: Tokens, delivery: DeliveryId) -> Said:
    """One person's message, for the page that shows it in a browser."""
    composer, to, _ = _composed(workspace, tokens, deliveries.delivery(workspace.store.read(), delivery))
    return composer.said(to, in_browser=True)


def source_of(workspace: Workspace, tokens: Tokens, delivery: DeliveryId) -> bytes:
    """A message that was sent, made anew from its version, its person as they are now, and the moment it was sent."""
    d = deliveries.delivery(workspace.store.read(), delivery)
    composer, to, row = _composed(workspace, tokens, d)
    sent = (deliveries.SENT, deliveries.FAILED, deliveries.UNCONFIRMED, deliveries.DEFERRED)
    if d is None or d.state not in sent or not row.private_key:
        raise Refused("This message was not sent, so it has no source.")
    return composer.message(to, d.changed_at or workspace.now())


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
    own = mark or f"test.{row.id}.{now}.{secrets.token_hex(4)}@{domain}"
    message = writer.composer.message(writer.sample(subscriber, to), now, f"<{own}>", label)
    out = relay(workspace)
    try:
        result = out.submit(f"test@{return_domain(domain)}", to, message)
    finally:
        out.close()
    if result.outcome != "taken":
        raise Refused(f"The relay rejected the test to {to}: {result.code} {result.text}.")
    with workspace.store.atomic() as db:
        return content.save_test_copy(db, row.id, now, who, to, message)
