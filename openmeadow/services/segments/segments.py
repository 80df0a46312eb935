"""Segments: saved rules, counted when they are shown and again whenever they are used."""

from __future__ import annotations

import contextlib
import time
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from openmeadow.core.engagement.bands import BANDS
from openmeadow.core.errors import Missing, Refused, RuleMistake
from openmeadow.core.ids import SegmentId
from openmeadow.core.moments import DAY
from openmeadow.core.rules.conditions import Rule, View
from openmeadow.core.rules.parser import parse
from openmeadow.core.rules.people_clauses import InSegment, InSnapshot
from openmeadow.services import models
from openmeadow.services.segments import used
from openmeadow.services.subscribers import export as export_service
from openmeadow.services.subscribers.selection import Choice
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.segments import segments
from openmeadow.store.segments.records import Segment
from openmeadow.store.segments.renaming import rules_renamed
from openmeadow.store.subscribers.subscribers import facts_changed


@dataclass(frozen=True)
class SavedSegment:
    """A segment as it was saved; ``count`` people at ``as_of``."""

    id: int
    name: str
    rule: str
    count: int
    as_of: int


def save(workspace: Workspace, name: str, text: str, who: str, label: str = "") -> SavedSegment:
    """Save a rule under a name. RuleMistake, with its place, for a circle or an unknown name."""
    name = name.strip()
    if not name:
        raise Refused("A segment needs a name.")
    count, view, rule, _ = workspace.count(text, own_name=name)
    with workspace.store.atomic() as db:
        before = segments.named(db, name)
        row_id = segments.save(db, name, rule.text(), view.now)
        if label.strip():
            segments.change(db, row_id, name, rule.text(), label.strip(), view.now)
        if before is not None and before.rule != rule.text():
            segments.forget_counts(db, row_id)
        segments.counted(db, row_id, view.now, count)
        settings.log(db, view.now, who, "saved segment", name, count)
    return SavedSegment(row_id, name, rule.text(), count, view.now)


def change(workspace: Workspace, row_id: int, given: models.SegmentChange, who: str) -> SavedSegment:
    """Change a segment: its name, rule and label. Refused where somebody else changed it since it was read. All that names
    it follows a new name."""
    row, name = _one(workspace, row_id), given.name.strip()
    if not name:
        raise Refused("A segment needs a name.")
    if given.changed_at != row.changed_at:
        raise Refused(f"“{row.name}” was changed by another person meanwhile. Copy your rule, reload, and save it again.")
    taken = segments.named(workspace.store.read(), name)
    if taken is not None and taken.id != row.id:
        raise Refused(f"There is already a segment called “{taken.name}”.")
    count, view, rule, _ = workspace.count(given.rule, own_name=row.name)
    with workspace.store.atomic() as db:
        segments.change(db, row_id, name, rule.text(), given.label.strip(), max(view.now, row.changed_at + 1))
        if row.rule != rule.text():
            segments.forget_counts(db, row_id)
        segments.counted(db, row_id, view.now, count)
        if name != row.name:
            rules_renamed(db, "segment", row.name, name)
        facts_changed(db)
        act = "saved segment" if name == row.name else "renamed segment"
        settings.log(db, view.now, who, act, name if name == row.name else f"{row.name} to {name}", count)
    return SavedSegment(SegmentId(row_id), name, rule.text(), count, view.now)


def watch(workspace: Workspace, row_id: int, share: float | None, who: str) -> None:
    """Say on Today when the segment's size differs by more than a share from what it is now; None no longer."""
    row = _one(workspace, row_id)
    count, view, _, _ = workspace.count(row.rule, own_name=row.name)
    with workspace.store.atomic() as db:
        segments.watch(db, row_id, share, count, view.now)
        settings.log(db, view.now, who, "watched segment" if share else "stopped watching segment", row.name, count)


@dataclass(frozen=True)
class Moved:
    """A watched segment whose size has changed by more than its share."""

    row: Segment
    count: int


def moved(workspace: Workspace, view: View) -> list[Moved]:
    """Of the watched segments those whose size has changed by more than was set."""
    out = []
    for row in segments.watched(workspace.store.read()):
        with contextlib.suppress(RuleMistake, Missing):  # a rule that no longer reads is said in the list
            count = int(view.mask(workspace.checked_rule(row.rule, view, row.name)).sum())
            if abs(count - (row.alert_count or 0)) > (row.alert_share or 0) * max(row.alert_count or 0, 1):
                out.append(Moved(row, count))
    return out


def remove(workspace: Workspace, row_id: int, who: str) -> None:
    """Delete a segment. Refused while it is used; the sentence says where."""
    db = workspace.store.read()
    row = segments.one(db, row_id)
    if row is None:
        raise Missing("This segment does not exist any more.")
    if found := users(workspace, row):
        raise Refused(f"“{row.name}” is used by {', '.join(found)}. Remove it there first.")
    with workspace.store.atomic() as db:
        segments.remove(db, row_id)
        settings.log(db, workspace.now(), who, "deleted segment", row.name)


def every(workspace: Workspace) -> list[models.Segment]:
    """All segments with their counts, worked out now. One whose rule no longer reads says so."""
    view = workspace.view()
    out = []
    for row in segments.every(workspace.store.read()):
        count, bands, chance, problem = None, list[int](), None, ""
        try:
            mask = view.mask(workspace.checked_rule(row.rule, view, row.name))
            count, bands = int(mask.sum()), np.bincount(view.scores.band[mask], minlength=len(BANDS)).tolist()
            chance = float(view.scores.chance[mask].mean()) if count else None
        except (RuleMistake, Missing) as e:
            problem = str(e)
        out.append(
            models.Segment(
                id=row.id,
                name=row.name,
                rule=row.rule,
                as_of=view.now,
                changed_at=row.changed_at,
                label=row.label,
                alert_share=row.alert_share,
                count=count,
                problem=problem,
                bands=bands,
                chance=chance,
                used_by=segments.used_by(workspace.store.read(), row.id),
            )
        )
    return out


def export(workspace: Workspace, what: str, out: Path, columns: tuple[str, ...] | None = None) -> int:
    """Write the subscribers of a segment, by name, or of a rule; how many. Without ``columns`` the usual ones."""
    row = segments.named(workspace.store.read(), what.strip())
    usual = export_service.USUAL if columns is None else columns
    return export_service.write(workspace, Choice(rule=row.rule if row else what), usual, out)


def _one(workspace: Workspace, row_id: int) -> Segment:
    row = segments.one(workspace.store.read(), row_id)
    if row is None:
        raise Missing("This segment does not exist any more.")
    return row


GROWTH_POINTS, GROWTH_STEP = 12, 30 * DAY


def about(workspace: Workspace, row_id: int) -> models.SegmentAbout:
    """Size over time by the current rule, snapshots, where it is used, and how long counting took (seconds).

    Past sizes are counted once and kept until the rule changes.
    """
    row, db = _one(workspace, row_id), workspace.store.read()
    begun = time.perf_counter()
    view = workspace.view()
    rule = workspace.checked_rule(row.rule, view, row.name)
    count = int(view.mask(rule).sum())
    seconds = time.perf_counter() - begun
    day = view.now - view.now % DAY
    wanted = [day - i * GROWTH_STEP for i in range(1, GROWTH_POINTS + 1)]
    known = {int(r.at): int(r.count) for r in segments.counts(db, row_id)}
    new = {}
    for at in wanted:
        near = next((k for k in known if abs(k - at) < GROWTH_STEP // 2), None)
        if near is None:
            past = workspace.view(at, nearly=True)
            if past.alive.any():
                new[at] = int(past.mask(rule).sum())
    if new:
        with workspace.store.atomic() as db:
            for at, n in new.items():
                segments.counted(db, row_id, at, n)
    growth = [(at, n) for at, n in sorted({**known, **new}.items()) if at < view.now] + [(view.now, count)]
    return models.SegmentAbout(
        growth=[models.GrowthPoint(at=at, count=n) for at, n in growth],
        made_at=row.made_at,
        snapshots=[models.Snapshot(id=f.id, day=f.day, at=f.at, people=f.people) for f in segments.snapshots(db, row_id)],
        used_by=users(workspace, row),
        as_of=view.now,
        seconds=seconds,
    )


def users(workspace: Workspace, row: Segment) -> list[str]:
    """Where a segment is used, in words: campaigns that choose by it or show a part by it, segments, sequences."""
    name = row.name.lower()

    def clause(rule: Rule) -> bool:
        return isinstance(rule, InSegment | InSnapshot) and rule.name.lower() == name

    chosen_by = [f"the campaign “{n}”" for n in segments.used_by(workspace.store.read(), row.id)]
    return chosen_by + used.by(workspace, clause, begins=[("enters a segment", name)])


def take_snapshot(workspace: Workspace, row_id: int, who: str) -> models.Done:
    """Keep the subscribers of a segment as they are now."""
    row = _one(workspace, row_id)
    _, view, rule, _ = workspace.count(row.rule, own_name=row.name)
    people: list[int] = view.columns.people.id[view.mask(rule)].tolist()
    with workspace.store.atomic() as db:
        copy = segments.take_snapshot(db, row_id, row.rule, view.now, people)
        facts_changed(db)
        settings.log(db, view.now, who, "took snapshot of segment", row.name, len(people))
    return models.Done(id=copy, count=len(people))


def delete_snapshot(workspace: Workspace, row_id: int, copy: int, who: str) -> None:
    """Delete a snapshot."""
    row = _one(workspace, row_id)
    with workspace.store.atomic() as db:
        if not segments.delete_snapshot(db, row_id, copy):
            raise Missing("This snapshot does not exist any more.")
        facts_changed(db)
        settings.log(db, workspace.now(), who, "deleted a snapshot", row.name)


def rule_of(workspace: Workspace, row_id: int) -> dict[str, object]:
    """A segment's rule as a document: its name, its text and its tree."""
    row = _one(workspace, row_id)
    return {"name": row.name, "rule": row.rule, "tree": parse(row.rule).tree()}


MOST_OVERLAPS = 4


def overlap(workspace: Workspace, text: str, others: list[int]) -> list[models.Overlap]:
    """How many a rule shares with up to four segments, and how many only each of the two holds."""
    if len(others) > MOST_OVERLAPS:
        raise Refused("Compare with up to four other segments at a time.")
    view = workspace.view()
    mine = view.mask(workspace.checked_rule(text, view))
    out = []
    for row_id in others:
        row = _one(workspace, row_id)
        theirs = view.mask(workspace.checked_rule(row.rule, view, row.name))
        out.append(
            models.Overlap(
                id=row_id,
                name=row.name,
                both=int((mine & theirs).sum()),
                only_this=int((mine & ~theirs).sum()),
                only_that=int((theirs & ~mine).sum()),
            )
        )
    return out
