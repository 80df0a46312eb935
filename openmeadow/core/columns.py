"""The columns the core computes on.

``Columns`` holds one row a subscriber (``People``), one row a (subscriber, message) sorted by subscriber
and first send (``rows``), and every open, click, reply and booking (``acts``) sorted by subscriber and time.
All moments are UTC seconds; ``FAR`` stands for "never heard of".

``build`` makes them from raw events; ``splice`` replaces some people's rows by fresh ones, so that a change
costs the people it touches and one copy.
"""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, fields, replace
from enum import IntEnum
from typing import TypeVar

import numpy as np
import numpy.typing as npt

from openmeadow.core.arrays import F64, FAR, I8, I32, I64, NEVER, Mask, inserted, seconds
from openmeadow.core.engagement.bot_detection import BY_OF_REASON, MACHINE, UNSURE, reasons
from openmeadow.core.events import Kind, RawEvents
from openmeadow.core.moments import DAY

CLICK_TO_BOOKING = 7 * DAY
OPEN_TO_BOOKING = 2 * DAY
RUN, THREADS = 1 << 20, 2  # events of a run of people, and how many runs are built at once


@dataclass(frozen=True)
class People:
    """One row a subscriber, by ascending store id."""

    id: I64
    joined_at: I64
    since: I64  # the moment of rejoining after an unsubscribe; NEVER otherwise
    source: I32  # the source of the first joining, by id; 0 for none

    def __len__(self) -> int:
        return len(self.id)


@dataclass(frozen=True)
class Rows:
    """One row a (subscriber, message), sorted by subscriber, then first send.

    ``failed_at`` is FAR while delivered. ``opened_at`` is the first open or click by a person, ``clicked_at``
    the first click, ``reacted_at`` the first click, reply or booking, ``machine_at`` the first open or click
    by a machine.
    """

    person: I32
    message: I32
    first_at: I32
    failed_at: I32
    opened_at: I32
    clicked_at: I32
    reacted_at: I32
    machine_at: I32

    def __len__(self) -> int:
        return len(self.person)


@dataclass(frozen=True)
class Acts:
    """Opens, clicks, replies and bookings, sorted by subscriber, then time; ``message`` 0 for none; ``why`` is the
    place in ``bot_detection.REASONS`` that decided ``by``."""

    at: I32
    person: I32
    message: I32
    kind: I8
    by: I8
    why: I8
    value: F64

    def __len__(self) -> int:
        return len(self.at)


T = TypeVar("T", Rows, Acts)


class Trouble(IntEnum):
    """What went wrong with a message: the class of its bounce, or that it was complained about or left by."""

    HARD = 1
    SOFT = 2
    BLOCKED = 3
    UNKNOWN = 4
    COMPLAINED = 5
    UNSUBSCRIBED = 6


@dataclass(frozen=True)
class Troubles:
    """Bounces, complaints and unsubscribes in the order they became known; ``message`` 0 for none."""

    at: I64
    person: I32
    message: I32
    what: I8

    def __len__(self) -> int:
        return len(self.at)

    def take(self, chosen: Mask | I64) -> Troubles:
        """Some of the rows."""
        return Troubles(**{f.name: getattr(self, f.name)[chosen] for f in fields(self)})


@dataclass(frozen=True)
class Columns:
    people: People
    rows: Rows
    acts: Acts
    start: I64  # start[i]:start[i+1] are the rows of person i


def _sorted(table: Rows | Acts, order: I64) -> dict[str, npt.NDArray[np.generic]]:
    return {f.name: getattr(table, f.name)[order] for f in fields(table)}


def starts(person: I32, count: int) -> I64:
    """Offsets of each person's slice in a column sorted by person; length ``count + 1``."""
    return np.searchsorted(person, np.arange(count + 1, dtype=np.int32)).astype(np.int64)


def _key(person: npt.NDArray[np.generic], minor: npt.NDArray[np.generic]) -> I64:
    return (person.astype(np.int64) << 34) | minor.astype(np.int64)


def first_of(group: I64, values: I32 | I64, groups: int) -> I64:
    """The least value of each group; FAR where a group has none."""
    out = np.full(groups, FAR, np.int64)
    np.minimum.at(out, group, values.astype(np.int64))  # of one type, or it is slow
    return out


def _failures(keys: I64, ev: RawEvents, passes: I64, first: I64) -> I64:
    """When a message counts as failed: all of its passes bounced. FAR otherwise.

    A bounce belongs to the latest pass before it; a message is delivered while any pass is.
    """
    failed = np.full(len(keys), FAR, np.int64)
    bounced = ev.kind == Kind.BOUNCED
    if not bounced.any():
        return failed
    event_key = _key(ev.person, ev.message)
    where = np.searchsorted(keys, event_key[bounced])
    known = where < len(keys)
    known[known] = keys[where[known]] == event_key[bounced][known]
    group, at = where[known], ev.at[bounced][known]
    single = passes[group] <= 1
    late = at >= first[group]
    np.minimum.at(failed, group[single & late], at[single & late])
    sent = np.isin(ev.kind, (Kind.SENT, Kind.DELIVERED))
    for g in np.unique(group[~single]):
        went = np.unique(ev.at[sent & (event_key == keys[g]) & (ev.kind == Kind.SENT)])
        bounces = np.sort(at[group == g])
        ends = [
            bounces[(bounces >= begin) & (bounces < (went[i + 1] if i + 1 < len(went) else FAR))]
            for i, begin in enumerate(went)
        ]
        if all(len(e) for e in ends):
            failed[g] = max(int(e[0]) for e in ends)
    return failed


def _bookings(acts: Acts) -> Acts:
    """Give each booking without a message to the one last clicked within 7 days, else opened within 2."""
    loose = np.flatnonzero((acts.kind == Kind.BOOKED) & (acts.message == 0))
    if not len(loose):
        return acts
    message = acts.message.copy()
    person_made = (acts.by != MACHINE) & (acts.message > 0)
    for kinds, within in (((Kind.CLICKED,), CLICK_TO_BOOKING), ((Kind.OPENED,), OPEN_TO_BOOKING)):
        todo = loose[message[loose] == 0]
        source = np.flatnonzero(person_made & np.isin(acts.kind, kinds))
        if not len(todo) or not len(source):
            continue
        before = (
            np.searchsorted(
                _key(acts.person[source], acts.at[source]), _key(acts.person[todo], acts.at[todo]), side="right"
            )
            - 1
        )
        ok = before >= 0
        src = source[np.maximum(before, 0)]
        ok &= (acts.person[src] == acts.person[todo]) & (acts.at[todo] - acts.at[src] <= within)
        message[todo[ok]] = acts.message[src[ok]]
    return replace(acts, message=message)


def build(people: People, ev: RawEvents, link_counts: I32) -> Columns:
    """Columns from raw events: classify opens and clicks, fold passes into messages, place bookings. What is known of
    somebody follows from their own events, so many are built run by run of people, which needs little memory."""
    if len(ev.at) <= RUN:
        rows, acts = _tables(ev, link_counts)
        return Columns(people, rows, acts, starts(rows.person, len(people)))
    so_far = np.cumsum(np.bincount(ev.person, minlength=len(people)))
    edges = np.unique(np.searchsorted(so_far, np.arange(RUN, len(ev.at), RUN)))
    run = np.searchsorted(edges, ev.person).astype(np.int16)

    def one(n: int) -> tuple[Rows, Acts]:
        return _tables(ev.take(np.flatnonzero(run == n)), link_counts)

    some_rows, some_acts = list[Rows](), list[Acts]()
    with ThreadPoolExecutor(THREADS) as pool:
        for r, a in pool.map(one, range(len(edges) + 1)):
            some_rows.append(r)
            some_acts.append(a)
    rows, acts = _together(some_rows), _together(some_acts)
    return Columns(people, rows, acts, starts(rows.person, len(people)))


def _together(some: list[T]) -> T:
    """Tables of people who follow each other, as one; each column of the parts is dropped as soon as it is copied."""
    kind, columns = type(some[0]), {f.name: [getattr(t, f.name) for t in some] for f in fields(some[0])}
    some.clear()
    return kind(**{name: np.concatenate(columns.pop(name)) for name in list(columns)})


def _tables(ev: RawEvents, link_counts: I32) -> tuple[Rows, Acts]:
    why = reasons(ev, link_counts)
    order = np.lexsort((ev.kind, ev.at, ev.person))
    in_acts = order[np.isin(ev.kind[order], (Kind.OPENED, Kind.CLICKED, Kind.REPLIED, Kind.BOOKED))]
    acts = _bookings(
        Acts(
            seconds(ev.at[in_acts]),
            ev.person[in_acts],
            ev.message[in_acts],
            ev.kind[in_acts],
            BY_OF_REASON[why[in_acts]],
            why[in_acts],
            ev.value[in_acts],
        )
    )
    went = (ev.kind == Kind.SENT) | (ev.kind == Kind.DELIVERED)
    went &= ev.message > 0
    keys, group = np.unique(_key(ev.person[went], ev.message[went]), return_inverse=True)
    first = first_of(group, ev.at[went], len(keys))
    passes = np.bincount(group[ev.kind[went] == Kind.SENT], minlength=len(keys)).astype(np.int64)
    where = np.searchsorted(keys, _key(acts.person, acts.message))
    where = np.minimum(where, max(len(keys) - 1, 0))
    mine = (keys[where] == _key(acts.person, acts.message)) if len(keys) else np.zeros(len(acts), bool)
    machine = acts.by == MACHINE
    look = (acts.kind == Kind.OPENED) | (acts.kind == Kind.CLICKED)
    firsts = {
        "opened_at": mine & look & ~machine,
        "clicked_at": mine & ~machine & (acts.kind == Kind.CLICKED),
        "reacted_at": mine & ~machine & (acts.kind != Kind.OPENED),
        "machine_at": mine & machine,
    }
    moments = {name: seconds(first_of(where[m], acts.at[m], len(keys))) for name, m in firsts.items()}
    rows = Rows(
        person=(keys >> 34).astype(np.int32),
        message=(keys & (2**34 - 1)).astype(np.int32),
        first_at=seconds(first),
        failed_at=seconds(_failures(keys, ev, passes, first)),
        **moments,
    )
    rows = Rows(**_sorted(rows, np.lexsort((rows.message, rows.first_at, rows.person))))  # type: ignore[arg-type]
    return rows, acts


def splice(old: Columns, people: People, touched: I64, fresh: Columns) -> Columns:
    """``old`` with everything of the ``touched`` people (row numbers in ``people``) taken from ``fresh``.

    ``people`` begins with all of ``old.people`` in the same order; new people stand after them.
    ``fresh`` was built over ``people`` from all events of the touched.
    """
    hit = np.zeros(len(people), bool)
    hit[touched] = True

    def merged(a: Rows | Acts, b: Rows | Acts) -> dict[str, npt.NDArray[np.generic]]:
        keep = ~hit[a.person]
        at = np.searchsorted(a.person[keep], b.person, side="left")
        return {f.name: inserted(getattr(a, f.name)[keep], at, getattr(b, f.name)) for f in fields(a)}

    rows = Rows(**merged(old.rows, fresh.rows))  # type: ignore[arg-type]
    acts = Acts(**merged(old.acts, fresh.acts))  # type: ignore[arg-type]
    return Columns(people, rows, acts, starts(rows.person, len(people)))


__all__ = [
    "DAY",
    "FAR",
    "MACHINE",
    "NEVER",
    "UNSURE",
    "Acts",
    "Columns",
    "Kind",
    "People",
    "RawEvents",
    "Rows",
    "Trouble",
    "Troubles",
    "build",
    "splice",
    "starts",
]
