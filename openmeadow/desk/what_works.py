"""What works here: over all campaigns, which resends, hours, sizes and subjects paid; with intervals, claiming no more."""

from __future__ import annotations

from collections import defaultdict
from datetime import UTC, datetime
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np

from openmeadow.core.columns import DAY
from openmeadow.core.resend.lift import ArmCount, lift
from openmeadow.core.statistics import wilson
from openmeadow.desk import results
from openmeadow.desk.breakdown import FEW_DELIVERED, LATELY, SETTLED, Told, first_sent
from openmeadow.desk.desk import Desk
from openmeadow.store import campaigns

MOST, ENOUGH_OF_A_KIND = 150, 3
SIZES = ((0, 1_000), (1_000, 5_000), (5_000, 20_000), (20_000, 10**9))
LENGTHS = ((0, 30), (30, 45), (45, 60), (60, 500))


def see(desk: Desk) -> dict[str, Any]:
    """{"resends", "kinds": [{"title", "note", "lines"}], "mailings"}: resends pooled by arm against those held back by
    lot (a comparison), and mailings by hour, weekday, size and length of subject (none: they differ in who they hold)."""
    view, db = desk.view(), desk.store.read()
    names, zone = campaigns.message_names(db), ZoneInfo(str(desk.setting("time_zone")))
    subjects = {c["message"]: c["subject"] for c in campaigns.started(db)}
    began = sorted(first_sent(view).items(), key=lambda x: -x[1])
    lines: dict[str, dict[tuple[int, str], list[tuple[int, int]]]] = defaultdict(lambda: defaultdict(list))
    mailings = 0
    for m, at in began:
        if m not in names or not view.now - LATELY * DAY < at <= view.now - SETTLED or mailings >= MOST:
            continue
        told = Told(view, m)
        figures = told.of(np.ones(len(told.person), bool))
        if figures["delivered"] < FEW_DELIVERED:
            continue
        mailings += 1
        here = datetime.fromtimestamp(at, UTC).astimezone(zone)
        one = (figures["opened"], figures["delivered"])
        part = here.hour // 3 * 3
        lines["Hour of the day"][part, f"{part:02}:00 to {part + 3:02}:00"].append(one)
        lines["Weekday"][here.weekday(), f"{here:%A}"].append(one)
        low, high = next((a, b) for a, b in SIZES if a <= figures["handed"] < b)
        size = f"{low:,} to {high:,} people" if high < 10**9 else f"over {low:,} people"
        lines["Size"][low, size].append(one)
        if m in subjects:
            low, high = next((a, b) for a, b in LENGTHS if a <= min(len(subjects[m]), 499) < b)
            lines["Length of the subject"][low, f"{low} to {high} characters"].append(one)
    kinds = []
    for title, found in lines.items():
        told_lines = []
        for (_, words), several in sorted(found.items()):
            k, n = (sum(x) for x in zip(*several, strict=True))
            told_lines.append(
                {
                    "words": words,
                    "mailings": len(several),
                    "delivered": n,
                    "share": wilson(k, n).point,
                    "least": min(a / b for a, b in several),
                    "most": max(a / b for a, b in several),
                    "enough": len(several) >= ENOUGH_OF_A_KIND,
                }
            )
        kinds.append({"title": title, "lines": told_lines})
    return {"resends": resends(desk), "kinds": kinds, "mailings": mailings}


def resends(desk: Desk) -> dict[str, Any]:
    """All resends together: each kind of arm against everybody held back in the same campaigns."""
    arms: dict[str, list[int]] = defaultdict(lambda: [0, 0, 0, 0])
    held: dict[str, list[int]] = defaultdict(lambda: [0, 0])
    several = 0
    for c in campaigns.started(desk.store.read()):
        if not c["resent"]:
            continue
        found = results.results(desk, c["id"])["arms"]
        back = next((a for a in found if a["arm"] == "Held back"), None)
        if back is None or not back["people"]:
            continue
        several += 1
        for a in found:
            if a["arm"] == "Held back" or not a["people"]:
                continue
            kind = a["arm"].partition(" (")[0]
            for i, word in enumerate(("people", "answered", "unsubscribed", "complained")):
                arms[kind][i] += a[word]
            for i, word in enumerate(("people", "answered")):
                held[kind][i] += back[word]
    lines = []
    for kind, counts in sorted(arms.items()):
        x = lift(ArmCount(kind, *counts), ArmCount("Held back", *held[kind]))
        lines.append(
            {
                "arm": kind,
                "people": counts[0],
                "answered": counts[1],
                "held": held[kind][0],
                "held_answered": held[kind][1],
                "difference": x.difference.point,
                "low": x.difference.low,
                "high": x.difference.high,
                "verdict": x.verdict,
                "unsubscribed": counts[2],
                "complained": counts[3],
            }
        )
    return {"campaigns": several, "lines": lines, "sentence": _sentence(arms)}


def _sentence(arms: dict[str, list[int]]) -> str:
    """Whether the same or a new subject does better here, in words that claim no more than is shown."""
    same, new = arms.get("Same subject"), arms.get("New subject")
    if not same or not new:
        return "Whether the same or a new subject does better here is not known: no resend has tried both by lot."
    x = lift(ArmCount("New subject", *new), ArmCount("Same subject", *same))
    points = f"{100 * x.difference.point:+.1f} points ({100 * x.difference.low:.1f} to {100 * x.difference.high:.1f})"
    if x.verdict == "yes":
        return f"A new subject does better here than the same one: {points}."
    if x.verdict == "harm":
        return f"The same subject does better here than a new one: {points} for the new one."
    return f"Between the same and a new subject no difference is shown here yet: {points} for the new one."
