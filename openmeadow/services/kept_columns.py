"""The columns of a workspace, kept between views and brought up to date: at once where that is quick, beside the view that
goes on serving where it is not. Columns of many deliveries are made by a process of their own, which writes them where
this one maps them."""

from __future__ import annotations

import contextlib
import sqlite3
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import AbstractContextManager, contextmanager
from contextvars import ContextVar
from dataclasses import dataclass, replace
from dataclasses import field as dataclass_field

import numpy as np

from openmeadow.core.arrays import I64
from openmeadow.core.columns import Columns, Troubles
from openmeadow.core.engagement.bot_signatures import Machines
from openmeadow.core.engagement.score import Scores
from openmeadow.core.rules.activity_index import Streams
from openmeadow.core.rules.late_view import Late, later, with_people
from openmeadow.store import undo_log
from openmeadow.store.connection import Store
from openmeadow.store.engagement import columns as loader
from openmeadow.store.engagement import columns_cache, events

MOST_WAITED = 120.0  # seconds for news to stop coming
ATTEMPTS = 3  # to have the columns made in a process of its own while news goes on coming

_MAY_LAG: ContextVar[bool] = ContextVar("may_lag", default=False)


@contextmanager
def may_lag() -> Iterator[None]:
    """Views asked for within may be of some time ago, while a lot that is new is being read."""
    token = _MAY_LAG.set(True)
    try:
        yield
    finally:
        _MAY_LAG.reset(token)


@dataclass(frozen=True)
class Sizes:
    """From which size on what is done how: ``late_from`` deliveries on, news is kept beside the columns and not merged at
    once, of at most ``most_late`` people; from ``apart_from`` events on a process of its own merges them or, where more
    than ``many_events`` are new, makes them anew; more than ``worth_mirroring`` new events are written to the mirror."""

    late_from: int = 200_000
    most_late: int = 5_000
    apart_from: int = 2_000_000
    many_events: int = 200_000
    worth_mirroring: int = 20_000
    calm: float = 2.0  # seconds without news


USUAL = Sizes()


@dataclass
class Kept:
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


class KeptColumns:
    """``current()`` are the columns as of now."""

    def __init__(
        self, store: Store, machines: Callable[[], Machines], guard: AbstractContextManager[object], sizes: Sizes = USUAL
    ) -> None:
        self.store, self.sizes, self.guard = store, sizes, guard
        self.kept: Kept | None = None
        self._machines = machines
        self._catching_up: Future[Kept] | None = None
        self._thread = ThreadPoolExecutor(1, "columns")
        self._builder: subprocess.Popen[bytes] | None = None
        self._is_closed = False

    @property
    def is_behind(self) -> bool:
        """Whether what is new is still being read."""
        return self._catching_up is not None

    def forget(self) -> None:
        """Read everything anew at the next view."""
        with self.guard:
            self.kept = None

    def close(self) -> None:
        """End what goes on beside the views."""
        self._is_closed = True
        if self._builder is not None:
            self._builder.kill()
        self._thread.shutdown(wait=False, cancel_futures=True)

    def current(self) -> Kept:
        """The columns with every event of now, or within ``may_lag`` those of some time ago while more is read."""
        wanted = events.highest(self.store.read())
        while True:
            with self.guard:
                if self._catching_up is not None and self._catching_up.done():
                    done, self._catching_up = self._catching_up, None
                    self.kept = done.result()
                if self._catching_up is None:
                    if (kept := self._at_once(wanted)) is not None:
                        self.kept = kept
                        return kept
                    self._catching_up = self._thread.submit(self._caught_up, self.kept)
                waits = self._catching_up
                if _MAY_LAG.get() and (lagging := self._lagging()) is not None:
                    return lagging
            with contextlib.suppress(Exception):  # said where the result is taken
                waits.result()

    def _at_once(self, wanted: int) -> Kept | None:
        """The columns of now, or with all events up to ``wanted``; None where that takes long."""
        db, machines, kept = self.store.read(), self._machines(), self.kept
        version = undo_log.events_version(db)
        if kept is None or kept.events_version != version:
            return self._opened(db, machines, version, quickly=self._is_large(db))
        everybody = loader.all_people_of(db, kept.everybody)
        highest = events.highest(db)
        if everybody is kept.everybody and highest == kept.seen:
            return kept
        if len(kept.columns.rows) < self.sizes.late_from:
            return self.merged(kept, db, everybody)
        if (
            highest - kept.seen <= self.sizes.many_events
            and (late := self._with_late(kept, db, machines, everybody)) is not None
        ):
            return late
        return self._lagging() if kept.seen >= wanted else None

    def _is_large(self, db: sqlite3.Connection) -> bool:
        return events.highest(db) >= self.sizes.apart_from

    def _caught_up(self, kept: Kept | None) -> Kept:
        """What takes long: the news of many people spliced in, or everything made anew. Where there is a lot, in a process
        of its own, so that this one holds no second copy; and once what goes on coming has come."""
        db, machines = self.store.read(), self._machines()
        version = undo_log.events_version(db)
        if self._is_large(db):
            for _ in range(ATTEMPTS):
                if kept is not None:
                    self._wait_until_calm(db)
                self._builder = subprocess.Popen(
                    [sys.executable, "-m", "openmeadow.services.column_builder", self.store.folder]
                )
                self._builder.wait()
                if self._is_closed:
                    raise RuntimeError("the workspace was closed meanwhile")
                if (opened := self._opened(db, machines, undo_log.events_version(db), quickly=True)) is not None:
                    return opened
        elif (
            kept is not None
            and kept.events_version == version
            and events.highest(db) - kept.base <= self.sizes.many_events
        ):
            return self.merged(kept, db, loader.all_people_of(db, kept.everybody))
        opened = self._opened(db, machines, undo_log.events_version(db))
        assert opened is not None
        return opened

    def _wait_until_calm(self, db: sqlite3.Connection) -> None:
        """Until no event has come for a while: an import that goes on would have everything made twice."""
        end, before = time.monotonic() + MOST_WAITED, -1
        while (now := events.highest(db)) != before or self.store.queue.is_importing():
            if time.monotonic() >= end or self._is_closed:
                break
            before = now
            time.sleep(self.sizes.calm)

    def _lagging(self) -> Kept | None:
        """The columns of some time ago with the people of now; None where there are none that still stand."""
        kept = self.kept
        if kept is None:
            return None
        everybody = loader.all_people_of(self.store.read(), kept.everybody)
        if everybody is kept.everybody:
            return kept
        before, now = kept.columns.people.id, everybody.people.id
        if len(now) < len(before) or (now[: len(before)] != before).any():
            return None
        columns = with_people(kept.columns, everybody.people)
        self.kept = replace(kept, columns=columns, streams=Streams(columns, kept.streams.made), everybody=everybody)
        return self.kept

    def _with_late(
        self, kept: Kept, db: sqlite3.Connection, machines: Machines, everybody: loader.AllPeople
    ) -> Kept | None:
        """The same columns with the people that events touched since beside them; None where they are better merged."""
        before, now = kept.columns.people.id, everybody.people.id
        if (
            len(kept.columns.rows) < self.sizes.late_from
            or len(now) < len(before)
            or (now[: len(before)] != before).any()
        ):
            return None
        touched, seen = loader.touched_since(db, everybody.people, kept.seen)
        so_far = 0 if kept.late is None else len(kept.late.at)
        if so_far + len(touched) > self.sizes.most_late:
            return None
        late = kept.late
        if len(touched):
            fresh = loader.few_columns(db, everybody.people, touched, machines)
            late = later(late, fresh, touched, seen)
        columns = with_people(kept.columns, everybody.people)
        return replace(
            kept, columns=columns, streams=Streams(columns, kept.streams.made), seen=seen, everybody=everybody, late=late
        )

    def merged(self, kept: Kept, db: sqlite3.Connection, everybody: loader.AllPeople) -> Kept:
        """Columns with everything that came since they were made."""
        machines, late = self._machines(), kept.late
        columns, seen, touched = loader.refresh(db, everybody.people, machines, kept.columns, kept.base, late)
        before, now = kept.columns.people.id, columns.people.id
        stands = len(now) >= len(before) and bool((now[: len(before)] == before).all())  # row numbers still hold
        streams = Streams(columns)
        if stands and len(touched) < len(now):
            streams = Streams(columns, kept.streams.made)
            streams = streams.spliced(columns, touched) if len(touched) else streams
        with self.guard:  # scores and what they lack are of one moment
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

    def whole(self, given: Kept) -> Kept:
        """What ``given`` knows in one piece; kept where nothing has come since."""
        with self.guard:
            if given.late is None:
                return given
            if self.kept is not None and self.kept.late is None and self.kept.seen >= given.seen:
                return self.kept
            merged = self.merged(given, self.store.read(), given.everybody)
            if self.kept is not None and self.kept.seen <= merged.seen:
                self.kept = merged
            return merged

    def _opened(self, db: sqlite3.Connection, machines: Machines, version: int, *, quickly: bool = False) -> Kept | None:
        """The mirror brought up to date, or columns built anew (and mirrored when that took reading a lot). None where
        it should be quick and would not be."""
        folder = self.store.folder
        found = columns_cache.load(folder, db, machines.mark)
        if quickly and (found is None or events.highest(db) - found.seen > self.sizes.many_events):
            return None
        everybody = loader.all_people_of(db, found.everybody if found else None)
        if found is None:
            columns, seen = loader.load(db, everybody.people, machines, beside=self.store.read)
            kept = Kept(columns, Streams(columns), seen, seen, everybody, version)
        else:
            known = (found.seen, found.troubles)
            kept = Kept(found.columns, found.streams, found.seen, found.seen, everybody, version, troubles=known)
            if everybody is not found.everybody or events.highest(db) != found.seen:
                kept = self._with_late(kept, db, machines, everybody) or self.merged(kept, db, everybody)
        if kept.late is None and (
            found is None or kept.seen - found.seen > self.sizes.worth_mirroring or everybody is not found.everybody
        ):
            with contextlib.suppress(OSError):
                troubles = loader.troubles(db, everybody.people, upto=kept.seen)
                kept.troubles = (kept.seen, troubles)
                mirror = columns_cache.Mirror(kept.columns, kept.streams, troubles, kept.seen, everybody)
                columns_cache.save(folder, db, mirror, machines.mark)
        return kept
