"""Segments: saved rules, worked out when looked at and again at the moment of use."""

from __future__ import annotations

import contextlib
import sqlite3
import time
from pathlib import Path
from typing import Any

import numpy as np

from openmeadow.core.engagement.score import BANDS
from openmeadow.core.errors import Missing, Refused, RuleMistake
from openmeadow.core.message.body import rules_in
from openmeadow.core.rules.sentence import parse
from openmeadow.core.rules.tree import InFrozen, InSegment, walk
from openmeadow.desk import exports
from openmeadow.desk.desk import Desk
from openmeadow.desk.marked import Choice
from openmeadow.desk.sequences.reading import ladder_of
from openmeadow.store import campaigns, segments, sequences, workspace
from openmeadow.store.subscribers import facts_changed


def save(desk: Desk, name: str, text: str, who: str) -> dict[str, Any]:
    """Keep a rule under a name; a circle or an unknown name is refused with its place."""
    name = name.strip()
    if not name:
        raise Refused("A segment needs a name.")
    count, view, rule, _ = desk.count(text, own_name=name)
    with desk.store.atomic() as db:
        before = segments.named(db, name)
        id = segments.save(db, name, rule.text(), view.now)
        if before is not None and before["rule"] != rule.text():
            segments.forget_counts(db, id)
        segments.counted(db, id, view.now, count)
        workspace.log(db, view.now, who, "saved segment", name, count)
    return {"id": id, "name": name, "rule": rule.text(), "count": count, "as_of": view.now}


def remove(desk: Desk, id: int, who: str) -> None:
    """A segment in use cannot be removed; the sentence says where it is used."""
    db = desk.store.read()
    row = segments.one(db, id)
    if row is None:
        raise Missing("There is no such segment.")
    if found := users(desk, row):
        raise Refused(f"“{row['name']}” is used by {', '.join(found)}; take it out there first.")
    with desk.store.atomic() as db:
        segments.remove(db, id)
        workspace.log(db, desk.now(), who, "removed segment", row["name"])


def every(desk: Desk) -> list[dict[str, Any]]:
    """All segments with their counts, worked out now. One whose rule no longer reads says so."""
    view = desk.view()
    out = []
    for row in segments.every(desk.store.read()):
        item: dict[str, Any] = {
            "id": row["id"],
            "name": row["name"],
            "rule": row["rule"],
            "as_of": view.now,
            "changed_at": row["changed_at"],
            "count": None,
            "problem": "",
            "bands": [],
        }
        try:
            mask = view.mask(desk.checked_rule(row["rule"], view, row["name"]))
            item["count"] = int(mask.sum())
            item["bands"] = np.bincount(view.scores.band[mask], minlength=len(BANDS)).tolist()
        except (RuleMistake, Missing) as e:
            item["problem"] = str(e)
        item["used_by"] = segments.used_by(desk.store.read(), row["id"])
        out.append(item)
    return out


def export(desk: Desk, what: str, out: Path) -> int:
    """Write the people of a segment, by name, or of a rule."""
    row = segments.named(desk.store.read(), what.strip())
    return exports.write(desk, Choice(rule=row["rule"] if row else what), exports.USUAL, out)


def _one(desk: Desk, id: int) -> sqlite3.Row:
    row = segments.one(desk.store.read(), id)
    if row is None:
        raise Missing("There is no such segment.")
    return row


GROWTH_POINTS, GROWTH_STEP = 12, 30 * 86_400


def about(desk: Desk, id: int) -> dict[str, Any]:
    """Growth by today's rule at past moments, frozen copies, where it is used, when worked out and how long it took.

    Past moments are worked out once and kept until the rule changes.
    """
    row, db = _one(desk, id), desk.store.read()
    begun = time.perf_counter()
    view = desk.view()
    rule = desk.checked_rule(row["rule"], view, row["name"])
    count = int(view.mask(rule).sum())
    seconds = time.perf_counter() - begun
    day = view.now - view.now % 86_400
    wanted = [day - i * GROWTH_STEP for i in range(1, GROWTH_POINTS + 1)]
    known = {int(r["at"]): int(r["count"]) for r in segments.counts(db, id)}
    new = {}
    for at in wanted:
        near = next((k for k in known if abs(k - at) < GROWTH_STEP // 2), None)
        if near is None:
            past = desk.view(at, nearly=True)
            if past.alive.any():
                new[at] = int(past.mask(rule).sum())
    if new:
        with desk.store.atomic() as db:
            for at, n in new.items():
                segments.counted(db, id, at, n)
    growth = [(at, n) for at, n in sorted({**known, **new}.items()) if at < view.now] + [(view.now, count)]
    return {
        "growth": [{"at": at, "count": n} for at, n in growth],
        "made_at": row["made_at"],
        "frozen": [
            {"id": f["id"], "day": f["day"], "at": f["at"], "people": f["people"]} for f in segments.frozen(db, id)
        ],
        "used_by": users(desk, row),
        "as_of": view.now,
        "seconds": seconds,
    }


def users(desk: Desk, row: sqlite3.Row) -> list[str]:
    """Where a segment is used, in words: campaigns that choose by it or show a part by it, segments, sequences."""
    db, name = desk.store.read(), str(row["name"]).lower()
    found = [f"the campaign “{n}”" for n in segments.used_by(db, row["id"])]

    def named_in(*rules: str) -> bool:
        for rule in rules:
            with contextlib.suppress(RuleMistake):
                if any(isinstance(p, InSegment | InFrozen) and p.name.lower() == name for p in walk(parse(rule))):
                    return True
        return False

    found += [f"the segment “{other['name']}”" for other in segments.every(db) if named_in(other["rule"])]
    for c in campaigns.not_over(db):
        if named_in(*(r for t in ("subject", "html", "plain") for r in rules_in(c[t]))):
            found.append(f"a part of “{c['name']}”")
    for q in sequences.every(db):
        ladder = ladder_of(q)
        begins = ladder.begin.on == "enters a segment" and ladder.begin.what.lower() == name
        if q["state"] != "ended" and (begins or named_in(ladder.leave.rule, *(s.rule for s in ladder.steps))):
            found.append(f"the sequence “{q['name']}”")
    return found


def freeze(desk: Desk, id: int, who: str) -> dict[str, Any]:
    """Keep the people of a segment as they are now."""
    row = _one(desk, id)
    _, view, rule, _ = desk.count(row["rule"], own_name=row["name"])
    people: list[int] = view.columns.people.id[view.mask(rule)].tolist()
    with desk.store.atomic() as db:
        copy = segments.freeze(db, id, row["rule"], view.now, people)
        facts_changed(db)
        workspace.log(db, view.now, who, "froze segment", row["name"], len(people))
    return {"id": copy, "count": len(people)}


def thaw(desk: Desk, id: int, copy: int, who: str) -> None:
    """Remove a frozen copy."""
    row = _one(desk, id)
    with desk.store.atomic() as db:
        if not segments.thaw(db, id, copy):
            raise Missing("There is no such frozen copy.")
        facts_changed(db)
        workspace.log(db, desk.now(), who, "removed a frozen copy", row["name"])


def rule_of(desk: Desk, id: int) -> dict[str, Any]:
    """A segment's rule itself: {"name", "rule", "tree"}."""
    row = _one(desk, id)
    return {"name": row["name"], "rule": row["rule"], "tree": parse(row["rule"]).tree()}


MOST_OVERLAPS = 4


def overlap(desk: Desk, text: str, others: list[int]) -> list[dict[str, Any]]:
    """How many a rule shares with up to four segments, and how many only each of the two holds."""
    if len(others) > MOST_OVERLAPS:
        raise Refused("Compare with up to four other segments at a time.")
    view = desk.view()
    mine = view.mask(desk.checked_rule(text, view))
    out = []
    for id in others:
        row = _one(desk, id)
        theirs = view.mask(desk.checked_rule(row["rule"], view, row["name"]))
        out.append(
            {
                "id": id,
                "name": row["name"],
                "both": int((mine & theirs).sum()),
                "only_this": int((mine & ~theirs).sum()),
                "only_that": int((theirs & ~mine).sum()),
            }
        )
    return out
