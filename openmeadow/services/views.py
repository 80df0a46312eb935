"""Views of a workspace: what is true of everybody or of a few people, now or at a past moment, with their scores; kept up to
date as events come in."""

from __future__ import annotations

import time
from collections.abc import Callable
from contextlib import AbstractContextManager
from dataclasses import dataclass, replace
from functools import partial
from importlib import resources
from typing import TYPE_CHECKING, cast

import numpy as np

from openmeadow.core.arrays import FAR, I64, Mask
from openmeadow.core.columns import Columns, Troubles
from openmeadow.core.engagement.bands import BANDS, INACTIVE, Cadence, Limits, cadence
from openmeadow.core.engagement.bot_signatures import Machines
from openmeadow.core.engagement.chance_models import ChanceModels
from openmeadow.core.engagement.score import Basis, Scores, bring_forward, score
from openmeadow.core.errors import Missing, RuleMistake
from openmeadow.core.ids import SubscriberId
from openmeadow.core.moments import DAY
from openmeadow.core.rules.activity_index import Streams
from openmeadow.core.rules.breakdown import BreakdownRow, breakdown
from openmeadow.core.rules.conditions import Rule, View, walk
from openmeadow.core.rules.late_view import FactsOf, Late, LateView, MergedColumns
from openmeadow.core.rules.parser import parse
from openmeadow.services.kept_columns import USUAL, Kept, KeptColumns, Sizes
from openmeadow.store import settings
from openmeadow.store.connection import Store
from openmeadow.store.engagement import chance_models, columns_cache, event_hours
from openmeadow.store.engagement import columns as loader
from openmeadow.store.segments.facts_cache import Kept as FactsKept
from openmeadow.store.segments.permission_facts import StoreFacts

if TYPE_CHECKING:
    from openmeadow.services.models import ScoreModel

STANDS = 60  # seconds that scores of people without news are good for
MOST_CLAUSES, MOST_WRITTEN = 500, 2_000  # of one rule that is worked out: different ones, and all as they stand
MOST_WORK, LEAST_CLAUSES = 200_000_000, 100  # different clauses times people that one rule may cost
MACHINES_FILE = "machines.json"


@dataclass(frozen=True)
class ScoreSummary:
    """Subscribers by band as of a moment; ``inactive`` by why, ``cadence`` in days, ``seconds`` it took."""

    subscribers: int
    bands: dict[str, int]
    inactive: dict[str, int]
    cadence: dict[str, float]
    model: ScoreModel
    as_of: int
    seconds: float


class Views:
    """The views of one open store, and what is kept between them. ``now`` tells the moment; ``guard`` is held while
    something is worked out that others wait for."""

    def __init__(
        self, store: Store, now: Callable[[], int], guard: AbstractContextManager[object], sizes: Sizes | None
    ) -> None:
        self.store, self.folder, self.now = store, store.folder, now
        columns_cache.sweep(self.folder)
        self._facts = FactsKept(self.folder / "columns.facts")
        self._pace: tuple[tuple[int, int, int, ChanceModels], Cadence] | None = None  # with what it is of
        self._models: tuple[object, ChanceModels] = (None, ChanceModels())
        self._machines: tuple[float, Machines] = (-1.0, Machines((), ()))
        self.columns = KeptColumns(self.store, self.machines, guard, sizes or USUAL)
        self._guard = guard

    def machines(self) -> Machines:
        """The shipped list of machines with the workspace's own beside it, read again when that changes."""
        own = self.folder / MACHINES_FILE
        stamp = own.stat().st_mtime if own.exists() else 0.0
        if self._machines[0] != stamp:
            shipped = (resources.files("openmeadow.core.data") / "machines.json").read_text()
            self._machines = (stamp, Machines.read(shipped, *([own.read_text()] if stamp else [])))
            self.columns.forget()
        return self._machines[1]

    def models(self) -> ChanceModels:
        """The models of the chance to engage that stand; the defaults before the first fit."""
        db = self.store.read()
        mark = chance_models.last_fit(db)
        if self._models[0] != mark:
            self._models = (mark, chance_models.models(db))
        return self._models[1]

    def model_summary(self) -> ScoreModel:
        """The model of reading that stands."""
        models = self.models()
        m = models.reading
        from openmeadow.services.models import ScoreModel  # heavy, and few commands say it

        return ScoreModel(
            alpha=m.alpha,
            beta=m.beta,
            gamma=m.gamma,
            delta=m.delta,
            people=m.people,
            messages=m.messages,
            own=m.is_own,
            intercept=m.adjustment.intercept,
            slope=m.adjustment.slope,
            fitted_at=models.fitted_at,
        )

    def basis(self, columns: Columns, now: int, pace: Cadence | None = None) -> Basis:
        """What scores are worked out with, as the settings have it; ``pace`` where the cadence is known already."""
        s = settings.settings(self.store.read())
        models = self.models()
        pace = pace or cadence(columns, now, int(s["inactive_after_days"]), models.settled)
        return Basis(pace, models, Limits(float(s["strong_from"]), float(s["steady_from"])))

    def _scores(self, kept: Kept, now: int) -> Scores:
        """Worked out once and then brought forward by what has come since."""
        with self._guard:
            old, window, people = (kept.scores, self._window(), len(kept.columns.people))
            pace = None
            if old is not None and window == kept.window and old.basis.models == self.models():
                # a median over a year: it stands for the day, unless much is new
                stands = old.now // DAY == now // DAY and len(kept.touched) * 100 <= people
                pace = old.cadence if stands else None
            basis = self.basis(kept.columns, now, pace or self._paced(kept.columns, now))
            if old is None or people < len(old.n):
                fresh = score(kept.columns, now, basis)
            elif len(kept.touched) or people != len(old.n) or basis != old.basis or not 0 <= now - old.now < STANDS:
                fresh = bring_forward(old, kept.columns, kept.touched, now, basis)
            else:
                return self._with_late_scores(kept, old, now)
            kept.window = window
            kept.scores, kept.touched = fresh, np.zeros(0, np.int64)
            return self._with_late_scores(kept, fresh, now)

    def _with_late_scores(self, kept: Kept, scores: Scores, now: int) -> Scores:
        """Everybody's scores with those of the people that events have touched since."""
        if kept.late is None:
            return scores
        if kept.patched is None or kept.patched[0] != kept.seen or kept.patched[1] is not scores:
            part = score(kept.late.columns, now, scores.basis)
            kept.patched = (kept.seen, scores, scores.with_people(kept.late.at, part, len(scores.n)))
        return kept.patched[2]

    def _scored_then(self, columns: Columns, now: int) -> Scores:
        return score(columns, now, self.basis(columns, now))

    def _troubles(self, kept: Kept) -> Troubles:
        with self._guard:
            if kept.troubles is None or kept.troubles[0] < kept.seen:
                seen, old = kept.troubles or (0, None)
                found = loader.troubles(self.store.read(), kept.everybody.people, old, seen, kept.seen)
                kept.troubles = (kept.seen, found)
            return kept.troubles[1]

    def troubles(self) -> Troubles:
        """Bounces, complaints and unsubscribes known now."""
        with self._guard:
            return self._troubles(self.columns.current())

    def view(self, as_of: int | None = None, *, nearly: bool = False) -> View:
        """What is true at a moment. A past one is worked out from the events known by then alone; ``nearly`` takes
        the present columns instead, which differ only where a later pass changed what became of an earlier one."""
        now = self.now()
        as_of = None if as_of is None else min(as_of, int(FAR) - 1)  # what lies further ahead has not been heard of
        kept = self.columns.current() if as_of is None or as_of == now or nearly else None
        with self._guard:
            db = self.store.read()
            if kept is not None and kept.late is not None and as_of is not None and as_of != now:
                kept = self.columns.whole(kept)
            everybody = kept.everybody if kept else loader.all_people_of(db)
            scored: Callable[[], Scores]
            if as_of is None or as_of == now:
                assert kept is not None
                columns, streams, scored = kept.columns, kept.streams, partial(self._scores, kept, now)
            else:
                now = as_of
                people = loader.people_as_of(db, everybody.people, now)
                if kept:
                    columns, streams = replace(kept.columns, people=people), kept.streams
                else:
                    columns, _ = loader.load(db, people, self.machines(), until=now)
                    streams = Streams(columns)
                scored = partial(self._scored_then, columns, now)
            facts = StoreFacts(
                db,
                everybody.people.id,
                everybody.erased,
                everybody.provider,
                everybody.people.source,
                now,
                kept=self._facts if as_of is None else None,
                told=partial(self._troubles, kept) if kept else partial(loader.troubles, db, everybody.people),
            )
            alive = ~everybody.erased & (columns.people.joined_at <= now)
            if kept is None or kept.late is None:
                return View(columns, streams, scored, facts, alive, now)
            return self._late_view(kept, kept.late, scored, facts, alive, now)

    def _late_view(
        self, kept: Kept, late: Late, scored: Callable[[], Scores], facts: StoreFacts, alive: Mask, now: int
    ) -> LateView:
        base = View(kept.columns, kept.streams, scored, facts, alive, now)
        few = cast(StoreFacts, FactsOf(facts, late.at))

        def scored_few() -> Scores:
            return score(late.columns, now, scored().basis)

        small = View(late.columns, late.streams, scored_few, few, alive[late.at], now)
        columns = MergedColumns(kept.columns.people, lambda: self.columns.whole(kept).columns)
        return LateView(columns, Streams(columns), scored, facts, alive, now, base=base, small=small, at=late.at)

    def view_of(self, ids: I64, pace: Cadence | None = None) -> View:
        """What is true now of a few people (ascending ids), at a cost that follows them and not the workspace; ``pace``
        is the workspace's cadence, for rules that ask for a score."""
        few, columns = loader.some_of(self.store.read(), ids, self.machines())
        facts = self._facts_of(few)
        alive = ~few.erased & (columns.people.joined_at <= facts.now)
        scored = partial(score, columns, facts.now, self.basis(columns, facts.now, pace))
        return View(columns, Streams(columns), scored, facts, alive, facts.now)

    def pace(self) -> Cadence:
        """The workspace's cadence: that of everybody's scores where they are kept, else that of the columns; without any,
        what was worked out today, as it is a median over a year."""
        now, kept = self.now(), self.columns.kept
        if kept is None:
            if self._pace is not None and self._pace[0][0] == now // DAY:
                return self._pace[1]
            kept = self.columns.current()
        scores = kept.scores
        if scores is not None and scores.now // DAY == now // DAY and kept.window == self._window():
            return scores.cadence
        return self._paced(kept.columns, now)

    def _window(self) -> int:
        """The days after which somebody is inactive, as it is set; 0 where it is found."""
        return int(settings.setting(self.store.read(), "inactive_after_days"))

    def _paced(self, columns: Columns, now: int) -> Cadence:
        """The cadence of some columns, kept for them."""
        mark = (now // DAY, len(columns.rows), self._window(), self.models())
        with self._guard:
            if self._pace is None or self._pace[0] != mark:
                self._pace = (mark, cadence(columns, now, mark[2], mark[3].settled))
            return self._pace[1]

    def facts_of(self, ids: I64) -> StoreFacts:
        """What the eligibility check asks of a few people (ascending ids); their history is not read."""
        return self._facts_of(loader.few_of(self.store.read(), ids))

    def _facts_of(self, few: loader.AllPeople) -> StoreFacts:
        db = self.store.read()
        told = partial(loader.troubles, db, few.people, few=True)
        return StoreFacts(
            db, few.people.id, few.erased, few.provider, few.people.source, self.now(), told=told, some=True
        )

    def band_counts(self, view: View) -> dict[str, int]:
        """How many subscribers are in each band."""
        counts = np.bincount(view.scores.band[view.alive], minlength=len(BANDS))
        return dict(zip(BANDS, counts.tolist(), strict=True))

    def score_summary(self, as_of: int | None = None, full: bool = False) -> ScoreSummary:
        """The bands as of a moment, by default now; ``full`` forgets everything kept and reads all events anew."""
        begun = time.perf_counter()
        if full:
            with self._guard:
                columns_cache.remove(self.folder)
                with self.store.atomic() as db:
                    event_hours.rebuild(db)
                    event_hours.forget_points(db)
                self._facts.forget()
                self.columns.forget()
        view = self.view(as_of)
        inactive = view.alive & (view.scores.band == INACTIVE)
        never = int((inactive & (view.scores.engaged == 0) & (view.scores.last_engaged < 0)).sum())
        if as_of is None:
            with self.store.atomic() as db:
                settings.set_setting(db, "scored_at", view.now)
        return ScoreSummary(
            subscribers=int(view.alive.sum()),
            bands=self.band_counts(view),
            inactive={"never engaged": never, "stopped engaging": int(inactive.sum()) - never},
            cadence={
                "gap_days": view.scores.cadence.gap,
                "window_days": view.scores.cadence.window,
                "settled_days": round(view.scores.cadence.settled / DAY, 2),
            },
            model=self.model_summary(),
            as_of=view.now,
            seconds=round(time.perf_counter() - begun, 3),
        )

    def checked_rule(self, text: str, view: View, own_name: str | None = None) -> Rule:
        """A rule whose every name exists; a mistake points at its place."""
        rule = parse(text)
        assert isinstance(view.facts, StoreFacts)
        try:
            clauses = len(view.facts.reach(rule, (own_name,) if own_name else ()))
        except Missing:
            clauses = 0  # said below, with its place
        most = max(LEAST_CLAUSES, min(MOST_CLAUSES, MOST_WORK // max(1, len(view.alive))))
        if clauses > most or sum(1 for _ in walk(rule)) > MOST_WRITTEN:
            raise RuleMistake(
                f"This rule has {clauses:,} conditions, including those of the segments it names. The limit is "
                f"{most:,} for {len(view.alive):,} subscribers.",
                0,
            )
        for part in walk(rule):
            if type(part).__name__ in ("AllOf", "AnyOf", "Negated"):
                continue
            try:
                view.mask(part)
            except Missing as e:
                raise RuleMistake(f"At character {part.place + 1}: {e}", part.place) from e
        return rule

    def count(
        self, text: str, as_of: int | None = None, with_breakdown: bool = False, own_name: str | None = None
    ) -> tuple[int, View, Rule, list[BreakdownRow]]:
        """How many a rule holds for, with the view and the rule, and what each condition adds where wished. RuleMistake where
        it cannot be read."""
        view = self.view(as_of)
        rule = self.checked_rule(text, view, own_name)
        return int(view.mask(rule).sum()), view, rule, breakdown(rule, view) if with_breakdown else []

    def index_of(self, view: View, subscriber: SubscriberId) -> int:
        """The row of a subscriber in a view; Missing where there is none."""
        at = int(np.searchsorted(view.columns.people.id, subscriber))
        if at >= len(view.columns.people) or view.columns.people.id[at] != subscriber:
            raise Missing("This subscriber does not exist.")
        return at
