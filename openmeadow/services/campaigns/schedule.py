"""Plans: what they hold, what they allow, who goes when."""

from __future__ import annotations

from datetime import UTC, datetime
from math import sqrt

import numpy as np

from openmeadow.core.arrays import F64
from openmeadow.core.delivery.batches import BatchPlan
from openmeadow.core.delivery.guardrails import LIMITS, could_show
from openmeadow.core.delivery.plan import Plan
from openmeadow.core.delivery.schedule import Schedule, in_time, schedule
from openmeadow.core.delivery.time_zones import NO_HOUR, offsets, spread, within_caps
from openmeadow.core.engagement.bands import BANDS
from openmeadow.core.engagement.expected import Level
from openmeadow.core.errors import Refused
from openmeadow.core.moments import DAY, HOUR
from openmeadow.core.states import CampaignKind
from openmeadow.services import models
from openmeadow.services.campaigns import expected, recipients, send_time, waits
from openmeadow.services.workspace import Workspace
from openmeadow.store.campaigns.records import Campaign
from openmeadow.store.health import providers
from openmeadow.store.health.providers import names as provider_names
from openmeadow.store.segments.permission_facts import StoreFacts

ONCE: dict[CampaignKind, dict[str, bool]] = {  # a second request is refused
    CampaignKind.CAMPAIGN: {},
    CampaignKind.CONSENT_REQUEST: {"resend": False},
}
WANTED = 0.02  # a gain worth knowing of
POWER = 2.8  # standard errors between nothing and what is shown in 80 of 100 resends (1.96 + 0.84)


NO_ROOM = "The end date is before the first batch. Start earlier, or move the end date."


def caps_of(workspace: Workspace, p: Plan) -> dict[int, int]:
    """The most messages a day by provider: the plan's own, else the provider's."""
    db = workspace.store.read()
    names = provider_names(db)
    caps = {q.id: q.daily_cap for q in providers.with_cap(db) if q.daily_cap}
    return caps | {names.index(n): int(cap) for n, cap in p.caps.items() if n in names and cap}


MOST_BATCHES, MOST_DAYS = 500, 92
OUTCOME_SHARE = 0.80  # of bounces and complaints should be in before the next batch


def start_problem(workspace: Workspace, p: Plan) -> str:
    """Why a campaign cannot begin when it says, "" where it can."""
    if p.start is None or p.start >= workspace.now() - 60:
        return ""
    at = datetime.fromtimestamp(p.start, UTC).astimezone(workspace.zone)
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


def draw_schedule(workspace: Workspace, row: Campaign, who: recipients.Recipients) -> Schedule:
    """Everybody's batch, every batch's moment: hours, weekdays, zones, caps and the last moment kept."""
    p, view = row.plan, who.view
    s, facts = view.scores, view.facts
    assert isinstance(facts, StoreFacts)
    home = workspace.zone
    plan, windows, provider = p.divided(row.seed, workspace.now(), len(who.index)), p.windows, facts.provider[who.index]
    check_size(plan, len(who.index))
    caps = caps_of(workspace, p)
    local = p.by_own_clock
    known, zone = send_time.zones_of(workspace, view) if local or p.order == "by time zone" else ([home], None)
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
        None if local else p.no_later_than,
        ahead=offsets(known, plan.start)[place],
        moved_to={int(n): int(at) for n, at in p.moved.items()},
    )
    if not local:
        return drawn
    place = place if p.zones else np.zeros(len(place), np.int32)
    hour = send_time.hours_of_each(workspace, view)[who.index] if p.own_hour else np.full(len(place), NO_HOUR, np.int8)
    begin, end = windows.hours
    hour = np.where((hour >= begin) & (hour < end), hour, NO_HOUR).astype(np.int8)
    drawn = spread(drawn, plan.start, home, known, place, hour, windows)
    drawn = within_caps(drawn, provider, caps, home, known, place, windows, plan.interval)
    return in_time(drawn, p.no_later_than)


def preview_plan(workspace: Workspace, row: Campaign) -> models.PlanView:
    """The batches as they would be now: moment, people, bands; what is to be said of them; the best hours."""
    row.plan.check()
    who = recipients.work_out(workspace, row)
    s, drawn = who.view.scores, draw_schedule(workspace, row, who)
    p, n, batches = row.plan, len(who.index), []
    home, usual = workspace.zone, expected.level(workspace, row.purpose)
    chance, band = s.chance[who.index], s.band[who.index]
    for i, at in enumerate(drawn.moments):
        mine = drawn.batch == i
        if not mine.any() and len(drawn.moments) > 1:
            continue
        batches.append(
            models.PlannedBatch(
                n=i + 1,
                due_at=at,
                people=int(mine.sum()),
                pilot=drawn.pilot and i == 0,
                bands=np.bincount(band[mine], minlength=len(BANDS)).tolist(),
                expected=expected.told(chance[mine], usual),
                again_at=p.resend_at(at, p.wait, home) if p.resend else None,
            )
        )
    among = np.zeros(len(who.view.alive), bool)
    among[who.index] = True
    return models.PlanView(
        batches=batches,
        note=" ".join(_notes(workspace, row, who, drawn)),
        resend=_resend_in_words(p, who) if p.resend and n else "",
        best=send_time.best_hours(workspace, who.view, among),
        usual_wait=waits.usual_wait(workspace, who.view),
        variants=[v.name for v in p.resend_variants()],
        expected=expected.told(chance, usual),
        expected_by_band=expected.named(band, BANDS, chance, usual),
        expected_by_provider=_by_provider(workspace, who, chance, usual),
    )


def _by_provider(
    workspace: Workspace, who: recipients.Recipients, chance: F64, usual: Level
) -> list[models.NamedExpectation]:
    assert isinstance(who.view.facts, StoreFacts)
    names = provider_names(workspace.store.read())
    found = expected.named(who.view.facts.provider[who.index], names, chance, usual)
    return sorted(found, key=lambda x: -x.people)


def _notes(workspace: Workspace, row: Campaign, who: recipients.Recipients, drawn: Schedule) -> list[str]:
    p, n, notes = row.plan, len(who.index), []
    if problem := start_problem(workspace, p):
        notes.append(f"{problem[:1].upper()}{problem[1:]}")
    if p.order == "most engaged first" and n and not int(who.view.scores.engaged[who.index].max()):
        notes.append("There is no engagement data yet, so the order is random.")
    if n and not drawn.moments:
        notes.append(NO_ROOM)
    if p.ramp and drawn.moments:
        last = datetime.fromtimestamp(drawn.moments[-1], UTC).astimezone(workspace.zone)
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
        came = waits.outcomes_within(workspace, who.view, gap)
        if came is not None and came[0] < OUTCOME_SHARE:
            hours = gap / HOUR
            notes.append(
                f"Only {came[0]:.0%} of your bounces and complaints arrive within {hours:g} hours. Leave more time "
                "between batches."
            )
    return notes


def _resend_in_words(p: Plan, who: recipients.Recipients) -> str:
    """How many are likely due, and what could be told from that size."""
    rows, now = who.view.settled.rows, who.view.now
    lately = (rows.first_at > now - 180 * DAY) & (rows.first_at <= now - p.wait) & (rows.failed_at > now)
    mine = np.zeros(len(who.view.alive), bool)
    mine[who.index] = True
    past = lately & mine[rows.person]
    n = int(past.sum())
    if n < send_time.FEW:
        return "Not enough history to estimate how many will be due."
    first = np.minimum(rows.opened_at, rows.reacted_at)[past] - rows.first_at[past]
    open_after = float((first > p.wait).mean())
    late = float(((first > p.wait) & (first <= 2 * p.wait)).sum() / max(1, (first > p.wait).sum()))
    due = round(len(who.index) * open_after)
    held, variants = round(due * p.holdout_share), len(p.resend_variants())
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
