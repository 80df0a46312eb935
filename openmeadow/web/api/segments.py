"""Segments: saved rules, counted while they are typed."""

from __future__ import annotations

import secrets
import time

import numpy as np

from openmeadow.core.addresses.providers import provider_names
from openmeadow.core.engagement.score import BANDS
from openmeadow.core.lot import draw
from openmeadow.core.rules.sieve import sieve
from openmeadow.desk import segments
from openmeadow.desk.desk import Desk
from openmeadow.web import models as m
from openmeadow.web.api.subscribers import rows_of
from openmeadow.web.described import WRITE, Described, who

A_DOZEN = 12


def register(api: Described, desk: Desk) -> None:
    @api.route("GET", "/segments", m.Segments)
    def every() -> m.Segments:
        """All segments with their counts, worked out now, and the names rules may use."""
        db = desk.store.read()

        def names(table: str) -> list[str]:
            return [r["name"] for r in db.execute(f"SELECT name FROM {table} ORDER BY name")]  # noqa: S608

        recent = db.execute("SELECT name FROM messages ORDER BY id DESC LIMIT 200").fetchall()
        words = {
            "list": names("lists"),
            "label": names("labels"),
            "purpose": names("purposes"),
            "field": names("field_names"),
            "door": names("doors"),
            "segment": names("segments"),
            "message": [r["name"] for r in recent],
            "provider": provider_names(),
        }
        return m.Segments(segments=[m.Segment(**s) for s in segments.every(desk)], words=words)

    @api.route("POST", "/segments/count", m.RuleCount, body=m.RuleIn)
    def count(body: m.RuleIn) -> m.RuleCount:
        """How many a rule holds for, the sieve, and a dozen drawn by lot."""
        begun = time.perf_counter()
        view = desk.view()
        rule = desk.checked_rule(body.rule, view, body.own_name or None)
        mask = rule.mask(view)
        seconds = time.perf_counter() - begun
        index = np.flatnonzero(mask)
        lot = np.argsort(draw(secrets.randbits(32), view.columns.people.id[index]))[:A_DOZEN]
        rows = [m.SieveRow(text=r.text, left=r.left, alone=r.alone, arm=r.arm) for r in sieve(rule, view)]
        return m.RuleCount(
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

    @api.route("DELETE", "/segments/<int:id>", m.Done, rights=WRITE)
    def remove(id: int) -> m.Done:
        """Remove a segment that nothing uses."""
        segments.remove(desk, id, who())
        return m.Done(id=id)
