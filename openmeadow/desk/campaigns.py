"""Campaigns: write, choose, check, plan, start, hold, go on, stop."""

from __future__ import annotations

import json
import secrets
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np

from openmeadow.core.addresses.syntax import address_key, syntax_problem
from openmeadow.core.consent.gate import SUPPRESSION_REASONS
from openmeadow.core.errors import Missing, Refused
from openmeadow.core.message.body import links, one_line, twin
from openmeadow.core.planning.slots import allowed_from
from openmeadow.desk import (
    approving,
    asking,
    audience,
    checking,
    recipients,
    resending,
    segments,
    senders,
    templates,
    timing,
    versions,
)
from openmeadow.desk.desk import Desk
from openmeadow.desk.planning import NO_ROOM, ONCE, check_plan, draw_schedule, plan_of, start_problem, windows_of
from openmeadow.store import campaigns, consent, ledger, subscribers, workspace, writing
from openmeadow.store import senders as from_addresses

TRAP_PATH = "/trap"
TESTS_TO_ONE, TESTS_BY_ONE = 6, 40  # test messages within an hour
NO_TESTS = ("complaint", "hard bounce", "bad address")  # suppressed for these, nobody gets one


def row_of(desk: Desk, id: int) -> Any:
    row = campaigns.one(desk.store.read(), id)
    if row is None:
        raise Missing("There is no such campaign.")
    return row


def add(desk: Desk, name: str, who: str, *, template: int = 0, other: int = 0) -> int:
    """Begin a draft, empty or with the message of a template or of another campaign; its id."""
    name = name.strip()
    if not name:
        raise Refused("A campaign needs a name.")
    wait = timing.usual_wait(desk.view())
    with desk.store.atomic() as db:
        if campaigns.named(db, name):
            raise Refused(f"There is already a campaign “{name}”.")
        id = campaigns.add(db, name, secrets.randbits(48), desk.now())
        campaigns.update(db, id, {"plan": json.dumps({"wait": wait})})
        workspace.log(db, desk.now(), who, "began campaign", name)
    if template or other:
        templates.begin_from(desk, id, template=template, other=other)
    return id


def for_segment(desk: Desk, name: str, rule: str, who: str) -> int:
    """Keep a rule as a segment and begin a draft that mails its people; the campaign's id."""
    segment = segments.save(desk, name, rule, who)
    id = add(desk, f"Win back: {name.strip()}", who)
    write(desk, id, {"segments_in": [segment["id"]]})
    return id


def write(desk: Desk, id: int, values: dict[str, Any]) -> None:
    """Change a draft. The plain-text version follows the HTML until it is edited by hand."""
    row, values = row_of(desk, id), dict(values)
    if row["state"] != "draft":
        raise Refused(f"“{row['name']}” has started; what it says and to whom can no longer be changed.")
    values |= {k: one_line(values[k]) for k in ("name", "subject", "preview", "from_name") if k in values}
    if values.get("blocks") is not None:
        by_hand = bool(row["plain_by_hand"]) and "plain" not in values
        values |= templates.rendered(desk, values["blocks"], by_hand)
    elif "html" in values:
        values["blocks"] = None
    if "plain" in values:
        values["plain_by_hand"] = int(
            bool(values["plain"].strip()) and values["plain"] != twin(values.get("html", row["html"]))
        )
    if "html" in values and not values.get("plain_by_hand", row["plain_by_hand"]):
        values["plain"] = twin(values["html"])
    if reply_to := str(values.get("reply_to") or "").strip():
        if problem := syntax_problem(reply_to):
            raise Refused(f"Replies cannot go to “{reply_to[:80]}”: {problem}.")
        values["reply_to"] = reply_to
    if "plan" in values:
        plan = {**plan_of(row), **values["plan"]} | ONCE[row["kind"]]
        check_plan(plan)
        values["plan"] = json.dumps(plan)
    for name in ("segments_in", "segments_out", "lists_in", "lists_out"):
        if name in values:
            values[name] = json.dumps(values[name])
    with desk.store.atomic() as db:
        if values.get("purpose") is not None and consent.purpose(db, values["purpose"]) is None:
            raise Missing("There is no such purpose.")
        if values.get("from_address") is not None and not from_addresses.has_address(db, values["from_address"]):
            raise Missing("There is no such from-address.")
        if "name" in values and (other := campaigns.named(db, values["name"])) and other["id"] != id:
            raise Refused(f"There is already a campaign “{values['name']}”.")
        campaigns.update(db, id, values)


def choose(desk: Desk, id: int, email: str, side: str) -> None:
    """Take one subscriber into a draft by their address, leave them out, or forget them (side "")."""
    row, key = row_of(desk, id), address_key(email.strip())
    if row["state"] != "draft":
        raise Refused(f"“{row['name']}” has started; to whom it goes can no longer be changed.")
    found = subscribers.ids_of(desk.store.read(), [key])
    if key not in found:
        raise Missing(f"Nobody here has the address {email.strip()[:80]}.")
    with desk.store.atomic() as db:
        campaigns.choose_person(db, id, found[key], side)


# what keeps a plan from starting that another program sends: its sender and its message are that program's
THERE_TOO = ("Purpose", "Recipients", "Consent", "Second pair of eyes")


def start(desk: Desk, id: int, who: str, *, elsewhere: bool = False) -> dict[str, int]:
    """Draw the batches and let the plan run. Everybody permitted gets exactly one row in the ledger. ``elsewhere``:
    another program hands it over, and the event log tells."""
    row = row_of(desk, id)
    if row["state"] != "draft":
        raise Refused(f"“{row['name']}” has already been started.")
    if row["sequence"]:
        raise Refused("It goes out with its sequence: start that.")
    if row["domain_id"]:
        senders.fresh_check(desk, row["domain_id"])
        row = row_of(desk, id)
    stops = checking.stops(audience.thorough(desk, row))
    if elsewhere:
        stops = [s for s in stops if s["check"] in THERE_TOO]
    if stops:
        raise Refused(f"It cannot start yet. {stops[0]['check']}: {stops[0]['finding']}")
    p = plan_of(row)
    check_plan(p)
    if problem := start_problem(desk, p):
        raise Refused(f"It cannot start: {problem}")
    chosen = recipients.work_out(desk, row)
    if not len(chosen.index):
        reason = next((words for words, n in chosen.sieve if n < 0), "the segments are empty")
        raise Refused(f"Nobody would receive this: {reason.lower()}.")
    other = writing.version(desk.store.read(), id, versions.VERSIONS)
    drawn, band = draw_schedule(desk, row, chosen), chosen.view.scores.band[chosen.index]
    if not drawn.moments:
        raise Refused(f"It cannot start. {NO_ROOM}")
    subscriber = chosen.subscriber  # looked up once: it is as long as the campaign is large
    with desk.store.roomy(), desk.store.atomic() as db:
        if (again := campaigns.one(db, id)) is None or again["state"] != "draft":
            raise Refused(f"“{row['name']}” has already been started.")
        message = campaigns.add_message(db, row["name"], row["purpose"])
        on_start(desk, db, row, message, who)
        texts = [row] if other is None else [row, other]
        for url in dict.fromkeys(u for t in texts for u in links(t["html"], t["plain"])):
            campaigns.add_link(db, message, url)
        campaigns.add_link(db, message, str(desk.setting("public_url")) + TRAP_PATH, trap=True)
        writing.add_version(db, id, 1, dict(row), who, desk.now())
        first = ledger.add_pass(db, id, "first")
        sizes = np.bincount(drawn.batch[drawn.batch >= 0], minlength=len(drawn.moments))
        batches = [
            ledger.add_batch(db, first, i + 1, at, int(n))
            for i, (at, n) in enumerate(zip(drawn.moments, sizes.tolist(), strict=True))
        ]
        # all by ascending subscriber, which is how the ledger's indexes grow without being torn
        why = "no room before the plan's last moment"
        ledger.add_deliveries(
            db,
            (
                (first, batches[0], s, 0, b, ledger.PASSED_OVER, why)
                if n < 0
                else (first, batches[n], s, 0, b, ledger.WAITING, None)
                for s, b, n in zip(subscriber.tolist(), band.tolist(), drawn.batch.tolist(), strict=True)
            ),
        )
        if p["resend"]:
            resending.plan_passes(db, id, p, drawn.moments, ZoneInfo(str(desk.setting("time_zone"))))
        if p["test"] and other is not None:
            by_lot = versions.divide(row, subscriber, drawn.batch == 0)
            ledger.set_versions(db, ((int(v), first, int(s)) for v, s in zip(by_lot, subscriber, strict=True) if v))
        campaigns.update(
            db,
            id,
            {
                "state": "planned",
                "message": message,
                "started_at": desk.now(),
                "sieve": json.dumps(chosen.sieve),
                "elsewhere": int(elsewhere),
            },
        )
        act = "planned, to be sent elsewhere" if elsewhere else "started plan"
        workspace.log(db, desk.now(), who, act, row["name"], len(chosen.index))
    return {"people": len(chosen.index), "batches": len(drawn.moments)}


def on_start(desk: Desk, db: Any, row: Any, message: int, who: str) -> None:
    """A consent request keeps the segments of who agreed and who stayed silent."""
    if row["kind"] == "consent request":
        asking.keep_segments(desk, db, row, message, who)


def hold(desk: Desk, id: int, who: str) -> None:
    """Nothing more goes out until somebody goes on; what is being handed over at this moment is finished."""
    _move(desk, id, who, ("planned", "sending"), "held", "held plan")


def go_on(desk: Desk, id: int, who: str) -> None:
    """Go on with a held plan; guardrails count anew from here."""
    row = row_of(desk, id)
    if approving.needed(desk) and row["asked_by"] == who and row["held_why"].startswith(f"{who} changed"):
        raise Refused("You changed the message yourself; somebody else must look at it and go on.")
    with desk.store.atomic() as db:
        _move(desk, id, who, ("held",), "sending", "resumed plan")
        campaigns.update(db, id, {"guard_from": desk.now() + 1, "held_why": "", "held_evidence": "[]"})
        ledger.requeue_blocked(db, id)


def stop(desk: Desk, id: int, who: str) -> int:
    """For good: everybody still waiting is passed over. Returns how many."""
    if row_of(desk, id)["sequence"]:
        raise Refused("It belongs to a sequence: switch the step off there, or end the sequence.")
    with desk.store.atomic() as db:
        _move(desk, id, who, ("planned", "sending", "held"), "stopped", "stopped plan")
        ledger.set_batches(db, id, ("waiting", "going out", "held"), "stopped")
        return ledger.stop_waiting(db, id, desk.now())


def move(desk: Desk, id: int, batch: int, due_at: int, who: str) -> int:
    """Another moment for a batch that still waits: never before now nor outside the allowed hours; its resend moves
    along. The moment it got."""
    row, db = row_of(desk, id), desk.store.read()
    found = ledger.batch(db, batch)
    if found is None or found["campaign"] != id:
        raise Missing("There is no such batch.")
    if row["state"] not in ("planned", "sending", "held") or found["state"] != "waiting":
        raise Refused("Only a batch that still waits can be moved.")
    p, zone = plan_of(row), ZoneInfo(str(desk.setting("time_zone")))
    at = allowed_from(max(due_at, desk.now()), windows_of(p), zone)
    if p["no_later_than"] and at > p["no_later_than"]:
        raise Refused("That is after the plan's last moment.")
    with desk.store.atomic() as w:
        if found["kind"] == "first" and found["n"] > 1 and p["lead_share"]:
            lead = ledger.first_moment(w, id)
            at = max(at, lead)
        for b in ledger.batches(w, id):
            same = b["id"] == batch or (found["kind"] == "first" and b["n"] == found["n"])
            if same and b["state"] == "waiting":
                ledger.move_batch(w, b["id"], b["due_at"] + at - found["due_at"])
        workspace.log(w, desk.now(), who, f"moved batch {found['n']}", row["name"])
    return at


def _move(desk: Desk, id: int, who: str, states: tuple[str, ...], to: str, act: str) -> None:
    with desk.store.atomic() as db:
        row = campaigns.one(db, id)
        if row is None:
            raise Missing("There is no such campaign.")
        if row["state"] not in states:
            raise Refused(f"“{row['name']}” is {row['state']}, so this cannot be done.")
        campaigns.update(db, id, {"state": to})
        workspace.log(db, desk.now(), who, act, row["name"])


def test_message(desk: Desk, id: int, to: str, who: str, subscriber: int = 0) -> int:
    """One copy to a colleague as a chosen person would get it, marked as a test and never counted. The number of its
    kept source."""
    from openmeadow.desk.writer import test_copy

    if problem := syntax_problem(to.strip()):
        raise Refused(f"“{to.strip()[:80]}” is no address: {problem}.")
    _may_get_tests(desk, to.strip(), who)
    return test_copy(desk, row_of(desk, id), to.strip(), who, subscriber=subscriber)


def _may_get_tests(desk: Desk, to: str, who: str) -> None:
    """A few test messages an hour to one address, more by one person; none to who complained or cannot be reached."""
    db, since, key = desk.store.read(), desk.now() - 3_600, address_key(to)
    if writing.tests_since(db, since, recipient=to) >= TESTS_TO_ONE:
        raise Refused(
            f"{to} has had {TESTS_TO_ONE} test messages within the hour; wait a little, or send to somebody else."
        )
    if writing.tests_since(db, since, who=who) >= TESTS_BY_ONE:
        raise Refused(f"You have sent {TESTS_BY_ONE} test messages within the hour; wait a little.")
    ids = subscribers.ids_of(db, [key])
    reasons = consent.suppressions_of(db, ids[key]) if key in ids else []
    against = [SUPPRESSION_REASONS[r - 1] for r in reasons if SUPPRESSION_REASONS[r - 1] in NO_TESTS]
    if against:
        raise Refused(f"{to} is suppressed ({', '.join(against)}); no test goes there.")
