"""Hand-over: the ledger's states around every DATA, so that nobody gets a message twice and nobody is lost."""

from __future__ import annotations

import json
from dataclasses import dataclass
from typing import Any

import numpy as np

from openmeadow.core.authentication.dkim import Signer
from openmeadow.core.columns import Kind
from openmeadow.core.errors import Missing, Refused
from openmeadow.core.message.assembly import Envelope, assemble
from openmeadow.core.message.body import Body, FieldMistake, Said, links
from openmeadow.core.planning.batches import arms as draw_arms
from openmeadow.core.planning.guardrails import EVERY as EVERY_LOOK
from openmeadow.core.reports.bounces import bounce_class
from openmeadow.desk import guarding, senders
from openmeadow.desk.bring_in.events import consequences
from openmeadow.desk.campaigns import plan_of
from openmeadow.desk.checking import PAGES, asked_about
from openmeadow.desk.desk import Desk
from openmeadow.desk.recipients import gate_of
from openmeadow.desk.senders import relay, return_domain
from openmeadow.store import campaigns, events, subscribers, workspace
from openmeadow.store.facts import StoreFacts
from openmeadow.wire.smtp_out import HandOver, Relay
from openmeadow.wire.tokens import Tokens

CHUNK = EVERY_LOOK  # guardrails are read between two of them
TRIES_AFTER = (1800, 3600, 7200, 14_400)  # then every 8 h, at most 4 days (7-standards)
EVERY, AT_MOST, A_DAY = 8 * 3600, 4 * 86400, 86400


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
        trap = next((r["id"] for r in stored if r["trap"]), 0)
        postal = str(settings["postal_address"])
        self.plan = plan_of(row)
        subjects = [row["subject"], self.plan["new_subject"] or row["subject"]]
        self.bodies = [Body(s, row["preview"], row["html"], row["plain"], postal, numbers, trap) for s in subjects]
        self.urls = {v: k for k, v in numbers.items()}
        self.signer = Signer(row["domain_name"], row["selector"], row["private_key"])
        self.asks = asked_about(self.desk, row)
        self.record_opens = bool(settings["record_opens"] and row["record_opens"])

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

    def shown(self, delivery: int, subscriber: int, person: dict[str, object], arm: int) -> Said:
        """The message for a browser: what it said, its links counted as in the mail, no picture."""
        return self.bodies[arm].say(
            person,
            lambda n: f"{self.base}/c/{self.tokens.make('c', delivery, n)}",
            f"{self.base}/u/{self.tokens.make('u', delivery)}",
            pages=self.pages(delivery, subscriber),
        )

    def message(self, delivery: int, subscriber: int, email: str, person: dict[str, object], arm: int, at: int) -> bytes:
        t, row = self.tokens, self.row
        unsubscribe = f"{self.base}/u/{t.make('u', delivery)}"
        said = self.bodies[arm].say(
            person,
            lambda n: f"{self.base}/c/{t.make('c', delivery, n)}",
            unsubscribe,
            f"{self.base}/o/{t.make('o', delivery)}" if self.record_opens else "",
            self.pages(delivery, subscriber),
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
    return Writer(desk, row, tokens).shown(delivery, d["subscriber"], person_fields(person), d["arm"])


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
    """Hand over everything that is due now. Returns how many hand-overs were tried."""
    tried, db = 0, desk.store.read()
    for r in campaigns.again_due(db, desk.now()):
        with desk.store.atomic() as w:
            campaigns.requeue(w, r["batch"], desk.now())
        tried += _batch(desk, tokens, r["batch"], second_try=True)
    for r in campaigns.due_batches(db, desk.now()):
        tried += _batch(desk, tokens, r["id"])
    return tried


def _batch(desk: Desk, tokens: Tokens, id: int, *, second_try: bool = False) -> int:
    batch = campaigns.batch(desk.store.read(), id)
    assert batch is not None
    row = campaigns.one(desk.store.read(), batch["campaign"])
    assert row is not None
    if row["state"] not in ("planned", "sending", *(("finished",) if second_try else ())):
        return 0
    if batch["state"] == "waiting":
        if senders.fresh_check(desk, row["domain_id"]) == "broken":
            return 0  # the look has held the plan, with the record that broke
        if batch["kind"] == "resend":
            _draw_resend(desk, row, batch)
        with desk.store.atomic() as db:
            campaigns.set_batch(db, id, "going out")
            campaigns.update(db, row["id"], {"state": "sending"})
    tried, writer, out = 0, Writer(desk, row, tokens), relay(desk)
    try:
        while waiting := campaigns.waiting_of(desk.store.read(), id, CHUNK):
            now_row = campaigns.one(desk.store.read(), row["id"])
            if now_row is None or now_row["state"] in ("held", "stopped"):
                return tried
            out.ready()
            permitted = _allowed(desk, row, batch, waiting)
            for d in waiting:
                reason = permitted.get(d["subscriber"])
                if reason:
                    _not_now(desk, writer.plan, d, reason)
                    continue
                _one(desk, writer, out, d)
                tried += 1
            if not guarding.too_soon(desk, row["id"]) and guarding.look(desk, row["id"]):
                return tried
    finally:
        out.close()
    _close(desk, row["id"], id)
    return tried


def _not_now(desk: Desk, plan: dict[str, Any], d: Any, reason: str) -> None:
    """Passed over with the reason; who has only had too many messages waits a day, within the plan's last moment."""
    now, last = desk.now(), plan["no_later_than"]
    with desk.store.atomic() as db:
        if reason == "too many messages" and last is not None and now + A_DAY <= last:
            campaigns.mark(db, d["id"], campaigns.DEFERRED, now, reason, now + A_DAY)
        else:
            campaigns.mark(db, d["id"], campaigns.PASSED_OVER, now, reason)


def _allowed(desk: Desk, row: Any, batch: Any, waiting: list[Any]) -> dict[int, str]:
    """Reasons to pass over people at the last moment, by subscriber: the gate, and for a resend an answer."""
    view = desk.view()
    assert isinstance(view.facts, StoreFacts)
    subscribers = np.array([d["subscriber"] for d in waiting], np.int64)
    index = np.searchsorted(view.columns.people.id, subscribers)
    answer = gate_of(view.facts.only(index), row, limits=True)
    assert answer is not None
    out = {int(s): answer.why_not(i)[0] for i, s in enumerate(subscribers) if not answer.permitted[i]}
    if batch["kind"] == "resend":
        rows = view.columns.rows
        for s, i in zip(subscribers.tolist(), index.tolist(), strict=True):
            for r in range(int(view.columns.start[i]), int(view.columns.start[i + 1])):
                if rows.message[r] == row["message"] and min(rows.opened_at[r], rows.reacted_at[r]) <= view.now:
                    out[s] = "answered before the resend"
    return out


def _one(desk: Desk, writer: Writer, out: Relay, d: Any) -> None:
    """``handing over`` is written before DATA, the result after; each in a transaction of its own."""
    now = desk.now()
    try:
        message = writer.message(d["id"], d["subscriber"], d["email"], person_fields(d), d["arm"], now)
    except FieldMistake as e:
        with desk.store.atomic() as db:
            campaigns.mark(db, d["id"], campaigns.PASSED_OVER, now, str(e))
        return
    with desk.store.atomic() as db:
        campaigns.mark(db, d["id"], campaigns.HANDING, now)
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


def unanswered_of(desk: Desk, row: Any, first_batch: int, machine_only: bool) -> dict[int, int]:
    """Subscriber -> band of those of one first-pass batch who got the message and left it unanswered."""
    view = desk.view()
    rows, now = view.columns.rows, view.now
    of_batch = {
        d["subscriber"]: d
        for d in campaigns.of_campaign(desk.store.read(), row["id"], "first")
        if d["batch_n"] == first_batch and d["state"] == campaigns.HANDED
    }
    hit = (rows.message == row["message"]) & (rows.failed_at > now)
    hit &= (rows.opened_at > now) & (rows.reacted_at > now)
    if not machine_only:
        hit &= rows.machine_at > now
    people = view.columns.people.id[rows.person[hit]]
    return {int(s): int(of_batch[int(s)]["band"]) for s in people if int(s) in of_batch}


def _draw_resend(desk: Desk, row: Any, batch: Any) -> None:
    """Who is due for the resend of one batch, held back and divided into arms by lot; once."""
    plan, names = plan_of(row), json.loads(batch["arms"])
    due = unanswered_of(desk, row, batch["n"], bool(plan["machine_only"]))
    subscribers = np.array(sorted(due), np.int64)
    arm = draw_arms(int(row["seed"]) + batch["n"], subscribers, float(batch["held_share"]), len(names))
    with desk.store.atomic() as db:
        campaigns.add_deliveries(
            db,
            (
                (
                    batch["pass"],
                    batch["id"],
                    int(s),
                    max(int(a), 0),
                    due[int(s)],
                    campaigns.PASSED_OVER if a < 0 else campaigns.WAITING,
                    "held back" if a < 0 else None,
                )
                for s, a in zip(subscribers, arm, strict=True)
            ),
        )
        campaigns.set_batch(db, batch["id"], "waiting", people=len(subscribers))
        workspace.log(db, desk.now(), "worker", "drew resend", f"{row['name']}, batch {batch['n']}", len(subscribers))
