"""Checks that look at whom a campaign would go to: bands, addresses, fields, volume, rest, other plans."""

from __future__ import annotations

from collections import Counter
from datetime import UTC, datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np

from openmeadow.core.addresses.verdicts import VERDICTS
from openmeadow.core.columns import DAY
from openmeadow.core.engagement.score import BANDS
from openmeadow.core.message.body import undeclared, without_fallbacks
from openmeadow.desk import checking, recipients
from openmeadow.desk.checking import Finding, found
from openmeadow.desk.desk import Desk
from openmeadow.store import campaigns, ledger, people_sets
from openmeadow.store.facts import StoreFacts
from openmeadow.store.providers import names as provider_names

MANY_SILENT, MANY_UNPROVEN, RESTED, FAR_MORE, FEW = 0.2, 0.5, 180, 2.0, 500


def thorough(desk: Desk, row: Any) -> list[dict[str, Any]]:
    """Every check, those that need the recipients too."""
    lines = checking.checks(desk, row)
    if row["sequence"] or any(c["check"] == "Recipients" for c in lines):
        return lines
    who = recipients.work_out(desk, row)
    if not len(who.index):
        reason = next((words.lower() for words, n in who.sieve if n < 0), "the segments are empty")
        out = [found("Recipients", "stop", f"Nobody would receive this: {reason}.")]
    else:
        out = _bands(who) + _addresses(who) + _fields(desk, row, who) + _volume(desk, row, who)
        out += _rest(who) + _collisions(desk, row, who)
    return sorted(lines + checking.in_order(desk, row, out), key=lambda c: checking.LEVELS.index(c["level"]))


def _bands(who: recipients.Recipients) -> list[Finding]:
    n, out = len(who.index), []
    share = np.bincount(who.view.scores.band[who.index], minlength=len(BANDS)) / n
    silent, unproven, veiled = (float(share[BANDS.index(b)]) for b in ("Silent", "Unproven", "Veiled"))
    if silent > MANY_SILENT:
        words = f"{silent:.0%} of {n:,} are Silent; mail to people who never answer is what filters learn from."
        out.append(Finding("Engagement", "mend", words, "recipients"))
    if unproven > MANY_UNPROVEN:
        words = f"{unproven:.0%} of {n:,} are Unproven: begin with a lead batch and look."
        out.append(Finding("Engagement", "note", words, "plan"))
    if veiled > 0.05:
        words = f"{veiled:.0%} of {n:,} are Veiled: their opens cannot be seen, only their clicks."
        out.append(Finding("Engagement", "note", words, "recipients"))
    return out


def _addresses(who: recipients.Recipients) -> list[Finding]:
    assert isinstance(who.view.facts, StoreFacts)
    verdict = who.view.facts.verdicts()[who.index]
    n, out = len(who.index), []
    unchecked = int((verdict == 0).sum())
    bad, risky = (int((verdict == 1 + VERDICTS.index(v)).sum()) for v in ("bad", "risky"))
    if bad:
        out.append(
            found("Addresses", "mend", f"{bad:,} of {n:,} addresses were found bad; leave them out.", "recipients")
        )
    if risky:
        out.append(found("Addresses", "note", f"{risky:,} of {n:,} addresses are risky."))
    if unchecked:
        out.append(found("Addresses", "note", f"{unchecked:,} of {n:,} addresses were never checked."))
    return out


def _fields(desk: Desk, row: Any, who: recipients.Recipients) -> list[Finding]:
    """Fields without a fallback that some have nothing in."""
    used: set[str] = set()
    for text in (row["subject"], row["html"], row["plain"]):
        used |= undeclared(without_fallbacks(text))
    own = used - checking.PAGES - set(checking.asked_about(desk, row)) - {"email"}
    out = []
    for name in sorted(own & checking.known_fields(desk, row)):
        column = "name" if name in ("name", "first_name") else f"field:{name}"
        lacking = people_sets.lacking(desk.store.read(), column, who.subscriber)
        if lacking:
            words = f"{lacking:,} of {len(who.index):,} have no {name}; give it a fallback: {{{{ {name} or 'friend' }}}}."
            out.append(Finding("Personal fields", "mend", words))
    return out


def _volume(desk: Desk, row: Any, who: recipients.Recipients) -> list[Finding]:
    """What a provider would get in one day, against its busiest day of the last 30."""
    from openmeadow.desk.planning import draw_schedule

    assert isinstance(who.view.facts, StoreFacts)
    zone, names = ZoneInfo(str(desk.setting("time_zone"))), provider_names(desk.store.read())
    drawn = draw_schedule(desk, row, who)
    day = np.array([datetime.fromtimestamp(at, UTC).astimezone(zone).toordinal() for at in drawn.moments] or [0])
    out, sent = [], who.view.columns.rows
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
            words = f"{names[provider]} would get {most:,} in a day; it had {was}. Spread it, or set a cap."
            out.append(Finding("Volume", "mend", words, "plan"))
    return out


def _rest(who: recipients.Recipients) -> list[Finding]:
    """How many were not written to for long."""
    rows, n = who.view.columns.rows, len(who.index)
    last = np.zeros(len(who.view.alive), np.int64)
    sent = rows.first_at <= who.view.now
    np.maximum.at(last, rows.person[sent], rows.first_at[sent])
    mine = last[who.index]
    rested = int(((mine > 0) & (mine < who.view.now - RESTED * DAY)).sum())
    never = int((mine == 0).sum())
    out = []
    if rested > 0.1 * n:
        words = f"{rested:,} of {n:,} were last written to more than {RESTED} days ago; many will not know you any more."
        out.append(Finding("Rest", "mend", words, "recipients"))
    if never > 0.5 * n and never > FEW:
        out.append(Finding("Rest", "note", f"{never:,} of {n:,} have never been written to.", "recipients"))
    return out


def _collisions(desk: Desk, row: Any, who: recipients.Recipients) -> list[Finding]:
    """Other plans that reach the same people on the same day."""
    from openmeadow.desk.planning import draw_schedule

    zone, db = ZoneInfo(str(desk.setting("time_zone"))), desk.store.read()

    def day(at: int) -> str:
        return datetime.fromtimestamp(at, UTC).astimezone(zone).date().isoformat()

    mine = {day(at) for at in draw_schedule(desk, row, who).moments}
    out = []
    ours = set(who.subscriber.tolist())
    for other in campaigns.waiting_plans(db):
        if other["id"] == row["id"]:
            continue
        people = {
            p["subscriber"]
            for b in ledger.batches(db, other["id"])
            if b["state"] in ("waiting", "going out") and day(b["due_at"]) in mine
            for p in ledger.people_of_batch(db, b["id"])
            if p["state"] in ("waiting", "deferred")
        }
        both = len(ours & people)
        if both:
            words = f"{both:,} of these people get “{other['name']}” on the same day; nobody gets both within a day."
            out.append(Finding("Other plans", "note", words, "plan"))
    return out
