"""The workspace: one open workspace with its clock and its columns, kept up to date as events come in."""

from __future__ import annotations

import contextlib
import sqlite3
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from dataclasses import field as dataclass_field
from functools import partial
from importlib import resources
from pathlib import Path
from typing import TypeVar, cast
from zoneinfo import ZoneInfo

import numpy as np

from openmeadow.core.arrays import I64, Mask
from openmeadow.core.columns import Columns, Troubles
from openmeadow.core.delivery.smtp_refusals import RefusalRun
from openmeadow.core.engagement.bot_signatures import Machines
from openmeadow.core.engagement.score import BANDS, INACTIVE, Cadence, Scores, bring_forward, cadence, score
from openmeadow.core.errors import Missing, RuleMistake
from openmeadow.core.ids import SubscriberId
from openmeadow.core.moments import DAY
from openmeadow.core.rules.activity_index import Streams
from openmeadow.core.rules.breakdown import BreakdownRow, breakdown
from openmeadow.core.rules.conditions import Rule, View, walk
from openmeadow.core.rules.late_view import FactsOf, Late, LateView, MergedColumns, later, patched, with_people
from openmeadow.core.rules.parser import parse
from openmeadow.core.settings import Value
from openmeadow.services.clock import Clock, clock_of
from openmeadow.store import settings, undo_log
from openmeadow.store.connection import Store
from openmeadow.store.engagement import columns as loader
from openmeadow.store.engagement import columns_cache, event_hours, events
from openmeadow.store.segments.facts_cache import Kept as FactsKept
from openmeadow.store.segments.permission_facts import StoreFacts

WORTH_MIRRORING = 20_000
LATE_FROM, MOST_LATE = 200_000, 5_000  # deliveries, people
STANDS = 60  # seconds that scores of people without news are good for
MOST_CLAUSES, MOST_WRITTEN = 500, 2_000  # of one rule that is worked out: different ones, and all as they stand
MOST_WORK, LEAST_CLAUSES = 200_000_000, 100  # different clauses times people that one rule may cost
MACHINES_FILE = "machines.json"

T = TypeVar("T")


@dataclass
class _Kept:
    """What is kept between views. ``scores`` may be of an earlier moment; ``touched`` are the rows of people with
    events since then. ``columns`` hold what was known at event ``base``; of the people touched from there to ``seen``
    ``late`` knows all."""

    columns: Columns
    streams: Streams
    seen: int
    base: int
    everybody: loader.AllPeople
    events_version: int
    scores: Scores | None = None
    window: int = 0  # the setting that they were worked out with
    touched: I64 = dataclass_field(default_factory=lambda: np.zeros(0, np.int64))
    troubles: tuple[int, Troubles] | None = None
    late: Late | None = None
    patched: tuple[int, Scores, Scores] | None = None  # at which event, out of which, the scores with the late people's


@dataclass(frozen=True)
class ScoreSummary:
    """Subscribers by band as of a moment; ``inactive`` by why, ``cadence`` in days, ``seconds`` it took."""

    subscribers: int
    bands: dict[str, int]
    inactive: dict[str, int]
    cadence: dict[str, float]
    as_of: int
    seconds: float


class Workspace:
    """Opens a data folder; hands out views. ``view()`` is now, ``view(as_of=t)`` a past moment as it was then."""

    def __init__(self, folder: Path, clock: Clock | None = None, late_from: int = LATE_FROM) -> None:
        """``late_from`` are the deliveries from which on news is kept beside the columns and not merged at once."""
        self.store = Store(folder)
        self.late_from = late_from
        self.folder = folder
        columns_cache.sweep(folder)
        self.clock = clock or clock_of(folder)
        self.wall = Clock()  # the machine's own, for accounts, also where the workspace has a clock of its own
        self._kept: _Kept | None = None
        self._facts = FactsKept(folder / "columns.facts")
        self._guard = threading.RLock()
        self._pace: tuple[int, Cadence] | None = None
        self.providers_seen: object = None  # by the last look for providers
        self.refusal_run = RefusalRun()  # of the relay, over all plans
        self._machines: tuple[float, Machines] = (-1.0, Machines((), ()))
        self._parts: dict[object, object] = {}

    def now(self) -> int:
        return self.clock.now()

    def part(self, kind: Callable[[Workspace], T]) -> T:
        """Something that lives as long as the workspace is open, made of it when it is first asked for."""
        with self._guard:
            if kind not in self._parts:
                self._parts[kind] = kind(self)
            return cast(T, self._parts[kind])

    def close(self) -> None:
        self.store.close()

    def setting(self, name: str) -> Value:
        return settings.setting(self.store.read(), name)

    @property
    def zone(self) -> ZoneInfo:
        """The workspace's own time zone."""
        return ZoneInfo(str(self.setting("time_zone")))

    def machines(self) -> Machines:
        """The shipped list of machines with the workspace's own beside it, read again when that changes."""
        own = self.folder / MACHINES_FILE
        stamp = own.stat().st_mtime if own.exists() else 0.0
        if self._machines[0] != stamp:
            shipped = (resources.files("openmeadow.core.data") / "machines.json").read_text()
            self._machines = (stamp, Machines.read(shipped, *([own.read_text()] if stamp else [])))
            self._kept = None
        return self._machines[1]

    def _refresh(self) -> _Kept:
        db, machines = self.store.read(), self.machines()
        kept, version = self._kept, undo_log.events_version(db)
        if kept is None or kept.events_version != version:
            kept = self._kept = self._opened(db, machines, version)
            return kept
        everybody = loader.all_people_of(db, kept.everybody)
        if everybody is not kept.everybody or events.highest(db) != kept.seen:
            kept = self._kept = self._with_late(kept, db, machines, everybody) or self._merged(
                kept, db, machines, everybody
            )
        return kept

    def _with_late(
        self, kept: _Kept, db: sqlite3.Connection, machines: Machines, everybody: loader.AllPeople
    ) -> _Kept | None:
        """The same columns with the people that events touched since beside them; None where they are better merged."""
        before, now = kept.columns.people.id, everybody.people.id
        if len(kept.columns.rows) < self.late_from or len(now) < len(before) or (now[: len(before)] != before).any():
            return None
        touched, seen = loader.touched_since(db, everybody.people, kept.seen)
        so_far = 0 if kept.late is None else len(kept.late.at)
        if so_far + len(touched) > MOST_LATE:
            return None
        late = kept.late
        if len(touched):
            fresh = loader.few_columns(db, everybody.people, touched, machines)
            late = later(late, fresh, touched, seen)
        columns = with_people(kept.columns, everybody.people)
        return replace(
            kept, columns=columns, streams=Streams(columns, kept.streams.made), seen=seen, everybody=everybody, late=late
        )

    def _merged(self, kept: _Kept, db: sqlite3.Connection, machines: Machines, everybody: loader.AllPeople) -> _Kept:
        """Columns with everything that came since they were made."""
        columns, seen, touched = loader.refresh(db, everybody.people, machines, kept.columns, kept.base)
        before, now = kept.columns.people.id, columns.people.id
        stands = len(now) >= len(before) and bool((now[: len(before)] == before).all())  # row numbers still hold
        streams = Streams(columns)
        if stands and len(touched) < len(now):
            streams = Streams(columns, kept.streams.made)
            streams = streams.spliced(columns, touched) if len(touched) else streams
        return replace(
            kept,
            columns=columns,
            seen=seen,
            base=seen,
            everybody=everybody,
            streams=streams,
            scores=kept.scores if stands else None,
            touched=np.union1d(kept.touched, touched),
            troubles=kept.troubles if stands else None,
            late=None,
            patched=None,
        )

    def _merge(self, given: _Kept) -> _Kept:
        """What ``given`` knows in one piece; kept where nothing has come since."""
        with self._guard:
            if given.late is None:
                return given
            if self._kept is not None and self._kept.late is None and self._kept.seen >= given.seen:
                return self._kept
            merged = self._merged(given, self.store.read(), self.machines(), given.everybody)
            if self._kept is not None and self._kept.seen <= merged.seen:
                self._kept = merged
            return merged

    def _opened(self, db: sqlite3.Connection, machines: Machines, version: int) -> _Kept:
        """The mirror brought up to date, or columns built anew (and mirrored when that took reading a lot)."""
        found = columns_cache.load(self.folder, db, machines.mark)
        everybody = loader.all_people_of(db, found.everybody if found else None)
        if found is None:
            columns, seen = loader.load(db, everybody.people, machines)
            kept = _Kept(columns, Streams(columns), seen, seen, everybody, version)
        else:
            kept = _Kept(found.columns, found.streams, found.seen, found.seen, everybody, version)
            if everybody is not found.everybody or events.highest(db) != found.seen:
                kept = self._with_late(kept, db, machines, everybody) or self._merged(kept, db, machines, everybody)
        if kept.late is None and (
            found is None or kept.seen - found.seen > WORTH_MIRRORING or everybody is not found.everybody
        ):
            with contextlib.suppress(OSError):
                columns_cache.save(self.folder, db, kept.columns, kept.streams, everybody, kept.seen, machines.mark)
        return kept

    def _scores(self, kept: _Kept, now: int) -> Scores:
        """Worked out once and then brought forward by what has come since."""
        with self._guard:
            old, window = kept.scores, int(self.setting("inactive_after_days"))
            if old is None or len(kept.columns.people) < len(old.E) or window != kept.window:
                fresh = self._scored_then(kept.columns, now)
            elif len(kept.touched) or len(kept.columns.people) != len(old.E) or not 0 <= now - old.now < STANDS:
                fresh = bring_forward(old, kept.columns, kept.touched, now, window)
            else:
                return self._with_late_scores(kept, old, now)
            kept.window = window
            kept.scores, kept.touched = fresh, np.zeros(0, np.int64)
            return self._with_late_scores(kept, fresh, now)

    def _with_late_scores(self, kept: _Kept, scores: Scores, now: int) -> Scores:
        """Everybody's scores with those of the people that events have touched since."""
        if kept.late is None:
            return scores
        if kept.patched is None or kept.patched[0] != kept.seen or kept.patched[1] is not scores:
            part = score(kept.late.columns, now, scores.cadence)
            kept.patched = (kept.seen, scores, patched(scores, kept.late.at, part))
        return kept.patched[2]

    def _scored_then(self, columns: Columns, now: int) -> Scores:
        return score(columns, now, cadence(columns, now, int(self.setting("inactive_after_days"))))

    def _troubles(self, kept: _Kept) -> Troubles:
        with self._guard:
            if kept.troubles is None or kept.troubles[0] < kept.seen:
                seen, old = kept.troubles or (0, None)
                found = loader.troubles(self.store.read(), kept.everybody.people, old, seen, kept.seen)
                kept.troubles = (kept.seen, found)
            return kept.troubles[1]

    def troubles(self) -> Troubles:
        """Bounces, complaints and unsubscribes known now."""
        with self._guard:
            return self._troubles(self._refresh())

    def view(self, as_of: int | None = None, *, nearly: bool = False) -> View:
        """What is true at a moment. A past one is worked out from the events known by then alone; ``nearly`` takes
        the present columns instead, which differ only where a later pass changed what became of an earlier one."""
        with self._guard:
            now = self.now()
            db = self.store.read()
            kept = self._refresh() if as_of is None or as_of == now or nearly else None
            if kept is not None and kept.late is not None and as_of is not None and as_of != now:
                kept = self._merge(kept)
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
                everybody.source,
                now,
                kept=self._facts if as_of is None else None,
                told=partial(self._troubles, kept) if kept else partial(loader.troubles, db, everybody.people),
            )
            alive = ~everybody.erased & (columns.people.joined_at <= now)
            if kept is None or kept.late is None:
                return View(columns, streams, scored, facts, alive, now)
            return self._late_view(kept, kept.late, scored, facts, alive, now)

    def _late_view(
        self, kept: _Kept, late: Late, scored: Callable[[], Scores], facts: StoreFacts, alive: Mask, now: int
    ) -> LateView:
        base = View(kept.columns, kept.streams, scored, facts, alive, now)
        few = cast(StoreFacts, FactsOf(facts, late.at))

        def scored_few() -> Scores:
            return score(late.columns, now, scored().cadence)

        small = View(late.columns, late.streams, scored_few, few, alive[late.at], now)
        columns = MergedColumns(kept.columns.people, lambda: self._merge(kept).columns)
        return LateView(columns, Streams(columns), scored, facts, alive, now, base=base, small=small, at=late.at)

    def view_of(self, ids: I64, pace: Cadence | None = None) -> View:
        """What is true now of a few people (ascending ids), at a cost that follows them and not the workspace; ``pace``
        is the workspace's cadence, for rules that ask for a score."""
        few, columns = loader.some_of(self.store.read(), ids, self.machines())
        facts = self._facts_of(few)
        alive = ~few.erased & (columns.people.joined_at <= facts.now)
        return View(columns, Streams(columns), partial(score, columns, facts.now, pace), facts, alive, facts.now)

    def pace(self) -> Cadence:
        """The workspace's cadence: that of everybody's scores where they are kept, else worked out once a day, as it is a
        median over a year."""
        if self._kept is not None and self._kept.scores is not None:
            return self._kept.scores.cadence
        day = self.now() // DAY
        if self._pace is None or self._pace[0] != day:
            self._pace = (day, self.view().scores.cadence)
        return self._pace[1]

    def facts_of(self, ids: I64) -> StoreFacts:
        """What the eligibility check asks of a few people (ascending ids); their history is not read."""
        return self._facts_of(loader.few_of(self.store.read(), ids))

    def _facts_of(self, few: loader.AllPeople) -> StoreFacts:
        db = self.store.read()
        told = partial(loader.troubles, db, few.people, few=True)
        return StoreFacts(db, few.people.id, few.erased, few.provider, few.source, self.now(), told=told, some=True)

    def band_counts(self, view: View) -> dict[str, int]:
        counts = np.bincount(view.scores.band[view.alive], minlength=len(BANDS))
        return dict(zip(BANDS, counts.tolist(), strict=True))

    def score_summary(self, as_of: int | None = None, full: bool = False) -> ScoreSummary:
        begun = time.perf_counter()
        if full:
            with self._guard:
                columns_cache.remove(self.folder)
                with self.store.atomic() as db:
                    event_hours.rebuild(db)
                    event_hours.forget_points(db)
                self._facts.forget()
                self._kept = None
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
                "half_life_days": view.scores.cadence.half_life,
                "window_days": view.scores.cadence.window,
            },
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
        view = self.view(as_of)
        rule = self.checked_rule(text, view, own_name)
        return int(view.mask(rule).sum()), view, rule, breakdown(rule, view) if with_breakdown else []

    def index_of(self, view: View, subscriber: SubscriberId) -> int:
        at = int(np.searchsorted(view.columns.people.id, subscriber))
        if at >= len(view.columns.people) or view.columns.people.id[at] != subscriber:
            raise Missing("This subscriber does not exist.")
        return at
