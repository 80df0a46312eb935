"""Plans: what they hold, what they allow, who goes when."""

from __future__ import annotations

import json
from datetime import UTC, datetime
from math import sqrt
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np

from openmeadow.core.columns import DAY
from openmeadow.core.engagement.score import BANDS
from openmeadow.core.errors import Refused
from openmeadow.core.planning.batches import ORDERS, BatchPlan
from openmeadow.core.planning.guardrails import LIMITS, could_show
from openmeadow.core.planning.local import NO_HOUR, offsets, spread, within_caps
from openmeadow.core.planning.slots import Schedule, Windows, after_wait, allowed_from, in_time, ramp, schedule
from openmeadow.desk import recipients, timing
from openmeadow.desk.desk import Desk
from openmeadow.store import providers
from openmeadow.store.facts import StoreFacts
from openmeadow.store.providers import names as provider_names

PLAN_DEFAULTS: dict[str, Any] = {
    "start": None,
    "lead_share": 0.08,
    "batches": 3,
    "interval": 4 * 3600,
    "order": "most engaged first",
    "resend": True,
    "resend_rule": "not answered",
    "wait": timing.USUAL_WAIT,
    "held_share": 0.10,
    "new_subject": "",
    "arms": [],
    "second": False,
    "machine_only": False,
    "let_go_days": 0,
    "hours": [0, 24],
    "weekdays": [0, 1, 2, 3, 4, 5, 6],
    "zones": False,
    "own_hour": False,
    "caps": {},
    "largest": 0,
    "ramp": 0,
    "no_later_than": None,
    "moved": {},
    "test": None,
}
ONCE: dict[str, dict[str, Any]] = {"campaign": {}, "consent request": {"resend": False}}  # a second request is refused
RESEND_RULES = ("not answered", "opened, not clicked")
FIGURES = ("opened", "clicked")
MOST_ARMS = 4
SAME = {"subject": "", "preview": "", "wait": 0}
WANTED = 0.02  # a gain worth knowing of
POWER = 2.8  # standard errors between nothing and what is shown in 80 of 100 resends (1.96 + 0.84)


def plan_of(row: Any) -> dict[str, Any]:
    return {**PLAN_DEFAULTS, **json.loads(row["plan"])}


def arms_of(plan: dict[str, Any]) -> list[dict[str, Any]]:
    """The resend's arms, each {"name", "subject", "preview", "wait"}; "" and 0 stand for the same as before."""
    own = list(plan["arms"]) or [SAME, *([{**SAME, "subject": plan["new_subject"]}] if plan["new_subject"] else [])]
    out: list[dict[str, Any]] = []
    for arm in own[:MOST_ARMS]:
        full = {**SAME, **arm}
        changed = [
            words
            for words, there in (
                ("new subject", full["subject"]),
                ("new opening lines", full["preview"]),
                (f"after {round(full['wait'] / DAY, 1):g} days", full["wait"] and full["wait"] != plan["wait"]),
            )
            if there
        ]
        name = ", ".join(changed).capitalize() or "Same subject"
        if name in [o["name"] for o in out]:
            name = f"{name} ({len(out) + 1})"
        out.append({**full, "wait": full["wait"] or plan["wait"], "name": name})
    return out


def windows_of(plan: dict[str, Any]) -> Windows:
    return Windows((int(plan["hours"][0]), int(plan["hours"][1])), frozenset(int(d) for d in plan["weekdays"]))


NO_ROOM = "The plan's last moment comes before its first batch: start earlier, or move the last moment."


def again_at(plan: dict[str, Any], at: int, wait: int, zone: ZoneInfo) -> int | None:
    """When those who left a batch unanswered get it again; None where the plan's last moment is before."""
    local = bool(plan["zones"] or plan["own_hour"])
    return after_wait(at, wait, windows_of(plan), zone, plan["no_later_than"], by_day=local)


def closed_until(plan: dict[str, Any], now: int, zone: ZoneInfo) -> int:
    """The next moment at which this plan may mail, where that is not now; 0 where it is. Plans by everybody's own clock
    have their hours in their batches."""
    at = now if plan["zones"] or plan["own_hour"] else allowed_from(now, windows_of(plan), zone)
    return at if at > now else 0


def _batch_plan(row: Any, now: int, people: int) -> BatchPlan:
    p = plan_of(row)
    start = max(int(p["start"] or now), now)
    if p["ramp"]:
        return BatchPlan(int(row["seed"]), start, 0.0, 1, DAY, str(p["order"]), tuple(ramp(people, int(p["ramp"]))))
    batches = int(p["batches"])
    if p["largest"]:
        rest = people - round(people * float(p["lead_share"]))
        batches = max(batches, -(-rest // int(p["largest"])))
    gap = int(p["test"]["wait"]) if p["test"] else 0
    return BatchPlan(
        int(row["seed"]), start, float(p["lead_share"]), batches, int(p["interval"]), str(p["order"]), (), gap
    )


def caps_of(desk: Desk, p: dict[str, Any]) -> dict[int, int]:
    """The most messages a day by provider: the plan's own, else the provider's."""
    db = desk.store.read()
    names = provider_names(db)
    caps = {q.id: q.daily_cap for q in providers.with_cap(db) if q.daily_cap}
    return caps | {names.index(n): int(cap) for n, cap in dict(p["caps"]).items() if n in names and cap}


MOST_BATCHES, MOST_DAYS = 500, 92


def start_problem(desk: Desk, p: dict[str, Any]) -> str:
    """Why a plan cannot begin when it says, "" where it can."""
    if p["start"] is None or p["start"] >= desk.now() - 60:
        return ""
    at = datetime.fromtimestamp(p["start"], UTC).astimezone(ZoneInfo(str(desk.setting("time_zone"))))
    return f"its start, {at.day} {at:%B, %H:%M} ({at:%Z}), is past. Choose now or a later time."


def check_size(plan: BatchPlan, people: int) -> None:
    """Refuses a plan of more batches or days than can be looked after, with what would fit."""
    count = (len(plan.sizes) or plan.batches) + (1 if plan.lead_share else 0)
    span = (count - 1) * plan.interval
    if count <= MOST_BATCHES and span <= MOST_DAYS * DAY:
        return
    until = datetime.fromtimestamp(min(plan.start + span, 253_000_000_000), UTC)
    rest = people - round(people * plan.lead_share)
    fits = max(1, min(MOST_BATCHES, MOST_DAYS * DAY // plan.interval + 1) - (1 if plan.lead_share else 0))
    raise Refused(
        f"This would take {count:,} batches until {until.year}; a plan has at most {MOST_BATCHES} batches and "
        f"{MOST_DAYS} days. With this interval a largest batch of {-(-rest // fits):,} people fits."
    )


def draw_schedule(desk: Desk, row: Any, who: recipients.Recipients) -> Schedule:
    """Everybody's batch, every batch's moment: hours, weekdays, zones, caps and the last moment kept."""
    p, view = plan_of(row), who.view
    s, facts = view.scores, view.facts
    assert isinstance(facts, StoreFacts)
    home = ZoneInfo(str(desk.setting("time_zone")))
    plan, windows, provider = _batch_plan(row, desk.now(), len(who.index)), windows_of(p), facts.provider[who.index]
    check_size(plan, len(who.index))
    caps = caps_of(desk, p)
    local = bool(p["zones"] or p["own_hour"])
    known, zone = timing.zones_of(desk, view) if local or p["order"] == "by time zone" else ([home], None)
    place = zone[who.index] if zone is not None else np.zeros(len(who.index), np.int32)
    drawn = schedule(
        plan,
        who.subscriber,
        s.band[who.index],
        s.score[who.index],
        provider,
        windows,
        home,
        {} if local else caps,
        None if local else p["no_later_than"],
        ahead=offsets(known, plan.start)[place],
        moved_to={int(n): int(at) for n, at in dict(p["moved"]).items()},
    )
    if not local:
        return drawn
    place = place if p["zones"] else np.zeros(len(place), np.int32)
    hour = timing.hours_of_each(desk, view)[who.index] if p["own_hour"] else np.full(len(place), NO_HOUR, np.int8)
    begin, end = windows.hours
    hour = np.where((hour >= begin) & (hour < end), hour, NO_HOUR).astype(np.int8)
    drawn = spread(drawn, plan.start, home, known, place, hour, windows)
    drawn = within_caps(drawn, provider, caps, home, known, place, windows, plan.interval)
    return in_time(drawn, p["no_later_than"])


def preview_plan(desk: Desk, row: Any) -> dict[str, Any]:
    """The batches as they would be now: moment, people, bands; what is to be said of them; the best hours."""
    check_plan(plan_of(row))
    who = recipients.work_out(desk, row)
    s, drawn = who.view.scores, draw_schedule(desk, row, who)
    p, n, out = plan_of(row), len(who.index), []
    home = ZoneInfo(str(desk.setting("time_zone")))
    for i, at in enumerate(drawn.moments):
        mine = drawn.batch == i
        if not mine.any() and len(drawn.moments) > 1:
            continue
        out.append(
            {
                "n": i + 1,
                "due_at": at,
                "people": int(mine.sum()),
                "lead": drawn.lead and i == 0,
                "bands": np.bincount(s.band[who.index[mine]], minlength=len(BANDS)).tolist(),
                "again_at": again_at(p, at, int(p["wait"]), home) if p["resend"] else None,
            }
        )
    among = np.zeros(len(who.view.alive), bool)
    among[who.index] = True
    return {
        "batches": out,
        "sieve": who.sieve,
        "note": " ".join(_notes(desk, row, who, drawn)),
        "resend": _resend_in_words(p, who) if p["resend"] and n else "",
        "best": timing.best_hours(desk, who.view, among),
        "usual_wait": timing.usual_wait(who.view),
    }


def _notes(desk: Desk, row: Any, who: recipients.Recipients, drawn: Schedule) -> list[str]:
    p, n, notes = plan_of(row), len(who.index), []
    if problem := start_problem(desk, p):
        notes.append(f"{problem[:1].upper()}{problem[1:]}")
    if p["order"] == "most engaged first" and n and float(who.view.scores.score[who.index].max()) == 0:
        notes.append("Nobody here has answered anything yet, so the order within the plan is by lot.")
    if n and not drawn.moments:
        notes.append(NO_ROOM)
    if p["ramp"] and drawn.moments:
        last = datetime.fromtimestamp(drawn.moments[-1], UTC).astimezone(ZoneInfo(str(desk.setting("time_zone"))))
        notes.append(f"The ramp takes {len(drawn.moments)} days, to {last.day} {last:%B}; no lead batch.")
    if drawn.moved:
        notes.append(f"{drawn.moved:,} people move to a later slot, because their provider's cap is full.")
    if drawn.late.any():
        notes.append(f"{int(drawn.late.sum()):,} people find no room before the last moment and are passed over.")
    silent = [name for name, limit in LIMITS.items() if n and not could_show(n, limit)]
    if silent:
        notes.append(f"At this size nothing could be shown of {', '.join(silent)}.")
    if len(drawn.moments) > 1:
        gap = min(b - a for a, b in zip(drawn.moments, drawn.moments[1:], strict=False))
        came = timing.outcomes_within(desk, who.view, gap)
        if came is not None and came[0] < timing.OUTCOME_SHARE:
            hours = gap / 3600
            notes.append(
                f"Within {hours:g} hours only {came[0]:.0%} of this workspace's bounces and complaints had come, "
                "so a batch says little before the next goes out."
            )
    return notes


def _resend_in_words(p: dict[str, Any], who: recipients.Recipients) -> str:
    """How many are likely due, and what could be told from that size."""
    rows, now = who.view.columns.rows, who.view.now
    lately = (rows.first_at > now - 180 * DAY) & (rows.first_at <= now - p["wait"]) & (rows.failed_at > now)
    mine = np.zeros(len(who.view.alive), bool)
    mine[who.index] = True
    past = lately & mine[rows.person]
    n = int(past.sum())
    if n < timing.FEW:
        return "Too few past messages to say how many will be due."
    first = np.minimum(rows.opened_at, rows.reacted_at)[past] - rows.first_at[past]
    open_after = float((first > p["wait"]).mean())
    late = float(((first > p["wait"]) & (first <= 2 * p["wait"])).sum() / max(1, (first > p["wait"]).sum()))
    due = round(len(who.index) * open_after)
    held, arms = round(due * p["held_share"]), len(arms_of(p))
    if not held:
        return f"About {due:,} will be due. With nobody held back, what the resend adds cannot be told from chance."
    each = (due - held) // arms
    rate = max(late, 0.01)
    points = POWER * sqrt(rate * (1 - rate) * (1 / max(each, 1) + 1 / held))
    gain = f"A gain of {100 * points:.1f} points or more would show"
    wanted = (WANTED / POWER) ** 2 / (rate * (1 - rate)) - 1 / max(each, 1)
    more = f"; for {100 * WANTED:.0f} points, {round(1 / wanted):,} held back would be enough" if wanted > 0 else ""
    return (
        f"About {due:,} will be due: {held:,} held back, {each:,} {'in each arm' if arms > 1 else 'sent again'}. "
        f"{gain}{more if points > WANTED else ''}."
    )


def check_plan(p: dict[str, Any]) -> None:
    arms, test = arms_of(p), p["test"]
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
        (p["order"] in ORDERS, f"The order is {', '.join(ORDERS)}."),
        (p["ramp"] >= 0, "A ramp begins with a number of people."),
        (p["resend_rule"] in RESEND_RULES, f"A resend goes to those who {' or '.join(RESEND_RULES)}."),
        (len(p["arms"]) <= MOST_ARMS, f"A resend has at most {MOST_ARMS} arms."),
        (all(p["wait"] <= a["wait"] <= 60 * DAY for a in arms), "An arm waits at least as long as the resend."),
        (
            test is None or (test["figure"] in FIGURES and 3600 <= test["wait"] <= 14 * DAY and p["lead_share"] > 0),
            "Versions are tried in the lead batch, judged by opened or clicked, after an hour to 14 days.",
        ),
    ):
        if not ok:
            raise Refused(words)
