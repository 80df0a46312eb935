"""Campaigns: write, choose, check, plan, start, hold, go on, stop."""

from __future__ import annotations

import json
import secrets
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np

from openmeadow.core.addresses.providers import provider_names
from openmeadow.core.addresses.syntax import address_key
from openmeadow.core.engagement.score import BANDS
from openmeadow.core.errors import Missing, Refused
from openmeadow.core.message.body import links, twin
from openmeadow.core.planning.batches import BatchPlan
from openmeadow.core.planning.guardrails import LIMITS, could_show
from openmeadow.core.planning.slots import Schedule, Windows, schedule
from openmeadow.desk import asking, audience, checking, recipients, segments, senders
from openmeadow.desk.desk import Desk
from openmeadow.store import campaigns, subscribers, workspace
from openmeadow.store.facts import StoreFacts

PLAN_DEFAULTS: dict[str, Any] = {
    "start": None,
    "lead_share": 0.08,
    "batches": 3,
    "interval": 4 * 3600,
    "order": "most engaged first",
    "resend": True,
    "wait": 3 * 86400,
    "held_share": 0.10,
    "new_subject": "",
    "machine_only": False,
    "let_go_days": 0,
    "hours": [0, 24],
    "weekdays": [0, 1, 2, 3, 4, 5, 6],
    "caps": {},
    "largest": 0,
    "no_later_than": None,
}
TRAP_PATH = "/trap"
ONCE: dict[str, dict[str, Any]] = {"campaign": {}, "consent request": {"resend": False}}  # a second request is refused


def row_of(desk: Desk, id: int) -> Any:
    row = campaigns.one(desk.store.read(), id)
    if row is None:
        raise Missing("There is no such campaign.")
    return row


def plan_of(row: Any) -> dict[str, Any]:
    return {**PLAN_DEFAULTS, **json.loads(row["plan"])}


def add(desk: Desk, name: str, who: str) -> int:
    name = name.strip()
    if not name:
        raise Refused("A campaign needs a name.")
    with desk.store.atomic() as db:
        if campaigns.named(db, name):
            raise Refused(f"There is already a campaign “{name}”.")
        id = campaigns.add(db, name, secrets.randbits(48), desk.now())
        workspace.log(db, desk.now(), who, "began campaign", name)
    return id


def for_segment(desk: Desk, name: str, rule: str, who: str) -> int:
    """Keep a rule as a segment and begin a draft that mails its people; the campaign's id."""
    segment = segments.save(desk, name, rule, who)
    id = add(desk, f"Win back: {name.strip()}", who)
    write(desk, id, {"segments_in": [segment["id"]]})
    return id


def write(desk: Desk, id: int, values: dict[str, Any]) -> None:
    """Change a draft. The plain-text twin follows the HTML until it is edited by hand."""
    row = row_of(desk, id)
    if row["state"] != "draft":
        raise Refused(f"“{row['name']}” has started; what it says and to whom can no longer be changed.")
    if "plain" in values:
        values["plain_by_hand"] = int(bool(values["plain"].strip()) and values["plain"] != twin(row["html"]))
    if "html" in values and not values.get("plain_by_hand", row["plain_by_hand"]):
        values["plain"] = twin(values["html"])
    if "plan" in values:
        values["plan"] = json.dumps({**plan_of(row), **values["plan"]} | ONCE[row["kind"]])
    for name in ("segments_in", "segments_out", "lists_in", "lists_out"):
        if name in values:
            values[name] = json.dumps(values[name])
    with desk.store.atomic() as db:
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


def _batch_plan(row: Any, now: int, people: int) -> BatchPlan:
    p = plan_of(row)
    start = max(int(p["start"] or now), now)
    batches = int(p["batches"])
    if p["largest"]:
        rest = people - round(people * float(p["lead_share"]))
        batches = max(batches, -(-rest // int(p["largest"])))
    return BatchPlan(int(row["seed"]), start, float(p["lead_share"]), batches, int(p["interval"]), str(p["order"]))


def draw_schedule(desk: Desk, row: Any, who: recipients.Recipients) -> Schedule:
    """Everybody's batch, every batch's moment: hours, weekdays, caps and the last moment kept."""
    p, s = plan_of(row), who.view.scores
    assert isinstance(who.view.facts, StoreFacts)
    names = provider_names()
    return schedule(
        _batch_plan(row, desk.now(), len(who.index)),
        who.subscriber,
        s.band[who.index],
        s.score[who.index],
        who.view.facts.provider[who.index],
        Windows((int(p["hours"][0]), int(p["hours"][1])), frozenset(int(d) for d in p["weekdays"])),
        ZoneInfo(str(desk.setting("time_zone"))),
        {names.index(n): int(cap) for n, cap in dict(p["caps"]).items() if n in names and cap},
        p["no_later_than"],
    )


def preview_plan(desk: Desk, id: int) -> dict[str, Any]:
    """The batches as they would be now: moment, people, bands; and whether there is history to order by."""
    row = row_of(desk, id)
    _check_plan(plan_of(row))
    who = recipients.work_out(desk, row)
    s, drawn = who.view.scores, draw_schedule(desk, row, who)
    out = []
    for i, at in enumerate(drawn.moments):
        mine = drawn.batch == i
        out.append(
            {
                "n": i + 1,
                "due_at": at,
                "people": int(mine.sum()),
                "lead": drawn.lead and i == 0,
                "bands": np.bincount(s.band[who.index[mine]], minlength=len(BANDS)).tolist(),
            }
        )
    notes = []
    if plan_of(row)["order"] == "most engaged first" and len(who.index) and float(s.score[who.index].max()) == 0:
        notes.append("Nobody here has answered anything yet, so the order within the plan is by lot.")
    if drawn.moved:
        notes.append(f"{drawn.moved:,} people move to a later slot, because their provider's cap is full.")
    if drawn.late.any():
        notes.append(f"{int(drawn.late.sum()):,} people find no room before the last moment and are passed over.")
    silent = [name for name, limit in LIMITS.items() if len(who.index) and not could_show(len(who.index), limit)]
    if silent:
        notes.append(f"At this size nothing could be shown of {', '.join(silent)}.")
    return {"batches": out, "sieve": who.sieve, "note": " ".join(notes)}


def start(desk: Desk, id: int, who: str) -> dict[str, int]:
    """Draw the batches and let the plan run. Everybody permitted gets exactly one row in the ledger."""
    row = row_of(desk, id)
    if row["state"] != "draft":
        raise Refused(f"“{row['name']}” has already been started.")
    if row["domain_id"]:
        senders.fresh_check(desk, row["domain_id"])
        row = row_of(desk, id)
    stops = checking.stops(audience.thorough(desk, row))
    if stops:
        raise Refused(f"It cannot start yet. {stops[0]['check']}: {stops[0]['finding']}")
    p = plan_of(row)
    _check_plan(p)
    chosen = recipients.work_out(desk, row)
    if not len(chosen.index):
        reason = next((words for words, n in chosen.sieve if n < 0), "the segments are empty")
        raise Refused(f"Nobody would receive this: {reason.lower()}.")
    drawn, band = draw_schedule(desk, row, chosen), chosen.view.scores.band[chosen.index]
    with desk.store.atomic() as db:
        if (again := campaigns.one(db, id)) is None or again["state"] != "draft":
            raise Refused(f"“{row['name']}” has already been started.")
        message = campaigns.add_message(db, row["name"], row["purpose"])
        on_start(desk, db, row, message, who)
        for url in links(row["html"]):
            campaigns.add_link(db, message, url)
        campaigns.add_link(db, message, str(desk.setting("public_url")) + TRAP_PATH, trap=True)
        first = campaigns.add_pass(db, id, "first")
        again_pass = None
        if p["resend"]:
            arms = ["Same subject"] + (["New subject"] if p["new_subject"] else [])
            again_pass = campaigns.add_pass(db, id, "resend", json.dumps(arms), float(p["held_share"]))
        for i, at in enumerate(drawn.moments):
            mine = np.flatnonzero(drawn.batch == i)
            batch_id = campaigns.add_batch(db, first, i + 1, at, len(mine))
            campaigns.add_deliveries(
                db, ((first, batch_id, int(chosen.subscriber[j]), 0, int(band[j]), campaigns.WAITING, None) for j in mine)
            )
            if i == 0:
                late = np.flatnonzero(drawn.late)
                why = "no room before the plan's last moment"
                campaigns.add_deliveries(
                    db,
                    (
                        (first, batch_id, int(chosen.subscriber[j]), 0, int(band[j]), campaigns.PASSED_OVER, why)
                        for j in late
                    ),
                )
            if again_pass is not None:
                campaigns.add_batch(db, again_pass, i + 1, at + int(p["wait"]), 0)
        campaigns.update(
            db, id, {"state": "planned", "message": message, "started_at": desk.now(), "sieve": json.dumps(chosen.sieve)}
        )
        workspace.log(db, desk.now(), who, "started plan", row["name"], len(chosen.index))
    return {"people": len(chosen.index), "batches": len(drawn.moments)}


def on_start(desk: Desk, db: Any, row: Any, message: int, who: str) -> None:
    """A consent request keeps the segments of who agreed and who stayed silent."""
    if row["kind"] == "consent request":
        asking.keep_segments(desk, db, row, message, who)


def _check_plan(p: dict[str, Any]) -> None:
    for ok, words in (
        (0 <= p["lead_share"] <= 0.5, "The lead batch may be up to half of the people."),
        (1 <= p["batches"] <= 100, "A plan has 1 to 100 batches."),
        (60 <= p["interval"] <= 30 * 86400, "Batches stand between a minute and 30 days apart."),
        (not p["resend"] or 3600 <= p["wait"] <= 30 * 86400, "A resend waits between an hour and 30 days."),
        (0 <= p["held_share"] <= 0.5, "At most half can be held back."),
        (0 <= p["hours"][0] < p["hours"][1] <= 24, "The hours begin before they end, between 0 and 24."),
        (bool(p["weekdays"]) and set(p["weekdays"]) <= set(range(7)), "Choose at least one weekday."),
        (p["largest"] >= 0 and all(c >= 0 for c in dict(p["caps"]).values()), "A cap is a number of people, or none."),
        (p["no_later_than"] is None or p["no_later_than"] > (p["start"] or 0), "The last moment comes after the start."),
    ):
        if not ok:
            raise Refused(words)


def hold(desk: Desk, id: int, who: str) -> None:
    """Nothing more goes out until somebody goes on; what is being handed over at this moment is finished."""
    _move(desk, id, who, ("planned", "sending"), "held", "held plan")


def go_on(desk: Desk, id: int, who: str) -> None:
    """Go on with a held plan; guardrails count anew from here."""
    _move(desk, id, who, ("held",), "sending", "went on with plan")
    with desk.store.atomic() as db:
        campaigns.update(db, id, {"guard_from": desk.now() + 1, "held_why": "", "held_evidence": "[]"})


def stop(desk: Desk, id: int, who: str) -> int:
    """For good: everybody still waiting is passed over. Returns how many."""
    _move(desk, id, who, ("planned", "sending", "held"), "stopped", "stopped plan")
    with desk.store.atomic() as db:
        campaigns.set_batches(db, id, ("waiting", "going out", "held"), "stopped")
        return campaigns.stop_waiting(db, id, desk.now())


def _move(desk: Desk, id: int, who: str, states: tuple[str, ...], to: str, act: str) -> None:
    row = row_of(desk, id)
    if row["state"] not in states:
        raise Refused(f"“{row['name']}” is {row['state']}, so this cannot be done.")
    with desk.store.atomic() as db:
        campaigns.update(db, id, {"state": to})
        workspace.log(db, desk.now(), who, act, row["name"])


def settle_doubt(desk: Desk, id: int, arrived: bool, who: str) -> int:
    """The analyst's word on what a crash left in doubt: it arrived, or it goes out again."""
    from openmeadow.core.columns import Kind
    from openmeadow.store import events

    row = row_of(desk, id)
    with desk.store.atomic() as db:
        changed = campaigns.settle_doubt(db, id, arrived, desk.now())
        if arrived:
            events.add(
                db,
                [
                    (
                        desk.now(),
                        int(Kind.SENT),
                        r["subscriber"],
                        row["message"],
                        0,
                        0,
                        0.0,
                        None,
                        None,
                        f"delivery {r['id']}",
                    )
                    for r in changed
                ],
            )
        else:
            for batch in {r["batch"] for r in changed}:
                campaigns.set_batch(db, batch, "going out")
            if changed and row["state"] == "finished":
                campaigns.update(db, id, {"state": "sending"})
        workspace.log(
            db, desk.now(), who, f"settled as {'arrived' if arrived else 'to be sent again'}", row["name"], len(changed)
        )
    return len(changed)


def test_message(desk: Desk, id: int, to: str) -> None:
    """One copy to a colleague, marked as a test and never counted."""
    from openmeadow.desk.sending import test_copy

    test_copy(desk, row_of(desk, id), to)
