"""Everybody's score, 100 times the chance that they engage with the next message, and their band."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, fields, replace
from functools import cached_property, partial
from typing import Any

import numpy as np

from openmeadow.core.arrays import F64, FAR, I8, I32, I64, NEVER, Array, Mask
from openmeadow.core.columns import Columns
from openmeadow.core.engagement.bands import Cadence, Limits, Standing, bands, cadence
from openmeadow.core.engagement.bot_detection import MACHINE
from openmeadow.core.engagement.chance_models import ChanceModels
from openmeadow.core.engagement.counted import Counts, counts, engaged_by_itself, hidden, marks
from openmeadow.core.engagement.subset import runs, subset
from openmeadow.core.moments import DAY

CHUNK = 1 << 17
THREADS = 2
DEFAULT = ChanceModels()
USUAL_LIMITS = Limits()


@dataclass(frozen=True)
class Basis:
    """What scores are worked out with."""

    cadence: Cadence
    models: ChanceModels = DEFAULT
    limits: Limits = USUAL_LIMITS


@dataclass(frozen=True)
class Scores:
    """One entry a subscriber, as of ``now``. ``x``, ``t`` and ``n`` are what counts (``counted``), of clicks for those
    whose reading is hidden. ``last_engaged`` and ``first_delivered`` are NEVER and FAR where there is none; ``engaged``
    counts messages of all time, ``fresh_engaged`` those since they rejoined, ``ignored`` delivered messages first sent
    after the last engagement; ``*_in_window`` count messages first sent within the inactive window."""

    now: int
    basis: Basis
    x: I32
    t: I32
    n: I32
    active: F64
    chance: F64
    engaged: I32
    fresh_engaged: I32
    ignored: I32
    last_engaged: I64
    first_delivered: I64
    delivered_in_window: I32
    machine_in_window: I32
    blind_in_window: I32
    band: I8

    @property
    def cadence(self) -> Cadence:
        """The workspace's rhythm that they were worked out with."""
        return self.basis.cadence

    @cached_property
    def score(self) -> F64:
        """Everybody's score, 0 to 100."""
        return 100.0 * self.chance

    @property
    def hidden(self) -> Mask:
        """Whose reading cannot be seen: their chance is one to click."""
        return hidden(self.blind_in_window, self.delivered_in_window)

    def with_people(self, at: I64, part: Scores, count: int) -> Scores:
        """These of ``count`` people, with those of the people at the places ``at`` from ``part``."""
        merged: dict[str, Any] = {}
        for name in OF_PEOPLE:
            before = getattr(self, name)
            values = np.zeros(count, before.dtype)
            values[: len(before)] = before
            values[at] = getattr(part, name)
            merged[name] = values
        return replace(self, **merged)


OF_PEOPLE = tuple(f.name for f in fields(Scores) if f.name not in ("now", "basis"))


def last_engaged(columns: Columns, now: int) -> I64:
    """The moment of each person's last open, click, reply or booking by a person up to now; NEVER if none."""
    acts = columns.acts
    out = np.full(len(columns.people), NEVER, np.int64)
    good = acts.by != MACHINE
    if len(acts) and int(acts.at.max()) > now:
        good &= acts.at <= now
    out[acts.person[good]] = acts.at[good]  # sorted by time within a person: the last one stays
    return out


def _sum(values: Mask, start: I64) -> I32:
    """Counts over consecutive slices given by offsets; 0 for empty ones."""
    total = np.zeros(len(values) + 1, np.int32)
    np.cumsum(values, out=total[1:])
    return np.asarray(total[start[1:]] - total[start[:-1]])


def _fold(columns: Columns, last: I64, loose: I64, now: int, pace: Cadence, people: slice) -> dict[str, Array]:
    """The counts of one run of people, rows taken by slices so that they stay in the processor's cache."""
    start = columns.start[people.start : people.stop + 1]
    a, b = int(start[0]), int(start[-1])
    local, since = start - a, columns.people.since[people]
    owner = columns.rows.person[a:b] - people.start
    first = columns.rows.first_at[a:b]
    found = marks(columns, now, pace.settled, loose, a, b, since, owner)
    delivered, edge = found.delivered, now - pace.window * DAY
    barrier = np.maximum(last[people], since)
    in_window = delivered & (first > edge)
    earliest = np.full(people.stop - people.start, FAR, np.int64)
    full = local[1:] > local[:-1]
    if full.any():
        candidate = np.where(delivered & found.fresh, first, FAR)
        earliest[full] = np.minimum.reduceat(candidate, local[:-1][full])
    window, blind = _sum(in_window, local), _sum(in_window & found.blind, local)
    counted, unseen = counts(*found.reading(), local), hidden(blind, window)
    if unseen.any():
        of = unseen[owner]
        clicked, passed = found.clicking()
        counted = counted.but(unseen, counts(clicked & of, passed & of, local))
    return {
        "x": counted.x,
        "t": counted.t,
        "n": counted.n,
        "engaged": _sum(found.engaged, local),
        "fresh_engaged": _sum(found.engaged & found.fresh, local),
        "ignored": _sum(delivered & (first > barrier[owner]), local),
        "first_delivered": earliest,
        "delivered_in_window": window,
        "machine_in_window": _sum(in_window & found.machine, local),
        "blind_in_window": blind,
    }


def score(columns: Columns, now: int, basis: Basis | None = None) -> Scores:
    """Everybody's score and band as of ``now`` (UTC seconds)."""
    basis = basis or Basis(cadence(columns, now))
    count = len(columns.people)
    last, loose = last_engaged(columns, now), engaged_by_itself(columns, now)
    pieces = runs(columns, CHUNK)
    work: Callable[[slice], dict[str, Array]] = partial(_fold, columns, last, loose, now, basis.cadence)
    with ThreadPoolExecutor(THREADS) as pool:
        parts = list(pool.map(work, pieces))
    whole = {name: np.concatenate([p[name] for p in parts]) for name in parts[0]}
    nothing = np.zeros(count)
    bare = Scores(
        now=now, basis=basis, last_engaged=last, active=nothing, chance=nothing, band=np.zeros(count, np.int8), **whole
    )
    return _judged(bare, columns)


def _judged(s: Scores, columns: Columns) -> Scores:
    """The same counts with their chances and bands as of ``s.now``."""
    people = columns.people
    standing = Standing(
        s.now,
        s.cadence.window,
        np.where(s.last_engaged > people.since, s.last_engaged, NEVER),
        s.ignored,
        s.fresh_engaged,
        s.first_delivered,
        s.delivered_in_window,
        s.machine_in_window,
    )
    active, chance = s.basis.models.of(Counts(s.x, s.t, s.n), people.source, s.hidden)
    return replace(s, active=active, chance=chance, band=bands(standing, 100.0 * chance, s.basis.limits))


def bring_forward(old: Scores, columns: Columns, touched: I64, now: int, basis: Basis) -> Scores:
    """``old`` scores at a later ``now``: only people with news are counted anew, with those of whose messages one has
    left the window or settled since.

    ``columns`` already holds what is new; ``touched`` are the row numbers of people with new events, newcomers among
    them. The same as ``score`` (property-tested).
    """
    if basis != old.basis or now < old.now or len(touched) * 4 > len(columns.people):
        return score(columns, now, basis)
    count, rows, pace = len(columns.people), columns.rows, basis.cadence
    stale = np.zeros(count, bool)
    stale[touched] = True
    stale[len(old.n) :] = True
    for back in (pace.window * DAY, pace.settled, 0):
        passed = (rows.first_at > old.now - back) & (rows.first_at <= now - back)
        stale[rows.person[passed]] = True
    late = (columns.acts.at > old.now) & (columns.acts.at <= now)
    stale[columns.acts.person[late]] = True
    who = np.flatnonzero(stale)
    merged = old.with_people(who, score(subset(columns, who), now, basis), count)
    return _judged(replace(merged, now=now), columns)
