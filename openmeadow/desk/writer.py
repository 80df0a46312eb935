"""What one person's message says and how it goes out: fields, links, own pages, signature. Test copies too."""

from __future__ import annotations

import json
from dataclasses import dataclass
from typing import Any

import numpy as np

from openmeadow.core.authentication.dkim import Signer
from openmeadow.core.errors import Missing, Refused
from openmeadow.core.message.assembly import Envelope, assemble
from openmeadow.core.message.body import Body, Said, links, rules_in
from openmeadow.desk import resending
from openmeadow.desk.checking import PAGES, asked_about
from openmeadow.desk.desk import Desk
from openmeadow.desk.planning import plan_of
from openmeadow.desk.relay import relay
from openmeadow.desk.senders import return_domain
from openmeadow.store import campaigns, ledger, subscribers, workspace, writing
from openmeadow.wire.tokens import Tokens

TEXTS = ("subject", "html", "plain")


def person_fields(row: Any) -> dict[str, object]:
    """The personal fields of a subscriber row."""
    name = row["name"] or ""
    return {**json.loads(row["fields"]), "name": name, "first_name": name.split(" ")[0], "email": row["email"]}


@dataclass
class Writer:
    """Makes one campaign's messages, person by person."""

    desk: Desk
    row: Any
    tokens: Tokens

    def __post_init__(self) -> None:
        db, row = self.desk.store.read(), self.row
        settings = workspace.settings(db)
        self.base = str(settings["public_url"]).rstrip("/")
        stored = campaigns.links(db, row["message"]) if row["message"] else []
        numbers = {r["url"]: r["id"] for r in stored if not r["trap"]} or {u: 0 for u in links(row["html"])}
        self.numbers = numbers if row["record_clicks"] else {}
        self.trap = next((r["id"] for r in stored if r["trap"]), 0) if row["record_clicks"] else 0
        self.postal = str(settings["postal_address"])
        self.plan = plan_of(row)
        self.urls = {v: k for k, v in numbers.items()}
        self.signer = Signer(row["domain_name"], row["selector"], row["private_key"])
        self.asks = asked_about(self.desk, row)
        self.record_opens = bool(settings["record_opens"] and row["record_opens"])
        self.bodies: dict[tuple[int, str, str], Body] = {}
        self.rules: dict[int, list[str]] = {}

    def texts(self, version: int) -> Any:
        """What a version says."""
        kept = writing.version(self.desk.store.read(), self.row["id"], version)
        return self.row if kept is None else kept

    def body(self, version: int, arm: dict[str, Any] | None) -> Body:
        """A version's body, under an arm's own subject or opening lines where it has them."""
        subject, preview = (str((arm or {}).get(t) or "") for t in ("subject", "preview"))
        found = self.bodies.get((version, subject, preview))
        if found is None:
            t = self.texts(version)
            found = Body(
                subject or t["subject"],
                preview or t["preview"],
                t["html"],
                t["plain"],
                self.postal,
                self.numbers,
                self.trap,
            )
            self.bodies[version, subject, preview] = found
        return found

    def rules_of(self, version: int) -> list[str]:
        """The rules that parts of a version are shown by."""
        if version not in self.rules:
            t = self.texts(version)
            self.rules[version] = list(dict.fromkeys(r for x in TEXTS for r in rules_in(t[x])))
        return self.rules[version]

    def held(self, version: int, subscribers: np.ndarray) -> list[set[str]]:
        """For each of some people (ascending ids) the rules of a version that hold."""
        rules = self.rules_of(version)
        if not rules:
            return [set() for _ in subscribers]
        view = self.desk.view_of(subscribers, self.desk.pace())
        masks = [(r, view.mask(self.desk.checked_rule(r, view))) for r in rules]
        return [{r for r, mask in masks if mask[i]} for i in range(len(subscribers))]

    def pages(self, delivery: int, subscriber: int) -> dict[str, str]:
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

    def shown(self, d: Any, person: dict[str, object], arm: dict[str, Any] | None, held: set[str]) -> Said:
        """The message for a browser: what it said, its links counted as in the mail, no picture."""
        delivery, subscriber = d["id"], d["subscriber"]
        return self.body(d["version"] or self.row["version"], arm).say(
            person,
            lambda n: f"{self.base}/c/{self.tokens.make('c', delivery, n)}",
            f"{self.base}/u/{self.tokens.make('u', delivery)}",
            pages=self.pages(delivery, subscriber),
            held=held,
        )

    def message(self, d: Any, person: dict[str, object], arm: dict[str, Any] | None, held: set[str], at: int) -> bytes:
        t, row = self.tokens, self.row
        delivery, subscriber, email = d["id"], d["subscriber"], d["email"]
        unsubscribe = f"{self.base}/u/{t.make('u', delivery)}"
        said = self.body(d["version"] or row["version"], arm).say(
            person,
            lambda n: f"{self.base}/c/{t.make('c', delivery, n)}",
            unsubscribe,
            f"{self.base}/o/{t.make('o', delivery)}" if self.record_opens else "",
            self.pages(delivery, subscriber),
            held,
        )
        plain = assemble(
            said,
            Envelope(
                row["from_name"],
                row["from_text"],
                email,
                t.message_id(delivery, row["id"], row["domain_name"]),
                at,
                f"{row['purpose_name'].replace('<', '')} <purpose-{row['purpose']}.{row['domain_name']}>",
                unsubscribe,
                f"c{row['id']}:openmeadow",
            ),
        )
        return self.signer.header(plain, at) + plain


def in_browser(desk: Desk, tokens: Tokens, delivery: int) -> Said:
    """One person's message, for the page that shows it in a browser."""
    d = ledger.delivery(desk.store.read(), delivery)
    row = campaigns.one(desk.store.read(), d["campaign"]) if d is not None else None
    person = subscribers.subscriber(desk.store.read(), d["subscriber"]) if d is not None else None
    if d is None or row is None or person is None or person["erased_at"]:
        raise Missing("This message is not there any more.")
    writer = Writer(desk, row, tokens)
    arms = resending.arms_in(d, writer.plan) if d["kind"] != "first" else [None]
    held = writer.held(d["version"] or row["version"], np.array([d["subscriber"]], np.int64))[0]
    return writer.shown(d, person_fields(person), arms[d["arm"]], held)


def test_copy(desk: Desk, row: Any, to: str, *, mark: str = "", label: str = "[Test] ") -> None:
    """A copy marked as a test: its links are plain, nothing is recorded. ``mark`` is its Message-ID where one is given."""
    if not row["from_text"] or not row["confirmed_at"] or not row["private_key"]:
        raise Refused("Choose a confirmed from-address whose domain has a key first.")
    settings = workspace.settings(desk.store.read())
    body = Body(
        f"{label}{row['subject']}", row["preview"], row["html"], row["plain"], str(settings["postal_address"]), {}
    )
    pages = dict.fromkeys((*PAGES, *asked_about(desk, row)), str(settings["public_url"]))
    person = {"name": "Test Person", "first_name": "Test", "email": to}
    said = body.say(person, str, settings["public_url"], pages=pages)
    own = f"test.{row['id']}.{desk.now()}@{row['domain_name']}"
    message = assemble(said, Envelope(row["from_name"], row["from_text"], to, f"<{mark or own}>", desk.now()))
    signer = Signer(row["domain_name"], row["selector"], row["private_key"])
    out = relay(desk)
    try:
        result = out.hand_over(
            f"test@{return_domain(row['domain_name'])}", to, signer.header(message, desk.now()) + message
        )
    finally:
        out.close()
    if result.outcome != "taken":
        raise Refused(f"The test to {to} was not taken: {result.code} {result.text}.")
