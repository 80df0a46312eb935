"""Hand-over: the ledger's states around every DATA, so that nobody gets a message twice and nobody is lost."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np

from openmeadow.core.addresses.providers import provider_names
from openmeadow.core.authentication.dkim import Signer
from openmeadow.core.columns import Kind
from openmeadow.core.errors import Missing, Refused
from openmeadow.core.message.assembly import Envelope, assemble
from openmeadow.core.message.body import Body, FieldMistake, Said, links, rules_in
from openmeadow.core.planning.guardrails import EVERY as EVERY_LOOK
from openmeadow.core.reports.bounces import bounce_class
from openmeadow.desk import guarding, resending, senders, versions
from openmeadow.desk.bring_in.events import consequences
from openmeadow.desk.checking import PAGES, asked_about
from openmeadow.desk.desk import Desk
from openmeadow.desk.planning import plan_of
from openmeadow.desk.recipients import gate_of
from openmeadow.desk.senders import relay, return_domain
from openmeadow.store import campaigns, events, subscribers, workspace, writing
from openmeadow.store.facts import StoreFacts
from openmeadow.wire.smtp_out import HandOver, Relay
from openmeadow.wire.tokens import Tokens

CHUNK = EVERY_LOOK  # guardrails are read between two of them
TRIES_AFTER = (1800, 3600, 7200, 14_400)  # then every 8 h, at most 4 days (7-standards)
EVERY, AT_MOST, A_DAY = 8 * 3600, 4 * 86400, 86400
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

    def held(self, version: int, index: Any) -> list[set[str]]:
        """For each of some people (rows of the view) the rules of a version that hold."""
        rules, view = self.rules_of(version), self.desk.view()
        masks = [(r, view.mask(self.desk.checked_rule(r, view))[index]) for r in rules]
        return [{r for r, mask in masks if mask[i]} for i in range(len(index))]

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
                f"<d{delivery}.c{row['id']}@{row['domain_name']}>",
                at,
                f"{row['purpose_name'].replace('<', '')} <purpose-{row['purpose']}.{row['domain_name']}>",
                unsubscribe,
                f"c{row['id']}:openmeadow",
            ),
        )
        return self.signer.header(plain, at) + plain


def in_browser(desk: Desk, tokens: Tokens, delivery: int) -> Said:
    """One person's message, for the page that shows it in a browser."""
    d = campaigns.delivery(desk.store.read(), delivery)
    row = campaigns.one(desk.store.read(), d["campaign"]) if d is not None else None
    person = subscribers.subscriber(desk.store.read(), d["subscriber"]) if d is not None else None
    if d is None or row is None or person is None or person["erased_at"]:
        raise Missing("This message is not there any more.")
    writer = Writer(desk, row, tokens)
    arms = resending.arms_in(d, writer.plan) if d["kind"] != "first" else [None]
    index = np.searchsorted(desk.view().columns.people.id, np.array([d["subscriber"]]))
    held = writer.held(d["version"] or row["version"], index)[0]
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


def recover(desk: Desk) -> int:
    """After a crash: what was between DATA and its answer is in doubt, and shown."""
    with desk.store.atomic() as db:
        caught = campaigns.caught_between(db, desk.now())
        if caught:
            workspace.log(db, desk.now(), "worker", "found in doubt after a stop", "deliveries", caught)
    return caught


def send_due(desk: Desk, tokens: Tokens) -> int:
    """Hand over everything that is due now, plan by plan in turns of a chunk, so that a long batch keeps no other
    waiting. Returns how many hand-overs were tried."""
    db, turns = desk.store.read(), []
    for r in campaigns.again_due(db, desk.now()):
        with desk.store.atomic() as w:
            campaigns.requeue(w, r["batch"], desk.now())
        turns.append(_batch(desk, tokens, r["batch"], second_try=True))
    turns += [_batch(desk, tokens, r["id"]) for r in campaigns.due_batches(db, desk.now())]
    tried = 0
    while turns:
        going = []
        for turn in turns:
            done = next(turn, None)
            if done is not None:
                tried += done
                going.append(turn)
        turns = going
    return tried


def _begin(desk: Desk, row: Any, batch: Any) -> bool:
    """What is done once, when a batch's moment has come; False where the plan does not go on."""
    if senders.fresh_check(desk, row["domain_id"]) == "broken":
        return False  # the look has held the plan, with the record that broke
    if batch["kind"] == "first" and batch["n"] > 1 and (why := versions.settle(desk, row)):
        with desk.store.atomic() as db:
            campaigns.update(db, row["id"], {"state": "held", "held_why": why})
            workspace.log(db, desk.now(), "worker", "held plan: versions", row["name"])
        return False
    if batch["kind"] != "first" and batch["n"] < resending.LATER:
        resending.draw(desk, row, batch)
    with desk.store.atomic() as db:
        campaigns.set_batch(db, batch["id"], "going out")
        campaigns.update(db, row["id"], {"state": "sending"})
    return True


def _batch(desk: Desk, tokens: Tokens, id: int, *, second_try: bool = False) -> Iterator[int]:
    """Hand over a batch chunk by chunk; yields how many were tried in each."""
    batch = campaigns.batch(desk.store.read(), id)
    assert batch is not None
    row = campaigns.one(desk.store.read(), batch["campaign"])
    assert row is not None
    if row["state"] not in ("planned", "sending", *(("finished",) if second_try else ())):
        return
    if batch["state"] == "waiting" and not _begin(desk, row, batch):
        return
    row = campaigns.one(desk.store.read(), batch["campaign"])
    writer, out = Writer(desk, row, tokens), relay(desk)
    try:
        while waiting := campaigns.waiting_of(desk.store.read(), id, CHUNK):
            now_row = campaigns.one(desk.store.read(), writer.row["id"])
            if now_row is None or now_row["state"] in ("held", "stopped"):
                return
            if now_row["version"] != writer.row["version"]:
                writer = Writer(desk, now_row, tokens)  # what was changed meanwhile is said from here on
            out.ready()
            yield _chunk(desk, writer, out, batch, waiting)
            if not guarding.too_soon(desk, writer.row["id"]) and guarding.look(desk, writer.row["id"]):
                return
    finally:
        out.close()
    _close(desk, writer.row["id"], id)


def _chunk(desk: Desk, writer: Writer, out: Relay, batch: Any, waiting: list[Any]) -> int:
    """Hand over to some people, or say why not; how many were tried."""
    row, tried = writer.row, 0
    arms = resending.arms_in(batch, writer.plan) if batch["kind"] != "first" else [None]
    permitted, index = _allowed(desk, row, batch, waiting)
    held: dict[int, list[set[str]]] = {}
    for i, d in enumerate(waiting):
        reason = permitted.get(d["subscriber"])
        if reason:
            _not_now(desk, writer.plan, d, reason)
            continue
        version = d["version"] or row["version"]
        if version not in held:
            held[version] = writer.held(version, index)
        _one(desk, writer, out, d, arms[d["arm"]], held[version][i])
        tried += 1
    return tried


def _not_now(desk: Desk, plan: dict[str, Any], d: Any, reason: str) -> None:
    """Passed over with the reason; who has only had too many messages waits a day, within the plan's last moment."""
    now, last = desk.now(), plan["no_later_than"]
    waits = (reason == "too many messages" and last is not None) or reason == CAP_FULL
    with desk.store.atomic() as db:
        if waits and (last is None or now + A_DAY <= last):
            campaigns.mark(db, d["id"], campaigns.DEFERRED, now, reason, now + A_DAY)
        else:
            campaigns.mark(db, d["id"], campaigns.PASSED_OVER, now, reason)


def _allowed(desk: Desk, row: Any, batch: Any, waiting: list[Any]) -> tuple[dict[int, str], Any]:
    """Reasons to pass over people at the last moment, by subscriber: the gate, a provider's cap, and for a resend an
    answer. And their rows of the view."""
    view = desk.view()
    assert isinstance(view.facts, StoreFacts)
    subscribers = np.array([d["subscriber"] for d in waiting], np.int64)
    index = np.searchsorted(view.columns.people.id, subscribers)
    answer = gate_of(view.facts.only(index), row, limits=True)
    assert answer is not None
    out = {int(s): answer.why_not(i)[0] for i, s in enumerate(subscribers) if not answer.permitted[i]}
    if batch["kind"] != "first":
        out |= resending.answered_meanwhile(view, row, subscribers, index)
    if caps := dict(plan_of(row)["caps"]):
        out |= _over_caps(desk, caps, subscribers, view.facts.provider[index], out)
    return out, index


CAP_FULL = "its provider's cap for the day is full"


def _over_caps(
    desk: Desk, caps: dict[str, int], subscribers: Any, provider: Any, without: dict[int, str]
) -> dict[int, str]:
    """Who is over a provider's cap for today, over everything this workspace has sent."""
    zone = ZoneInfo(str(desk.setting("time_zone")))
    today = datetime.fromtimestamp(desk.now(), UTC).astimezone(zone).replace(hour=0, minute=0, second=0, microsecond=0)
    had, names = campaigns.handed_by_provider(desk.store.read(), int(today.timestamp())), provider_names()
    out = {}
    for s, p in zip(subscribers.tolist(), provider.tolist(), strict=True):
        if s in without or not caps.get(names[p]):
            continue
        had[p] = had.get(p, 0) + 1
        if had[p] > caps[names[p]]:
            out[s] = CAP_FULL
    return out


def _one(desk: Desk, writer: Writer, out: Relay, d: Any, arm: dict[str, Any] | None, held: set[str]) -> None:
    """``handing over`` is written before DATA, the result after; each in a transaction of its own."""
    now = desk.now()
    try:
        message = writer.message(d, person_fields(d), arm, held, now)
    except FieldMistake as e:
        with desk.store.atomic() as db:
            campaigns.mark(db, d["id"], campaigns.PASSED_OVER, now, str(e))
        return
    with desk.store.atomic() as db:
        campaigns.begin_hand_over(db, d["id"], d["version"] or writer.row["version"], now)
    sender = writer.tokens.return_path(d["id"], return_domain(writer.row["domain_name"]))
    result = out.hand_over(sender, d["email"], message)
    with desk.store.atomic() as db:
        _record(db, d, writer.row["message"], result, now)


def _record(db: Any, d: Any, message: int, result: HandOver, now: int) -> None:
    said = f"{result.code} {result.text}".strip()
    event: tuple[Kind, str | None, str | None]
    if result.outcome == "taken":
        campaigns.mark(db, d["id"], campaigns.HANDED, now)
        event = (Kind.SENT, None, None)
    elif result.outcome == "in doubt":
        campaigns.mark(db, d["id"], campaigns.IN_DOUBT, now, said)
        return
    elif result.outcome == "deferred":
        tries = d["attempts"] + 1
        wait = TRIES_AFTER[tries - 1] if tries <= len(TRIES_AFTER) else EVERY
        if sum(TRIES_AFTER[:tries]) + max(0, tries - len(TRIES_AFTER)) * EVERY > AT_MOST:
            campaigns.mark(db, d["id"], campaigns.FAILED, now, f"deferred for 4 days: {said}")
        else:
            campaigns.mark(db, d["id"], campaigns.DEFERRED, now, said, now + wait)
        event = (Kind.DEFERRED, result.code, said)
    else:
        campaigns.mark(db, d["id"], campaigns.FAILED, now, f"{bounce_class(result.code, result.text)}: {said}")
        event = (Kind.BOUNCED, result.code, said)
    kind, code, text = event
    events.add(
        db,
        [
            (
                now,
                int(kind),
                d["subscriber"],
                message,
                0,
                0,
                0.0,
                code,
                text,
                f"delivery {d['id']} try {d['attempts'] + 1}",
            )
        ],
    )
    if kind == Kind.BOUNCED:
        consequences(db, [(now, int(kind), d["subscriber"], message, code, text)])


def _close(desk: Desk, campaign: int, batch: int) -> None:
    """A batch with nobody waiting is gone; a campaign without open batches is finished."""
    with desk.store.atomic() as db:
        if campaigns.unsettled(db, batch) == 0:
            row = campaigns.batch(db, batch)
            if row is not None and row["state"] != "gone":
                campaigns.set_batch(db, batch, "gone", gone_at=desk.now())
        if campaigns.open_batches(db, campaign) == 0:
            campaigns.update(db, campaign, {"state": "finished"})
