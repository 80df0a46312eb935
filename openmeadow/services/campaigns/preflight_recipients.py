"""Checks that look at whom a campaign would go to: bands, addresses, fields, volume, rest, other plans."""

from __future__ import annotations

from collections import Counter
from datetime import UTC, datetime, timedelta

import numpy as np

from openmeadow.core.addresses.verdicts import VERDICTS
from openmeadow.core.delivery.schedule import Schedule
from openmeadow.core.engagement.bands import BANDS
from openmeadow.core.errors import Refused
from openmeadow.core.message.personalisation import undeclared, without_fallbacks
from openmeadow.core.moments import DAY
from openmeadow.services import models
from openmeadow.services.campaigns import preflight, recipients
from openmeadow.services.campaigns.findings import LEVELS, Finding, found, in_order
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.campaigns import batches as batch_table
from openmeadow.store.campaigns import campaigns, content, deliveries
from openmeadow.store.campaigns.records import Campaign
from openmeadow.store.engagement import event_hours
from openmeadow.store.health.providers import names as provider_names
from openmeadow.store.segments.permission_facts import StoreFacts
from openmeadow.store.senders import senders
from openmeadow.store.subscribers import selections

MANY_INACTIVE, MANY_UNPROVEN, RESTED, FAR_MORE, FEW, WARM = 0.2, 0.5, 180, 2.0, 500, 60


def thorough(workspace: Workspace, row: Campaign) -> list[models.Check]:
    """Every check, those that need the recipients too."""
    lines = preflight.checks(workspace, row)
    if row.sequence or any(c.check == "Recipients" for c in lines):
        return lines
    who = recipients.work_out(workspace, row)
    if not len(who.index):
        reason = next((words.lower() for words, n in who.exclusions if n < 0), "the segments are empty")
        out = [found("Recipients", "blocker", f"No recipients: {reason}.")]
    else:
        out = _bands(who) + _addresses(who) + _fields(workspace, row, who)
        drawn = _drawn(workspace, row, who)
        volume = _volume(workspace, who, drawn) or _domain_volume(workspace, row, drawn)
        out += volume + _rest(who) + _collisions(workspace, row, who, drawn)
    return sorted(lines + in_order(workspace, row, out), key=lambda c: LEVELS.index(c.level))


def _bands(who: recipients.Recipients) -> list[Finding]:
    n, out = len(who.index), []
    share = np.bincount(who.view.scores.band[who.index], minlength=len(BANDS)) / n
    silent, unproven, masked = (float(share[BANDS.index(b)]) for b in ("Inactive", "Unproven", "Masked"))
    if silent > MANY_INACTIVE:
        words = f"{silent:.0%} of {n:,} are Inactive. Mailing them hurts your reputation."
        out.append(Finding("Engagement", "warning", words, "recipients"))
    if unproven > MANY_UNPROVEN:
        words = f"{unproven:.0%} of {n:,} are Unproven. Start with a pilot batch."
        out.append(Finding("Engagement", "note", words, "schedule"))
    if masked > 0.05:
        words = f"{masked:.0%} of {n:,} are Masked: only their clicks can be seen."
        out.append(Finding("Engagement", "note", words, "recipients"))
    return out


def _addresses(who: recipients.Recipients) -> list[Finding]:
    assert isinstance(who.view.facts, StoreFacts)
    verdict = who.view.facts.verdicts()[who.index]
    n, out = len(who.index), []
    unchecked = int((verdict == 0).sum())
    bad, risky = (int((verdict == 1 + VERDICTS.index(v)).sum()) for v in ("undeliverable", "risky"))
    if bad:
        out.append(
            found("Addresses", "warning", f"{bad:,} of {n:,} addresses are undeliverable. Exclude them.", "recipients")
        )
    if risky:
        out.append(found("Addresses", "note", f"{risky:,} of {n:,} addresses are risky."))
    if unchecked:
        out.append(found("Addresses", "note", f"{unchecked:,} of {n:,} addresses were never checked."))
    return out


def _fields(workspace: Workspace, row: Campaign, who: recipients.Recipients) -> list[Finding]:
    """Fields without a fallback that some have nothing in."""
    used: set[str] = set()
    for text in (row.subject, row.html, row.plain):
        used |= undeclared(without_fallbacks(text))
    own = used - preflight.PAGES - set(preflight.asked_about(workspace, row)) - {"email"}
    out = []
    for name in sorted(own & preflight.known_fields(workspace, row)):
        column = "name" if name in ("name", "first_name") else f"field:{name}"
        lacking = selections.lacking(workspace.store.read(), column, who.subscriber)
        if lacking:
            words = f"{lacking:,} of {len(who.index):,} have no {name}. Add a fallback: {{{{ {name} or 'friend' }}}}."
            out.append(Finding("Merge fields", "warning", words))
    return out


def _drawn(workspace: Workspace, row: Campaign, who: recipients.Recipients) -> Schedule:
    from openmeadow.services.campaigns.schedule import draw_schedule  # it asks the checks in turn

    return draw_schedule(workspace, row, who)


def _volume(workspace: Workspace, who: recipients.Recipients, drawn: Schedule) -> list[Finding]:
    """What a provider would get in one day, against its busiest day of the last 30."""
    assert isinstance(who.view.facts, StoreFacts)
    zone, names = workspace.zone, provider_names(workspace.store.read())
    day = np.array([datetime.fromtimestamp(at, UTC).astimezone(zone).toordinal() for at in drawn.moments] or [0])
    out, sent = [], who.view.settled.rows
    lately = (sent.first_at > who.view.now - 30 * DAY) & (sent.first_at <= who.view.now)
    provider_of = who.view.facts.provider
    ahead = int((datetime.fromtimestamp(who.view.now, zone).utcoffset() or timedelta(0)).total_seconds())
    past = provider_of[sent.person[lately]].astype(np.int64) * 100_000 + (sent.first_at[lately] + ahead) // DAY
    busiest: dict[int, int] = {}
    for key, n in zip(*np.unique(past, return_counts=True), strict=True):
        busiest[int(key) // 100_000] = max(busiest.get(int(key) // 100_000, 0), int(n))
    in_time = drawn.batch >= 0
    coming = Counter(zip(provider_of[who.index][in_time].tolist(), day[drawn.batch[in_time]].tolist(), strict=True))
    for provider in sorted({p for p, _ in coming}):
        most, before = max(n for (p, _), n in coming.items() if p == provider), busiest.get(provider, 0)
        if most > FEW and most > FAR_MORE * before:
            was = f"at most {before:,} on a day in the last 30" if before else "nothing in the last 30 days"
            words = f"{names[provider]} would receive {most:,} in a day; before: {was}. Spread it out, or set a limit."
            out.append(Finding("Volume", "warning", words, "schedule"))
    return out


def _domain_volume(workspace: Workspace, row: Campaign, drawn: Schedule) -> list[Finding]:
    """What the sending domain would send in one day, against its own busiest day: a new one is known to no provider,
    however much the others have sent."""
    db, now, zone = workspace.store.read(), workspace.now(), workspace.zone
    address = senders.address(db, row.from_address) if row.from_address else None
    per_day = Counter[int]()
    per_batch = np.bincount(drawn.batch[drawn.batch >= 0], minlength=len(drawn.moments)).tolist()
    for at, n in zip(drawn.moments, per_batch, strict=True):
        per_day[datetime.fromtimestamp(at, UTC).astimezone(zone).toordinal()] += n
    if address is None or not per_day or row.plan.ramp:
        return []
    most = max(per_day.values())
    days, before = event_hours.most_from_domain(db, address.domain, now - WARM * DAY)
    if most <= FEW or most <= FAR_MORE * before:
        return []
    was = (
        f"at most {before:,} in a day, on {days} of the last {WARM} days" if days else f"nothing in the last {WARM} days"
    )
    words = (
        f"{address.domain_name} would send {most:,} in a day; before: {was}. Providers do not know it with so much mail: "
        f"use the warm-up of the schedule, with {max(FEW, before):,} on the first day."
    )
    return [Finding("Volume", "warning", words, "schedule")]


def _rest(who: recipients.Recipients) -> list[Finding]:
    """How many were not written to for long."""
    rows, n = who.view.settled.rows, len(who.index)
    last = np.zeros(len(who.view.alive), np.int64)
    sent = rows.first_at <= who.view.now
    last[rows.person[sent]] = rows.first_at[sent]  # sorted by time within a person: the last one stays
    mine = last[who.index]
    rested = int(((mine > 0) & (mine < who.view.now - RESTED * DAY)).sum())
    never = int((mine == 0).sum())
    out = []
    if rested > 0.1 * n:
        words = f"{rested:,} of {n:,} were last mailed more than {RESTED} days ago; many may not remember you."
        out.append(Finding("Dormancy", "warning", words, "recipients"))
    if never > 0.5 * n and never > FEW:
        out.append(Finding("Dormancy", "note", f"{never:,} of {n:,} have never been mailed.", "recipients"))
    return out


def _collisions(workspace: Workspace, row: Campaign, who: recipients.Recipients, drawn: Schedule) -> list[Finding]:
    """Other plans that reach the same people on the same day."""
    zone, db = workspace.zone, workspace.store.read()

    def day(at: int) -> str:
        return datetime.fromtimestamp(at, UTC).astimezone(zone).date().isoformat()

    mine = {day(at) for at in drawn.moments}
    out = []
    for other in campaigns.waiting_plans(db):
        if other.id == row.id:
            continue
        that_day = [b.id for b in batch_table.batches_ahead(db, other.id) if day(b.due_at) in mine]
        both = int(np.isin(who.subscriber, deliveries.waiting_in(db, that_day)).sum()) if that_day else 0
        if both:
            words = (
                f"{both:,} of these recipients get “{other.name}” on the same day; they will receive only one of "
                "the two that day."
            )
            out.append(Finding("Overlapping campaigns", "note", words, "schedule"))
    return out


def override(workspace: Workspace, row: Campaign, check: str, finding: str, reason: str, who: str) -> None:
    """Set a stop aside with a written reason; "" takes that back. What law, gate or protocol sets cannot be."""
    stop = next((c for c in thorough(workspace, row) if (c.check, c.finding) == (check, finding)), None)
    if stop is None:
        raise Refused("This finding no longer exists. Run the checks again.")
    if not stop.may_override:
        raise Refused(f"{check}: this blocker cannot be overridden. Fix it.")
    with workspace.store.atomic() as db:
        if reason.strip():
            content.override(db, row.id, check, finding, reason.strip(), who, workspace.now())
            settings.log(db, workspace.now(), who, f"overrode {check}: {reason.strip()[:200]}", row.name)
        else:
            content.take_overrule_back(db, row.id, check, finding)
