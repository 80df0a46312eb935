"""Segments: saved rules, counted while they are typed."""

from __future__ import annotations

import json
import secrets
import time

import numpy as np
from flask import Response

from openmeadow.core.delivery.randomise import draw
from openmeadow.core.engagement.bands import BANDS
from openmeadow.core.errors import RuleMistake
from openmeadow.core.rules.breakdown import breakdown
from openmeadow.core.rules.conditions import AllOf, AnyOf, bracketed
from openmeadow.core.rules.parser import parse
from openmeadow.services.campaigns import campaigns
from openmeadow.services.segments import sampling, segments
from openmeadow.services.workspace import Workspace
from openmeadow.store.segments import names
from openmeadow.web import schemas as m
from openmeadow.web.api.subscribers.subscribers import rows_of
from openmeadow.web.router import ANALYSE, WRITE, Routes, who

A_DOZEN = 12
MOST_SHOWN = 200


routes = Routes()


@routes.route("GET", "/segments", m.Segments)
def every(workspace: Workspace) -> m.Segments:
    """All segments with their current counts."""
    return m.Segments(segments=segments.every(workspace))


@routes.route("GET", "/segments/names", m.Names)
def all_names(workspace: Workspace) -> m.Names:
    """The names that rules can use, by kind, with how many subscribers each applies to."""
    found = names.names(workspace.store.read())
    return m.Names(names={k: [m.Name(name=n, people=p) for n, p in rows] for k, rows in found.items()})


@routes.route("GET", "/segments/field-values", m.Names, query=m.FieldQuery)
def field_values(workspace: Workspace, query: m.FieldQuery) -> m.Names:
    """The most common values of a field, with how many subscribers have each."""
    found = names.field_values(workspace.store.read(), query.field)
    return m.Names(names={query.field: [m.Name(name=n, people=p) for n, p in found]})


@routes.route("POST", "/segments/count", m.RuleCount, body=m.RuleIn)
def count(workspace: Workspace, body: m.RuleIn) -> m.RuleCount:
    """How many subscribers match a rule, its condition breakdown, and a random sample of twelve."""
    begun = time.perf_counter()
    view = workspace.view()
    rule = workspace.checked_rule(body.rule, view, body.own_name or None)
    mask = view.mask(rule)
    seconds = time.perf_counter() - begun
    index = np.flatnonzero(mask)
    lot = np.argsort(draw(secrets.randbits(32), view.columns.people.id[index]))[:A_DOZEN]
    rows = [m.BreakdownRow.model_validate(r.json()) for r in breakdown(rule, view)[: MOST_SHOWN + 1]]
    parts = rule.parts if isinstance(rule, AllOf | AnyOf) else (rule,)
    return m.RuleCount(
        tree=rule.tree(),
        joined_by=rule.word if isinstance(rule, AllOf | AnyOf) else "",
        clauses=[m.Clause(text=bracketed(p), tree=p.tree()) for p in parts[:MOST_SHOWN]],
        count=len(index),
        subscribers=int(view.alive.sum()),
        as_of=view.now,
        breakdown=rows,
        bands=np.bincount(view.scores.band[mask], minlength=len(BANDS)).tolist(),
        chance=float(view.scores.chance[mask].mean()) if len(index) else None,
        seconds=seconds,
        text=rule.text(),
        sample=rows_of(workspace, view, index[lot]),
    )


@routes.route("POST", "/segments", m.Done, body=m.SegmentIn, rights=WRITE)
def save(workspace: Workspace, body: m.SegmentIn) -> m.Done:
    """Save a rule under a name; an existing segment of that name is changed."""
    saved = segments.save(workspace, body.name, body.rule, who(), body.label)
    return m.Done(id=saved.id, count=saved.count)


@routes.route("PUT", "/segments/<int:id>", m.Done, body=m.SegmentChange, rights=WRITE)
def change(workspace: Workspace, row_id: int, body: m.SegmentChange) -> m.Done:
    """Change a segment's name, rule and label."""
    saved = segments.change(workspace, row_id, body, who())
    return m.Done(id=saved.id, count=saved.count)


@routes.route("POST", "/segments/<int:id>/watch", m.Done, body=m.WatchIn, rights=WRITE)
def watch(workspace: Workspace, row_id: int, body: m.WatchIn) -> m.Done:
    """Say on Today when the size of a segment changes by more than a share."""
    segments.watch(workspace, row_id, body.share, who())
    return m.Done(id=row_id)


@routes.route("POST", "/segments/<int:id>/sample", m.ActionDone, body=m.SampleIn, rights=ANALYSE)
def sample(workspace: Workspace, row_id: int, body: m.SampleIn) -> m.ActionDone:
    """Put a random part of a segment on a list of its own."""
    return sampling.sample(workspace, row_id, body, who())


@routes.route("POST", "/segments/fits", m.Fits, body=m.RuleIn)
def fits(workspace: Workspace, body: m.RuleIn) -> m.Fits:
    """What fits next after the beginning of a rule."""
    try:
        parse(body.rule)
    except RuleMistake as e:
        return m.Fits(place=e.place, fits=list(e.fits))
    return m.Fits(place=len(body.rule), fits=["and", "or"])


@routes.route("POST", "/segments/overlap", m.Overlaps, body=m.OverlapIn)
def overlap(workspace: Workspace, body: m.OverlapIn) -> m.Overlaps:
    """How many subscribers a rule shares with up to four segments."""
    return m.Overlaps(overlaps=segments.overlap(workspace, body.rule, body.others))


@routes.route("POST", "/segments/win-back", m.Done, body=m.WinBackIn, rights=WRITE)
def win_back(workspace: Workspace, body: m.WinBackIn) -> m.Done:
    """Save a rule as a segment and create a draft campaign for it."""
    return m.Done(id=campaigns.for_segment(workspace, body.name, body.rule, who()))


@routes.route("GET", "/segments/<int:id>/about", m.SegmentAbout)
def about(workspace: Workspace, row_id: int) -> m.SegmentAbout:
    """Size over time, snapshots, and where it is used."""
    return segments.about(workspace, row_id)


@routes.route("GET", "/segments/<int:id>/rule.json", "application/json")
def rule_itself(workspace: Workspace, row_id: int) -> Response:
    """The rule as a file: its text and its tree."""
    document = json.dumps(segments.rule_of(workspace, row_id), ensure_ascii=False, indent=1)
    headers = {"Content-Disposition": f"attachment; filename=segment-{row_id}.json"}
    return Response(document, mimetype="application/json", headers=headers)


@routes.route("POST", "/segments/<int:id>/snapshots", m.Done, rights=WRITE)
def take_snapshot(workspace: Workspace, row_id: int) -> m.Done:
    """Keep the subscribers of a segment as they are now."""
    return segments.take_snapshot(workspace, row_id, who())


@routes.route("DELETE", "/segments/<int:id>/snapshots/<int:copy>", m.Done, rights=WRITE)
def delete_snapshot(workspace: Workspace, row_id: int, copy: int) -> m.Done:
    """Delete a snapshot."""
    segments.delete_snapshot(workspace, row_id, copy, who())
    return m.Done(id=copy)


@routes.route("DELETE", "/segments/<int:id>", m.Done, rights=WRITE)
def remove(workspace: Workspace, row_id: int) -> m.Done:
    """Delete a segment that nothing uses."""
    segments.remove(workspace, row_id, who())
    return m.Done(id=row_id)
