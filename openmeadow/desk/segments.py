"""Segments: saved rules, worked out when looked at and again at the moment of use."""

from __future__ import annotations

import csv
import json
from pathlib import Path
from typing import Any

import numpy as np

from openmeadow.core.engagement.score import BANDS
from openmeadow.core.errors import Missing, Refused, RuleMistake
from openmeadow.core.intake.moments import rfc3339
from openmeadow.core.rules.sentence import parse
from openmeadow.core.rules.tree import InSegment, walk
from openmeadow.desk.desk import Desk
from openmeadow.store import segments, subscribers, workspace

EXPORTED = ("email", "name", "joined_at", "score", "band")


def save(desk: Desk, name: str, text: str, who: str) -> dict[str, Any]:
    """Keep a rule under a name; a circle or an unknown name is refused with its place."""
    name = name.strip()
    if not name:
        raise Refused("A segment needs a name.")
    count, view, rule, _ = desk.count(text, own_name=name)
    with desk.store.atomic() as db:
        id = segments.save(db, name, rule.text(), view.now)
        workspace.log(db, view.now, who, "saved segment", name, count)
    return {"id": id, "name": name, "rule": rule.text(), "count": count, "as_of": view.now}


def remove(desk: Desk, id: int, who: str) -> None:
    """A segment in use cannot be removed; the sentence says where it is used."""
    db = desk.store.read()
    row = segments.one(db, id)
    if row is None:
        raise Missing("There is no such segment.")
    users = [f"the campaign “{n}”" for n in segments.used_by(db, id)]
    users += [
        f"the segment “{s['name']}”"
        for s in segments.every(db)
        if any(isinstance(p, InSegment) and p.name.lower() == row["name"].lower() for p in walk(parse(s["rule"])))
    ]
    if users:
        raise Refused(f"“{row['name']}” is used by {', '.join(users)}; take it out there first.")
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
            mask = desk.checked_rule(row["rule"], view, row["name"]).mask(view)
            item["count"] = int(mask.sum())
            item["bands"] = np.bincount(view.scores.band[mask], minlength=len(BANDS)).tolist()
        except (RuleMistake, Missing) as e:
            item["problem"] = str(e)
        item["used_by"] = segments.used_by(desk.store.read(), row["id"])
        out.append(item)
    return out


def _safe(cell: str) -> str:
    """A cell that a spreadsheet would run as a formula is made text."""
    return "'" + cell if cell[:1] in "=+-@\t\r" and cell else cell


def export(desk: Desk, what: str, out: Path) -> int:
    """Write the people of a segment, by name, or of a rule."""
    row = segments.named(desk.store.read(), what.strip())
    _, view, rule, _ = desk.count(row["rule"] if row else what)
    index = np.flatnonzero(rule.mask(view))
    ids = view.columns.people.id[index]
    rows = subscribers.by_ids(desk.store.read(), ids.tolist())
    score, band = view.scores.score, view.scores.band

    def line(i: int, id: int) -> list[str]:
        r = rows[id]
        return [r["email"], r["name"] or "", rfc3339(r["joined_at"]), f"{score[i]:.1f}", BANDS[band[i]]]

    try:
        with out.open("w", encoding="utf-8", newline="") as f:
            lines = (line(i, id) for i, id in zip(index.tolist(), ids.tolist(), strict=True))
            if out.suffix == ".ndjson":
                f.writelines(json.dumps(dict(zip(EXPORTED, x, strict=True)), ensure_ascii=False) + "\n" for x in lines)
            else:
                writer = csv.writer(f)
                writer.writerow(EXPORTED)
                writer.writerows([_safe(c) for c in x] for x in lines)
    except OSError as e:
        raise Missing(f"The file {out} cannot be opened: {e.strerror}.") from e
    return len(index)
