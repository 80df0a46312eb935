"""Engagement: the score and the six bands.

For delivered messages i of age a_i days: w_i = 2^(-a_i/H), v_i = 1 clicked, replied or booked, 0.7 opened,
0 otherwise; E = sum(w v), N = sum(w), score = 100 E / (N + 1). A booking that belongs to no message adds w
to both. E and N fade by the same factor, so they can be brought forward (``bring_forward``).
"""

from __future__ import annotations

import itertools
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, fields
from functools import cached_property, partial

import numpy as np

from openmeadow.core.arrays import F64, FAR, I8, I32, I64, NEVER, Array, Mask
from openmeadow.core.columns import Columns
from openmeadow.core.engagement.bot_detection import MACHINE
from openmeadow.core.events import Kind
from openmeadow.core.moments import DAY

BANDS = ("Strong", "Steady", "Fading", "Inactive", "Unproven", "Masked")
STRONG, STEADY, FADING, INACTIVE, UNPROVEN, MASKED = range(6)
WINDOWS = (90, 120, 180, 270, 365, 540)
CLICKED_VALUE, OPENED_VALUE = 1.0, 0.7
CHUNK = 1 << 17
THREADS = 2


@dataclass(frozen=True)
class Cadence:
    """``gap``, ``half_life`` and ``window`` in days."""

    gap: int
    half_life: int
    window: int


@dataclass(frozen=True)
class Scores:
    """One entry a subscriber, as of ``now``. ``last_engaged`` and ``first_delivered`` are NEVER and FAR
    where there is none; ``ignored`` counts delivered messages first sent after the last engagement.
    ``*_in_window`` count messages first sent within the inactive window."""

    now: int
    cadence: Cadence
    E: F64
    N: F64
    engaged: I32
    fresh_engaged: I32
    ignored: I32
    last_engaged: I64
    first_delivered: I64
    delivered_in_window: I32
    machine_in_window: I32
    band: I8

    @cached_property
    def score(self) -> F64:
        """Everybody's score, 0 to 100."""
        return 100.0 * self.E / (self.N + 1.0)


def cadence(columns: Columns, now: int, window: int = 0) -> Cadence:
    """The workspace's own rhythm: median gap of consecutive first sends, half-life and inactive window. A ``window``
    in days that was set stands instead of the one that is found."""
    rows = columns.rows
    later = rows.first_at[1:]
    pair = (rows.person[1:] == rows.person[:-1]) & (later <= now) & (later > now - 365 * DAY)
    gap = 7
    if pair.any():
        gap = max(1, int(np.floor(float(np.median((later - rows.first_at[:-1])[pair])) / DAY + 0.5)))
    found = next((w for w in WINDOWS if w >= 8 * gap), WINDOWS[-1])
    return Cadence(gap, max(60, 4 * gap), window or found)


def last_engaged(columns: Columns, now: int) -> I64:
    """The moment of each person's last open, click, reply or booking by a person up to now; NEVER if none."""
    acts = columns.acts
    out = np.full(len(columns.people), NEVER, np.int64)
    good = acts.by != MACHINE
    if len(acts) and int(acts.at.max()) > now:
        good &= acts.at <= now
    out[acts.person[good]] = acts.at[good]  # sorted by time within a person: the last one stays
    return out


def _sum(values: F64 | I64 | Mask, start: I64) -> F64:
    """Sums over consecutive slices given by offsets; 0 for empty ones."""
    total = np.zeros(len(values) + 1, np.float64)
    np.cumsum(values, out=total[1:])
    return np.asarray(total[start[1:]] - total[start[:-1]])


def _segment_sums(values: F64, start: I64) -> F64:
    """Like ``_sum`` but added slice by slice, so that no rounding of one person reaches another."""
    out = np.zeros(len(start) - 1)
    full = start[1:] > start[:-1]
    if full.any():
        out[full] = np.add.reduceat(values, start[:-1][full])
    return out


def _fold(columns: Columns, last: I64, now: int, pace: Cadence, people: slice) -> dict[str, Array]:
    """The sums of one run of people, rows taken by slices so that they stay in the processor's cache."""
    start = columns.start[people.start : people.stop + 1]
    a, b = int(start[0]), int(start[-1])
    rows, local = columns.rows, start - a
    owner = rows.person[a:b] - people.start
    first = rows.first_at[a:b]
    delivered = (first <= now) & (rows.failed_at[a:b] > now)
    reacted = (rows.reacted_at[a:b] <= now) & delivered
    opened = (rows.opened_at[a:b] <= now) & delivered
    weight = np.exp2((first - now) * (1.0 / (DAY * pace.half_life)))
    weight *= delivered
    value = np.where(reacted, CLICKED_VALUE, OPENED_VALUE * opened)
    engaged = reacted | opened
    since = columns.people.since[people]
    barrier = np.maximum(last[people], since)
    fresh = engaged
    if (since > NEVER).any():
        fresh = engaged & (first > since[owner])
    in_window = delivered & (first > now - pace.window * DAY)
    candidate = np.where(delivered & (first > since[owner]) if (since > NEVER).any() else delivered, first, FAR)
    earliest = np.full(people.stop - people.start, FAR, np.int64)
    full = local[1:] > local[:-1]
    if full.any():
        earliest[full] = np.minimum.reduceat(candidate, local[:-1][full])
    return {
        "E": _segment_sums(weight * value, local),
        "N": _segment_sums(weight, local),
        "engaged": _sum(engaged, local).astype(np.int32),
        "fresh_engaged": _sum(fresh, local).astype(np.int32),
        "ignored": _sum(delivered & (first > barrier[owner]), local).astype(np.int32),
        "first_delivered": earliest,
        "delivered_in_window": _sum(in_window, local).astype(np.int32),
        "machine_in_window": _sum(in_window & (rows.machine_at[a:b] <= now), local).astype(np.int32),
    }


def _loose_bookings(columns: Columns, now: int, half_life: int) -> F64:
    """The weight of each person's bookings that belong to no message."""
    acts = columns.acts
    loose = (acts.kind == Kind.BOOKED) & (acts.message == 0) & (acts.at <= now)
    weight = np.exp2((acts.at[loose] - now) / (DAY * half_life))
    return np.bincount(acts.person[loose], weight, minlength=len(columns.people)).astype(np.float64)


def bands(s: Scores, since: I64) -> I8:
    """The first band that matches, in this order."""
    now, window = s.now, s.cadence.window * DAY
    last = np.where(s.last_engaged > since, s.last_engaged, NEVER)
    never = last == NEVER
    young = (s.ignored < 5) | (s.first_delivered > now - window // 2)
    quiet = last <= now - window
    masked = quiet & (s.machine_in_window * 2 >= s.delivered_in_window) & (s.machine_in_window >= 3)
    score = s.score
    band: I8 = np.select(
        [
            never & young,
            masked,
            never | (quiet & (s.ignored >= 5)),
            last <= now - window // 2,
            (score >= 30) & (s.fresh_engaged >= 3),
            score >= 8,
        ],
        [UNPROVEN, MASKED, INACTIVE, FADING, STRONG, STEADY],
        FADING,
    ).astype(np.int8)
    return band


def score(columns: Columns, now: int, pace: Cadence | None = None) -> Scores:
    """Everybody's score and band as of ``now`` (UTC seconds)."""
    pace = pace or cadence(columns, now)
    count = len(columns.people)
    last = last_engaged(columns, now)
    edges = np.unique(
        np.concatenate((np.searchsorted(columns.start, np.arange(0, len(columns.rows), CHUNK)), [0, count]))
    ).clip(0, count)
    pieces = [slice(int(a), int(b)) for a, b in itertools.pairwise(edges)]
    work: Callable[[slice], dict[str, Array]] = partial(_fold, columns, last, now, pace)
    with ThreadPoolExecutor(THREADS) as pool:
        parts = list(pool.map(work, pieces)) if count else [work(slice(0, 0))]
    whole = {name: np.concatenate([p[name] for p in parts]) for name in parts[0]}
    loose = _loose_bookings(columns, now, pace.half_life)
    whole["E"] = whole["E"] + loose
    whole["N"] = whole["N"] + loose
    return _banded(
        Scores(now=now, cadence=pace, last_engaged=last, band=np.zeros(count, np.int8), **whole), columns.people.since
    )


def _banded(s: Scores, since: I64) -> Scores:
    return Scores(**{f.name: getattr(s, f.name) for f in fields(s) if f.name != "band"}, band=bands(s, since))


def bring_forward(old: Scores, columns: Columns, touched: I64, now: int, window: int = 0) -> Scores:
    """``old`` scores at a later ``now``: the untouched fade by one factor, the touched are summed anew.

    ``columns`` already holds what is new; ``touched`` are the row numbers of people with new events,
    newcomers among them. The same as ``score`` to 1e-9 (property-tested).
    """
    pace = cadence(columns, now, window)
    if pace != old.cadence or now < old.now or len(touched) * 4 > len(columns.people):
        return score(columns, now, pace)
    count, known = len(columns.people), len(old.E)
    stale = np.zeros(count, bool)
    stale[touched] = True
    stale[known:] = True
    leaving = columns.rows.first_at
    edge_old, edge_new = old.now - pace.window * DAY, now - pace.window * DAY
    stale[columns.rows.person[(leaving > edge_old) & (leaving <= edge_new)]] = True  # window counts change
    entering = (leaving > old.now) & (leaving <= now)
    stale[columns.rows.person[entering]] = True
    late = (columns.acts.at > old.now) & (columns.acts.at <= now)
    stale[columns.acts.person[late]] = True
    who = np.flatnonzero(stale)
    part = score(subset(columns, who), now, pace)
    fade = 2.0 ** ((old.now - now) / (DAY * pace.half_life))
    merged = {}
    for f in fields(Scores):
        if f.name in ("now", "cadence", "band"):
            continue
        before = getattr(old, f.name)
        now_values = np.zeros(count, before.dtype)
        now_values[:known] = before * fade if f.name in ("E", "N") else before
        now_values[who] = getattr(part, f.name)
        merged[f.name] = now_values
    return _banded(Scores(now=now, cadence=pace, band=np.zeros(count, np.int8), **merged), columns.people.since)


def subset(columns: Columns, who: I64) -> Columns:
    """The columns of some people only (row numbers ascending), renumbered from 0."""
    from openmeadow.core.columns import Acts, People, Rows, starts

    place = np.full(len(columns.people), -1, np.int32)
    place[who] = np.arange(len(who), dtype=np.int32)

    def cut(table: Rows | Acts) -> dict[str, Array]:
        keep = place[table.person] >= 0
        out = {f.name: getattr(table, f.name)[keep] for f in fields(table)}
        out["person"] = place[out["person"]]
        return out

    people = People(**{f.name: getattr(columns.people, f.name)[who] for f in fields(People)})
    rows = Rows(**cut(columns.rows))
    return Columns(people, rows, Acts(**cut(columns.acts)), starts(rows.person, len(who)))


@dataclass(frozen=True)
class Term:
    """One message in "why this score": weight and value as in the formula; ``message`` 0 for a loose booking."""

    message: int
    at: int
    weight: float
    value: float
    what: str


def terms(columns: Columns, person: int, now: int, pace: Cadence) -> list[Term]:
    """The terms of one person's score, newest first; their sums are E and N."""
    rows, out = columns.rows, []
    for r in range(int(columns.start[person]), int(columns.start[person + 1])):
        at = int(rows.first_at[r])
        if at > now or rows.failed_at[r] <= now:
            continue
        weight = 2.0 ** ((at - now) / (DAY * pace.half_life))
        if rows.reacted_at[r] <= now:
            value, what = CLICKED_VALUE, "clicked"
        elif rows.opened_at[r] <= now:
            value, what = OPENED_VALUE, "opened"
        else:
            value, what = 0.0, "machine only" if rows.machine_at[r] <= now else "ignored"
        out.append(Term(int(rows.message[r]), at, weight, value, what))
    acts = columns.acts
    mine = (acts.person == person) & (acts.kind == Kind.BOOKED) & (acts.message == 0) & (acts.at <= now)
    for at in acts.at[mine].tolist():
        out.append(Term(0, at, 2.0 ** ((at - now) / (DAY * pace.half_life)), 1.0, "booked"))
    return sorted(out, key=lambda t: -t.at)
