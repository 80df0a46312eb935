"""The desk: one open workspace with its clock and its columns, kept up to date as events come in."""

from __future__ import annotations

import contextlib
import sqlite3
import threading
import time
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from openmeadow.clock import Clock, clock_of
from openmeadow.core.columns import I64, Columns
from openmeadow.core.engagement.score import BANDS, SILENT, Scores, bring_forward, score
from openmeadow.core.errors import Missing, RuleMistake
from openmeadow.core.rules.sentence import parse
from openmeadow.core.rules.sieve import SieveRow, sieve
from openmeadow.core.rules.streams import Streams
from openmeadow.core.rules.tree import Rule, View
from openmeadow.store import columns as loader
from openmeadow.store import events, mirror, workspace
from openmeadow.store.database import Store
from openmeadow.store.facts import StoreFacts

WORTH_MIRRORING = 20_000


@dataclass
class _Kept:
    columns: Columns
    streams: Streams
    seen: int
    scores: Scores
    everybody: loader.Everybody


class Desk:
    """Opens a data folder; hands out views. ``view()`` is now, ``view(as_of=t)`` a past moment as it was then."""

    def __init__(self, folder: Path, clock: Clock | None = None) -> None:
        self.store = Store(folder)
        self.folder = folder
        self.clock = clock or clock_of(folder)
        self._kept: _Kept | None = None
        self._guard = threading.Lock()

    def now(self) -> int:
        return self.clock.now()

    def close(self) -> None:
        self.store.close()

    def setting(self, name: str) -> Any:
        return workspace.setting(self.store.read(), name)

    def _refresh(self) -> _Kept:
        db, now, kept = self.store.read(), self.now(), self._kept
        if kept is None:
            everybody = loader.everybody_of(db)
            columns, seen = self._opened(db, everybody)
            kept = _Kept(columns, Streams(columns), seen, score(columns, now), everybody)
        else:
            everybody = loader.everybody_of(db, kept.everybody)
            touched: I64 = np.zeros(0, np.int64)
            if everybody is not kept.everybody or events.highest(db) != kept.seen:
                columns, seen, touched = loader.refresh(db, everybody.people, kept.columns, kept.seen)
                kept = replace(kept, columns=columns, seen=seen, everybody=everybody, streams=Streams(columns))
            if now != kept.scores.now or len(touched) or len(kept.columns.people) != len(kept.scores.E):
                kept = replace(kept, scores=bring_forward(kept.scores, kept.columns, touched, now))
        self._kept = kept
        return kept

    def _opened(self, db: sqlite3.Connection, everybody: loader.Everybody) -> tuple[Columns, int]:
        """The mirror brought up to date, or columns built anew (and mirrored when that took reading a lot)."""
        found = mirror.load(self.folder, db)
        if found is None:
            columns, seen = loader.load(db, everybody.people)
        else:
            columns, seen, _ = loader.refresh(db, everybody.people, *found)
        if found is None or seen - found[1] > WORTH_MIRRORING:
            with contextlib.suppress(OSError):
                mirror.save(self.folder, db, columns, seen)
        return columns, seen

    def view(self, as_of: int | None = None) -> View:
        """What is true at a moment. A past one is worked out from the events known by then alone."""
        with self._guard:
            now = self.now()
            db = self.store.read()
            if as_of is None or as_of == now:
                kept = self._refresh()
                columns, streams, scores, everybody = kept.columns, kept.streams, kept.scores, kept.everybody
            else:
                now = as_of
                everybody = loader.everybody_of(db)
                columns, _ = loader.load(db, everybody.people, until=now)
                streams, scores = Streams(columns), score(columns, now)
            facts = StoreFacts(db, everybody.people.id, everybody.erased, everybody.provider, everybody.door, now)
            return View(columns, streams, scores, facts, ~everybody.erased & (columns.people.joined_at <= now), now)

    def band_counts(self, view: View) -> dict[str, int]:
        counts = np.bincount(view.scores.band[view.alive], minlength=len(BANDS))
        return dict(zip(BANDS, counts.tolist(), strict=True))

    def score_summary(self, as_of: int | None = None, full: bool = False) -> dict[str, Any]:
        begun = time.perf_counter()
        if full:
            self._kept = None
        view = self.view(as_of)
        silent = view.alive & (view.scores.band == SILENT)
        never = int((silent & (view.scores.answered == 0) & (view.scores.last_answer < 0)).sum())
        if as_of is None:
            with self.store.atomic() as db:
                workspace.set_setting(db, "scored_at", view.now)
        return {
            "subscribers": int(view.alive.sum()),
            "bands": self.band_counts(view),
            "silent": {"never answered": never, "stopped answering": int(silent.sum()) - never},
            "cadence": {
                "gap_days": view.scores.cadence.gap,
                "half_life_days": view.scores.cadence.half_life,
                "window_days": view.scores.cadence.window,
            },
            "as_of": view.now,
            "seconds": round(time.perf_counter() - begun, 3),
        }

    def checked_rule(self, text: str, view: View, own_name: str | None = None) -> Rule:
        """A rule whose every name exists; a mistake points at its place."""
        rule = parse(text)
        assert isinstance(view.facts, StoreFacts)
        path = view.facts.circle(rule, (own_name,) if own_name else ())
        if path:
            raise RuleMistake(f"This rule would go in a circle: {' → '.join(path)}.", 0)
        from openmeadow.core.rules.tree import walk

        for part in walk(rule):
            if type(part).__name__ in ("AllOf", "AnyOf", "Negated"):
                continue
            try:
                part.mask(view)
            except Missing as e:
                raise RuleMistake(f"At character {part.place + 1}: {e}", part.place) from e
        return rule

    def count(
        self, text: str, as_of: int | None = None, with_sieve: bool = False, own_name: str | None = None
    ) -> tuple[int, View, Rule, list[SieveRow]]:
        view = self.view(as_of)
        rule = self.checked_rule(text, view, own_name)
        return int(rule.mask(view).sum()), view, rule, sieve(rule, view) if with_sieve else []

    def index_of(self, view: View, subscriber: int) -> int:
        at = int(np.searchsorted(view.columns.people.id, subscriber))
        if at >= len(view.columns.people) or view.columns.people.id[at] != subscriber:
            raise Missing("There is no such subscriber.")
        return at
