"""The resend: who is due for it, held back and divided into arms by lot; and who may still get it at the last moment."""

from __future__ import annotations

import json
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np

from openmeadow.core.columns import DAY
from openmeadow.core.planning.batches import arms as draw_arms
from openmeadow.core.rules.tree import View
from openmeadow.desk.desk import Desk
from openmeadow.desk.planning import SAME, again_at, arms_of, plan_of
from openmeadow.store import ledger, workspace

BEFORE = {"resend": "first", "second resend": "resend"}
MOST_IN_30_DAYS = 2


def arms_in(batch: Any, plan: dict[str, Any]) -> list[dict[str, Any]]:
    """The arms of a pass, as they were when it was planned."""
    arms: list[Any] = json.loads(batch["arms"])
    if arms and isinstance(arms[0], str):  # kept by their names alone
        return [{**SAME, "name": a, "wait": plan["wait"], "subject": plan["new_subject"] * i} for i, a in enumerate(arms)]
    return arms


def plan_passes(db: Any, campaign: int, plan: dict[str, Any], moments: list[int], zone: ZoneInfo) -> None:
    """The passes and batches of the resend, and of a second one where it was asked for: at allowed hours, and none after
    the plan's last moment."""
    arms = arms_of(plan)
    again = ledger.add_pass(db, campaign, "resend", json.dumps(arms), float(plan["held_share"]))
    second = None
    if plan["second"]:
        second = ledger.add_pass(db, campaign, "second resend", json.dumps(arms[:1]), float(plan["held_share"]))
    for i, at in enumerate(moments):
        once = again_at(plan, at, int(plan["wait"]), zone)
        if once is not None:
            ledger.add_batch(db, again, i + 1, once, 0)
        twice = again_at(plan, at, int(plan["wait"]) + max(a["wait"] for a in arms), zone)
        if second is not None and once is not None and twice is not None:
            ledger.add_batch(db, second, i + 1, twice, 0)


def unanswered(view: View, message: int, rule: str, *, machine_only: bool = False) -> np.ndarray:
    """Store ids of those who got a message and left it unanswered, or opened and did not click."""
    rows, now = view.columns.rows, view.now
    hit = (rows.message == message) & (rows.failed_at > now) & (rows.first_at <= now) & (rows.reacted_at > now)
    if rule == "opened, not clicked":
        hit &= rows.opened_at <= now
    else:
        hit &= rows.opened_at > now
        if not machine_only:
            hit &= rows.machine_at > now
    return np.asarray(view.columns.people.id[rows.person[hit]])


def machine_openers(desk: Desk, row: Any) -> int:
    """How many of a message's people were opened for by machines only."""
    view = desk.view()
    out, inside = (unanswered(view, row["message"], "not answered", machine_only=m) for m in (False, True))
    return len(inside) - len(out)


TOO_OFTEN = f"resent to {MOST_IN_30_DAYS} times in 30 days already"


def due(desk: Desk, row: Any, batch: Any) -> tuple[dict[int, int], dict[int, int]]:
    """Subscriber -> band of those of one batch of the pass before who are due for this one; and of those who would be,
    had they not been resent to so often."""
    plan = plan_of(row)
    before, db = BEFORE[batch["kind"]], desk.store.read()
    of_batch = {
        d["subscriber"]: d
        for d in ledger.of_campaign(db, row["id"], before)
        if d["batch_n"] == batch["n"] and d["state"] == ledger.HANDED
    }
    people = unanswered(desk.view(), row["message"], plan["resend_rule"], machine_only=bool(plan["machine_only"]))
    often = ledger.resent_often(db, desk.now() - 30 * DAY, MOST_IN_30_DAYS)
    band = {int(s): int(of_batch[int(s)]["band"]) for s in people if int(s) in of_batch}
    return {s: b for s, b in band.items() if s not in often}, {s: b for s, b in band.items() if s in often}


def draw(desk: Desk, row: Any, batch: Any) -> None:
    """Divide those due by lot, once. Who is in an arm that waits longer gets a batch of its own."""
    plan = plan_of(row)
    arms, (people, too_often) = arms_in(batch, plan), due(desk, row, batch)
    subscribers = np.array(sorted(people), np.int64)
    salt = 500 if batch["kind"] == "second resend" else 0
    zone = ZoneInfo(str(desk.setting("time_zone")))
    arm = draw_arms(int(row["seed"]) + batch["n"] + salt, subscribers, float(batch["held_share"]), len(arms))
    with desk.store.atomic() as db:
        place = [batch["id"]] * len(arms)
        for i, a in enumerate(arms):
            mine = int((arm == i).sum())
            if a["wait"] > plan["wait"] and batch["kind"] == "resend" and mine:
                later = again_at(plan, batch["due_at"], a["wait"] - plan["wait"], zone) or batch["due_at"]
                place[i] = ledger.add_batch(db, batch["pass"], batch["n"], later, mine, i + 1)
        ledger.add_deliveries(
            db,
            (
                (
                    batch["pass"],
                    batch["id"] if a < 0 else place[int(a)],
                    int(s),
                    max(int(a), 0),
                    people[int(s)],
                    ledger.PASSED_OVER if a < 0 else ledger.WAITING,
                    "held back" if a < 0 else None,
                )
                for s, a in zip(subscribers, arm, strict=True)
            ),
        )
        ledger.add_deliveries(
            db,
            ((batch["pass"], batch["id"], s, 0, b, ledger.PASSED_OVER, TOO_OFTEN) for s, b in sorted(too_often.items())),
        )
        here = int((arm < 0).sum()) + sum(int((arm == i).sum()) for i in range(len(arms)) if place[i] == batch["id"])
        ledger.set_batch(db, batch["id"], "going out", people=here)  # so that it is never drawn again
        name = f"{row['name']}, batch {batch['n']}"
        workspace.log(db, desk.now(), "worker", f"drew {batch['kind']}", name, len(subscribers))


def answered_meanwhile(view: View, row: Any) -> dict[int, str]:
    """Who among the people of a view has answered since, so that nothing more goes to them: subscriber -> the reason."""
    rows, out = view.columns.rows, {}
    clicks_only = plan_of(row)["resend_rule"] == "opened, not clicked"
    for i, s in enumerate(view.columns.people.id.tolist()):
        for r in range(int(view.columns.start[i]), int(view.columns.start[i + 1])):
            answered = rows.reacted_at[r] if clicks_only else min(rows.opened_at[r], rows.reacted_at[r])
            if rows.message[r] == row["message"] and answered <= view.now:
                out[s] = "answered before the resend"
    return out
