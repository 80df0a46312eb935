"""What works here: over all campaigns, which resends, hours, sizes and subjects paid; with intervals, claiming no more."""

from __future__ import annotations

from collections import defaultdict
from datetime import UTC, datetime
from typing import NamedTuple

from openmeadow.core.delivery.uplift import VariantCount, lift
from openmeadow.core.moments import DAY
from openmeadow.core.statistics import wilson
from openmeadow.services import models
from openmeadow.services.campaigns import figures, results
from openmeadow.services.campaigns.results_breakdown import FEW_DELIVERED, LATELY, SETTLED
from openmeadow.services.workspace import Workspace
from openmeadow.store.campaigns import campaigns
from openmeadow.store.engagement import chance_models, event_hours

MOST, ENOUGH_OF_A_KIND = 150, 3
SIZES = ((0, 1_000), (1_000, 5_000), (5_000, 20_000), (20_000, 10**9))
LENGTHS = ((0, 30), (30, 45), (45, 60), (60, 500))


class _Mailing(NamedTuple):
    """``observed`` and ``expected`` are 0 where the expectation is not known."""

    opened: int
    delivered: int
    observed: int
    expected: float


def see(workspace: Workspace) -> models.WhatWorks:
    """{"resends", "kinds": [{"title", "note", "lines"}], "mailings"}: resends pooled by variant against those in the
    holdout group by
    lot (a comparison), and mailings by hour, weekday, size and length of subject (none: they differ in who they hold)."""
    view, db = workspace.view(), workspace.store.read()
    names, zone = campaigns.message_names(db), workspace.zone
    subjects = {c.message: c.subject for c in campaigns.started(db)}
    began = sorted(((m.message, m.began) for m in event_hours.by_message(db)), key=lambda x: -x[1])
    every = figures.every(workspace)
    known = {e.message: e for e in chance_models.mailings(db)}
    lines: dict[str, dict[tuple[int, str], list[_Mailing]]] = defaultdict(lambda: defaultdict(list))
    mailings = 0
    for m, at in began:
        if m not in names or not view.now - LATELY * DAY < at <= view.now - SETTLED or mailings >= MOST:
            continue
        whole = every.get(m)
        if whole is None or whole.delivered < FEW_DELIVERED:
            continue
        mailings += 1
        here = datetime.fromtimestamp(at, UTC).astimezone(zone)
        e = known.get(m)
        one = _Mailing(whole.opened, whole.delivered, e.observed if e else 0, e.expected if e else 0.0)
        part = here.hour // 3 * 3
        lines["Hour of the day"][part, f"{part:02}:00 to {part + 3:02}:00"].append(one)
        lines["Weekday"][here.weekday(), f"{here:%A}"].append(one)
        low, high = next((a, b) for a, b in SIZES if a <= whole.sent < b)
        size = f"{low:,} to {high:,} people" if high < 10**9 else f"over {low:,} people"
        lines["Size"][low, size].append(one)
        if m in subjects:
            low, high = next((a, b) for a, b in LENGTHS if a <= min(len(subjects[m]), 499) < b)
            lines["Subject length"][low, f"{low} to {high} characters"].append(one)
    kinds = []
    for title, found in lines.items():
        told_lines = []
        for (_, words), several in sorted(found.items()):
            k, n = sum(x.opened for x in several), sum(x.delivered for x in several)
            expected = sum(x.expected for x in several)
            told_lines.append(
                models.Comparison(
                    words=words,
                    mailings=len(several),
                    delivered=n,
                    share=wilson(k, n).point,
                    least=min(x.opened / x.delivered for x in several),
                    most=max(x.opened / x.delivered for x in several),
                    ratio=sum(x.observed for x in several) / expected if expected else None,
                    enough=len(several) >= ENOUGH_OF_A_KIND,
                )
            )
        kinds.append(models.ComparisonKind(title=title, lines=told_lines))
    return models.WhatWorks(resends=resends(workspace), kinds=kinds, mailings=mailings)


def resends(workspace: Workspace) -> models.PooledResends:
    """All resends together: each kind of variant against everybody in the holdout group in the same campaigns."""
    variants: dict[str, list[int]] = defaultdict(lambda: [0, 0, 0, 0])
    held: dict[str, list[int]] = defaultdict(lambda: [0, 0])
    several = 0
    for c in campaigns.started(workspace.store.read()):
        if not c.resent:
            continue
        found = results.results(workspace, c.id).variants
        back = next((a for a in found if a.variant == "Holdout"), None)
        if back is None or not back.people:
            continue
        several += 1
        for a in found:
            if a.variant == "Holdout" or not a.people:
                continue
            kind = a.variant.partition(" (")[0]
            for i, word in enumerate(("people", "engaged", "unsubscribed", "complained")):
                variants[kind][i] += getattr(a, word)
            for i, word in enumerate(("people", "engaged")):
                held[kind][i] += getattr(back, word)
    lines = []
    for kind, counts in sorted(variants.items()):
        x = lift(VariantCount(kind, *counts), VariantCount("Holdout", *held[kind]))
        lines.append(
            models.PooledVariant(
                variant=kind,
                people=counts[0],
                engaged=counts[1],
                holdout=held[kind][0],
                holdout_engaged=held[kind][1],
                difference=x.difference.point,
                low=x.difference.low,
                high=x.difference.high,
                verdict=x.verdict,
                unsubscribed=counts[2],
                complained=counts[3],
            )
        )
    return models.PooledResends(campaigns=several, lines=lines, sentence=_sentence(variants))


def _sentence(variants: dict[str, list[int]]) -> str:
    """Whether the same or a new subject does better here, in words that claim no more than is shown."""
    same, new = variants.get("Same subject"), variants.get("New subject")
    if not same or not new:
        return "It is unknown whether a new subject works better: no resend has tested both."
    x = lift(VariantCount("New subject", *new), VariantCount("Same subject", *same))
    points = f"{100 * x.difference.point:+.1f} points ({100 * x.difference.low:.1f} to {100 * x.difference.high:.1f})"
    if x.verdict == "yes":
        return f"New subjects work better: {points}."
    if x.verdict == "harm":
        return f"The same subject works better: {points} for a new one."
    return f"No significant difference between the same and a new subject yet: {points} for a new one."
