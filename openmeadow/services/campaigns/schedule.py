"""Plans: what they hold, what they allow, who goes when."""

from __future__ import annotations

import json
from datetime import UTC, datetime
from math import sqrt
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np

from openmeadow.core.arrays import DAY
from openmeadow.core.delivery.batches import ORDERS, BatchPlan
from openmeadow.core.delivery.guardrails import LIMITS, could_show
from openmeadow.core.delivery.schedule import Schedule, Windows, after_wait, allowed_from, in_time, ramp, schedule
from openmeadow.core.delivery.time_zones import NO_HOUR, offsets, spread, within_caps
from openmeadow.core.engagement.score import BANDS
from openmeadow.core.errors import Refused
from openmeadow.services.campaigns import recipients, send_time
from openmeadow.services.workspace import Workspace
from openmeadow.store.health import providers
from openmeadow.store.health.providers import names as provider_names
from openmeadow.store.segments.permission_facts import StoreFacts

PLAN_DEFAULTS: dict[str, Any] = {
    "start": None,
    "pilot_share": 0.08,
    "batches": 3,
    "interval": 4 * 3600,
    "order": "most engaged first",
    "resend": True,
    "resend_rule": "not engaged",
    "wait": send_time.USUAL_WAIT,
    "holdout_share": 0.10,
    "new_subject": "",
    "variants": [],
    "second": False,
    "machine_only": False,
    "suppress_after_days": 0,
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
RESEND_RULES = ("not engaged", "opened, not clicked")
FIGURES = ("opened", "clicked")
MOST_VARIANTS = 4
SAME = {"subject": "", "preview": "", "wait": 0}
WANTED = 0.02  # a gain worth knowing of
POWER = 2.8  # standard errors between nothing and what is shown in 80 of 100 resends (1.96 + 0.84)


def plan_of(row: Any) -> dict[str, Any]:
    return {**PLAN_DEFAULTS, **json.loads(row["plan"])}


def variants_of(plan: dict[str, Any]) -> list[dict[str, Any]]:
    """The resend's variants, each {"name", "subject", "preview", "wait"}; "" and 0 stand for the same as before."""
    own = list(plan["variants"]) or [SAME, *([{**SAME, "subject": plan["new_subject"]}] if plan["new_subject"] else [])]
    out: list[dict[str, Any]] = []
    for variant in own[:MOST_VARIANTS]:
        full = {**SAME, **variant}
        changed = [
            words
            for words, there in (
                ("new subject", full["subject"]),
                ("new preview text", full["preview"]),
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


NO_ROOM = "The end date is before the first batch. Start earlier, or move the end date."


def again_at(plan: dict[str, Any], at: int, wait: int, zone: ZoneInfo) -> int | None:
    """When those who left a batch ignored get it again; None where the plan's last moment is before."""
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
        rest = people - round(people * float(p["pilot_share"]))
        batches = max(batches, -(-rest // int(p["largest"])))
    gap = int(p["test"]["wait"]) if p["test"] else 0
    return BatchPlan(
        int(row["seed"]), start, float(p["pilot_share"]), batches, int(p["interval"]), str(p["order"]), (), gap
    )


def caps_of(workspace: Workspace, p: dict[str, Any]) -> dict[int, int]:
    """The most messages a day by provider: the plan's own, else the provider's."""
    db = workspace.store.read()
    names = provider_names(db)
    caps = {q.id: q.daily_cap for q in providers.with_cap(db) if q.daily_cap}
    return caps | {names.index(n): int(cap) for n, cap in dict(p["caps"]).items() if n in names and cap}


MOST_BATCHES, MOST_DAYS = 500, 92


def start_problem(workspace: Workspace, p: dict[str, Any]) -> str:
    """Why a campaign cannot begin when it says, "" where it can."""
    if p["start"] is None or p["start"] >= workspace.now() - 60:
        return ""
    at = datetime.fromtimestamp(p["start"], UTC).astimezone(ZoneInfo(str(workspace.setting("time_zone"))))
    return f"its start, {at.day} {at:%B, %H:%M} ({at:%Z}), is in the past. Choose “now” or a later time."


def check_size(plan: BatchPlan, people: int) -> None:
    """Refuses a campaign of more batches or days than can be looked after, with what would fit."""
    count = (len(plan.sizes) or plan.batches) + (1 if plan.pilot_share else 0)
    span = (count - 1) * plan.interval
    if count <= MOST_BATCHES and span <= MOST_DAYS * DAY:
        return
    until = datetime.fromtimestamp(min(plan.start + span, 253_000_000_000), UTC)
    rest = people - round(people * plan.pilot_share)
    fits = max(1, min(MOST_BATCHES, MOST_DAYS * DAY // plan.interval + 1) - (1 if plan.pilot_share else 0))
    raise Refused(
        f"This would take {count:,} batches until {until.year}; the limit is {MOST_BATCHES} batches and "
        f"{MOST_DAYS} days. With this interval, a maximum batch size of {-(-rest // fits):,} recipients fits."
    )


def draw_schedule(workspace: Workspace, row: Any, who: recipients.Recipients) -> Schedule:
    """Everybody's batch, every batch's moment: hours, weekdays, zones, caps and the last moment kept."""
    p, view = plan_of(row), who.view
    s, facts = view.scores, view.facts
    assert isinstance(facts, StoreFacts)
    home = ZoneInfo(str(workspace.setting("time_zone")))
    plan, windows, provider = _batch_plan(row, workspace.now(), len(who.index)), windows_of(p), facts.provider[who.index]
    check_size(plan, len(who.index))
    caps = caps_of(workspace, p)
    local = bool(p["zones"] or p["own_hour"])
    known, zone = send_time.zones_of(workspace, view) if local or p["order"] == "by time zone" else ([home], None)
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
    hour = send_time.hours_of_each(workspace, view)[who.index] if p["own_hour"] else np.full(len(place), NO_HOUR, np.int8)
    begin, end = windows.hours
    hour = np.where((hour >= begin) & (hour < end), hour, NO_HOUR).astype(np.int8)
    drawn = spread(drawn, plan.start, home, known, place, hour, windows)
    drawn = within_caps(drawn, provider, caps, home, known, place, windows, plan.interval)
    return in_time(drawn, p["no_later_than"])


def preview_plan(workspace: Workspace, row: Any) -> dict[str, Any]:
    """The batches as they would be now: moment, people, bands; what is to be said of them; the best hours."""
    check_plan(plan_of(row))
    who = recipients.work_out(workspace, row)
    s, drawn = who.view.scores, draw_schedule(workspace, row, who)
    p, n, out = plan_of(row), len(who.index), []
    home = ZoneInfo(str(workspace.setting("time_zone")))
    for i, at in enumerate(drawn.moments):
        mine = drawn.batch == i
        if not mine.any() and len(drawn.moments) > 1:
            continue
        out.append(
            {
                "n": i + 1,
                "due_at": at,
                "people": int(mine.sum()),
                "pilot": drawn.pilot and i == 0,
                "bands": np.bincount(s.band[who.index[mine]], minlength=len(BANDS)).tolist(),
                "again_at": again_at(p, at, int(p["wait"]), home) if p["resend"] else None,
            }
        )
    among = np.zeros(len(who.view.alive), bool)
    among[who.index] = True
    return {
        "batches": out,
        "exclusions": who.exclusions,
        "note": " ".join(_notes(workspace, row, who, drawn)),
        "resend": _resend_in_words(p, who) if p["resend"] and n else "",
        "best": send_time.best_hours(workspace, who.view, among),
        "usual_wait": send_time.usual_wait(who.view),
    }


def _notes(workspace: Workspace, row: Any, who: recipients.Recipients, drawn: Schedule) -> list[str]:
    p, n, notes = plan_of(row), len(who.index), []
    if problem := start_problem(workspace, p):
        notes.append(f"{problem[:1].upper()}{problem[1:]}")
    if p["order"] == "most engaged first" and n and float(who.view.scores.score[who.index].max()) == 0:
        notes.append("There is no engagement data yet, so the order is random.")
    if n and not drawn.moments:
        notes.append(NO_ROOM)
    if p["ramp"] and drawn.moments:
        last = datetime.fromtimestamp(drawn.moments[-1], UTC).astimezone(ZoneInfo(str(workspace.setting("time_zone"))))
        notes.append(f"The warm-up takes {len(drawn.moments)} days, to {last.day} {last:%B}; no pilot batch.")
    if drawn.moved:
        notes.append(f"{drawn.moved:,} recipients move to a later slot because of a provider's daily limit.")
    if drawn.late.any():
        notes.append(f"{int(drawn.late.sum()):,} recipients do not fit before the end date and are skipped.")
    silent = [name for name, limit in LIMITS.items() if n and not could_show(n, limit)]
    if silent:
        notes.append(f"This campaign is too small to detect {', '.join(silent)}.")
    if len(drawn.moments) > 1:
        gap = min(b - a for a, b in zip(drawn.moments, drawn.moments[1:], strict=False))
        came = send_time.outcomes_within(workspace, who.view, gap)
        if came is not None and came[0] < send_time.OUTCOME_SHARE:
            hours = gap / 3600
            notes.append(
                f"Only {came[0]:.0%} of your bounces and complaints arrive within {hours:g} hours. Leave more time "
                "between batches."
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
    if n < send_time.FEW:
        return "Not enough history to estimate how many will be due."
    first = np.minimum(rows.opened_at, rows.reacted_at)[past] - rows.first_at[past]
    open_after = float((first > p["wait"]).mean())
    late = float(((first > p["wait"]) & (first <= 2 * p["wait"])).sum() / max(1, (first > p["wait"]).sum()))
    due = round(len(who.index) * open_after)
    held, variants = round(due * p["holdout_share"]), len(variants_of(p))
    if not held:
        return f"About {due:,} will be due. Without a holdout group the uplift cannot be measured."
    each = (due - held) // variants
    rate = max(late, 0.01)
    points = POWER * sqrt(rate * (1 - rate) * (1 / max(each, 1) + 1 / held))
    gain = f"It can detect a gain of {100 * points:.1f} points or more"
    wanted = (WANTED / POWER) ** 2 / (rate * (1 - rate)) - 1 / max(each, 1)
    more = (
        f"; for {100 * WANTED:.0f} points, a holdout group of {round(1 / wanted):,} would be enough" if wanted > 0 else ""
    )
    return (
        f"About {due:,} will be due: {held:,} in the holdout group, {each:,} {'in each variant' if variants > 1 else 'resent'}. "
        f"{gain}{more if points > WANTED else ''}."
    )


def check_plan(p: dict[str, Any]) -> None:
    variants, test = variants_of(p), p["test"]
    for ok, words in (
        (0 <= p["pilot_share"] <= 0.5, "The pilot batch can be at most half of the recipients."),
        (1 <= p["batches"] <= 100, "A campaign has 1 to 100 batches."),
        (60 <= p["interval"] <= 30 * 86400, "The interval between batches is 1 minute to 30 days."),
        (not p["resend"] or 3600 <= p["wait"] <= 30 * 86400, "A resend is sent after 1 hour to 30 days."),
        (0 <= p["holdout_share"] <= 0.5, "The holdout group can be at most half."),
        (0 <= p["hours"][0] < p["hours"][1] <= 24, "The sending hours start before they end, between 0 and 24."),
        (bool(p["weekdays"]) and set(p["weekdays"]) <= set(range(7)), "Choose at least one weekday."),
        (
            p["largest"] >= 0 and all(c >= 0 for c in dict(p["caps"]).values()),
            "A daily limit is a number of recipients, or none.",
        ),
        (p["no_later_than"] is None or p["no_later_than"] > (p["start"] or 0), "The end date must be after the start."),
        (p["order"] in ORDERS, f"The order is {', '.join(ORDERS)}."),
        (p["ramp"] >= 0, "A warm-up starts with a number of recipients."),
        (p["resend_rule"] in RESEND_RULES, f"The resend rule is one of: {'; '.join(RESEND_RULES)}."),
        (len(p["variants"]) <= MOST_VARIANTS, f"A resend has at most {MOST_VARIANTS} variants."),
        (all(p["wait"] <= a["wait"] <= 60 * DAY for a in variants), "A variant cannot wait less than the resend."),
        (
            test is None or (test["figure"] in FIGURES and 3600 <= test["wait"] <= 14 * DAY and p["pilot_share"] > 0),
            "An A/B test runs in the pilot batch, by opened or clicked, for 1 hour to 14 days.",
        ),
    ):
        if not ok:
            raise Refused(words)
