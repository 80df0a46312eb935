"""Segments: saved rules, counted while they are typed."""

from __future__ import annotations

import json
import secrets
import time

import numpy as np
from flask import Response

from openmeadow.core.consent.gate import SUPPRESSION_REASONS
from openmeadow.core.engagement.score import BANDS
from openmeadow.core.errors import RuleMistake
from openmeadow.core.lot import draw
from openmeadow.core.rules.sentence import parse
from openmeadow.core.rules.sieve import sieve
from openmeadow.core.rules.tree import AllOf, AnyOf, bracketed
from openmeadow.desk import campaigns, segments
from openmeadow.desk.desk import Desk
from openmeadow.store import consent, subscribers
from openmeadow.store.providers import names as provider_names
from openmeadow.web import models as m
from openmeadow.web.api.subscribers import rows_of
from openmeadow.web.described import WRITE, Described, who

A_DOZEN = 12
MOST_SHOWN = 200


def register(api: Described, desk: Desk) -> None:
    @api.route("GET", "/segments", m.Segments)
    def every() -> m.Segments:
        """All segments with their counts, worked out now, and the names rules may use."""
        db = desk.store.read()

        def names(table: str) -> list[str]:
            return [r["name"] for r in db.execute(f"SELECT name FROM {table} ORDER BY name")]  # noqa: S608

        def values(column: str) -> list[str]:
            return subscribers.distinct(db, column)

        recent = db.execute("SELECT name FROM messages ORDER BY id DESC LIMIT 200").fetchall()
        words = {
            "list": names("lists"),
            "label": names("labels"),
            "purpose": names("purposes"),
            "field": names("field_names"),
            "door": names("doors"),
            "segment": names("segments"),
            "sequence": names("sequences"),
            "language": values("language"),
            "country": values("country"),
            "message": [r["name"] for r in recent],
            "provider": [n for n in provider_names(desk.store.read()) if n],
            "reason": list(SUPPRESSION_REASONS),
            "source": consent.sources(db),
        }
        return m.Segments(segments=[m.Segment(**s) for s in segments.every(desk)], words=words)

    @api.route("POST", "/segments/count", m.RuleCount, body=m.RuleIn)
    def count(body: m.RuleIn) -> m.RuleCount:
        """How many a rule holds for, the sieve, and a dozen drawn by lot."""
        begun = time.perf_counter()
        view = desk.view()
        rule = desk.checked_rule(body.rule, view, body.own_name or None)
        mask = view.mask(rule)
        seconds = time.perf_counter() - begun
        index = np.flatnonzero(mask)
        lot = np.argsort(draw(secrets.randbits(32), view.columns.people.id[index]))[:A_DOZEN]
        rows = [
            m.SieveRow(text=r.text, left=r.left, alone=r.alone, arm=r.arm) for r in sieve(rule, view)[: MOST_SHOWN + 1]
        ]
        parts = rule.parts if isinstance(rule, AllOf | AnyOf) else (rule,)
        return m.RuleCount(
            joined_by=rule.word if isinstance(rule, AllOf | AnyOf) else "",
            clauses=[m.Clause(text=bracketed(p), tree=p.tree()) for p in parts[:MOST_SHOWN]],
            count=len(index),
            subscribers=int(view.alive.sum()),
            as_of=view.now,
            sieve=rows,
            bands=np.bincount(view.scores.band[mask], minlength=len(BANDS)).tolist(),
            seconds=seconds,
            text=rule.text(),
            sample=rows_of(desk, view, index[lot]),
        )

    @api.route("POST", "/segments", m.Done, body=m.SegmentIn, rights=WRITE)
    def save(body: m.SegmentIn) -> m.Done:
        """Keep a rule under a name (one that exists is changed)."""
        saved = segments.save(desk, body.name, body.rule, who())
        return m.Done(id=saved["id"], count=saved["count"])

    @api.route("POST", "/segments/fits", m.Fits, body=m.RuleIn)
    def fits(body: m.RuleIn) -> m.Fits:
        """What could stand next after the beginning of a rule."""
        try:
            parse(body.rule)
        except RuleMistake as e:
            return m.Fits(place=e.place, fits=list(e.fits))
        return m.Fits(place=len(body.rule), fits=["and", "or"])

    @api.route("POST", "/segments/overlap", m.Overlaps, body=m.OverlapIn)
    def overlap(body: m.OverlapIn) -> m.Overlaps:
        """How many people a rule shares with up to four segments."""
        return m.Overlaps(overlaps=[m.Overlap(**o) for o in segments.overlap(desk, body.rule, body.others)])

    @api.route("POST", "/segments/win-back", m.Done, body=m.WinBackIn, rights=WRITE)
    def win_back(body: m.WinBackIn) -> m.Done:
        """Keep a rule as a segment and begin a campaign draft for it."""
        return m.Done(id=campaigns.for_segment(desk, body.name, body.rule, who()))

    @api.route("GET", "/segments/<int:id>/about", m.SegmentAbout)
    def about(id: int) -> m.SegmentAbout:
        """Growth, frozen copies, where it is used, when worked out."""
        return m.SegmentAbout(**segments.about(desk, id))

    @api.route("GET", "/segments/<int:id>/rule.json", "application/json")
    def rule_itself(id: int) -> Response:
        """The rule as a file: its sentence and its tree."""
        document = json.dumps(segments.rule_of(desk, id), ensure_ascii=False, indent=1)
        headers = {"Content-Disposition": f"attachment; filename=segment-{id}.json"}
        return Response(document, mimetype="application/json", headers=headers)

    @api.route("POST", "/segments/<int:id>/freeze", m.Done, rights=WRITE)
    def freeze(id: int) -> m.Done:
        """Keep the people of a segment as they are now."""
        return m.Done(**segments.freeze(desk, id, who()))

    @api.route("DELETE", "/segments/<int:id>/frozen/<int:copy>", m.Done, rights=WRITE)
    def thaw(id: int, copy: int) -> m.Done:
        """Remove a frozen copy."""
        segments.thaw(desk, id, copy, who())
        return m.Done(id=copy)

    @api.route("DELETE", "/segments/<int:id>", m.Done, rights=WRITE)
    def remove(id: int) -> m.Done:
        """Remove a segment that nothing uses."""
        segments.remove(desk, id, who())
        return m.Done(id=id)
