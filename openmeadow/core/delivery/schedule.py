"""When batches may go out: allowed hours and weekdays in a zone, caps per provider and day, the last moment.

Local hours that a change of clocks leaves out move forward; those it repeats are used once.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

import numpy as np

from openmeadow.core.arrays import F64, I8, I32, I64, Mask
from openmeadow.core.delivery.batches import BatchPlan, assign
from openmeadow.core.moments import DAY, HOUR, real

MOST_SLOTS = 2_000
EVERY_DAY = frozenset(range(7))


@dataclass(frozen=True)
class Windows:
    """``hours`` [begin, end) of the local day, ``weekdays`` 0 = Monday."""

    hours: tuple[int, int] = (0, 24)
    weekdays: frozenset[int] = EVERY_DAY

    @property
    def always(self) -> bool:
        """Whether every hour of every day is allowed."""
        return self.hours == (0, 24) and self.weekdays == EVERY_DAY


def allowed_from(at: int, windows: Windows, zone: ZoneInfo) -> int:
    """The first allowed moment from ``at`` on."""
    if windows.always or not windows.weekdays:
        return at
    begin, end = windows.hours
    aware = datetime.fromtimestamp(at, UTC).astimezone(zone)
    local = aware.replace(tzinfo=None)
    if aware.fold:  # the second time round an hour that exists twice
        local = (local + timedelta(hours=1)).replace(minute=0, second=0, microsecond=0)
        at = real(local, zone)
    for back in range(9):
        day = (local + timedelta(days=back)).replace(hour=0, minute=0, second=0, microsecond=0)
        if day.weekday() not in windows.weekdays:
            continue
        opens, closes = real(day + timedelta(hours=begin), zone), real(day + timedelta(hours=end - 1), zone) + HOUR
        if at < closes:
            return max(at, opens)
    return at


def after_wait(
    at: int, wait: int, windows: Windows, zone: ZoneInfo, no_later_than: int | None = None, *, by_day: bool = False
) -> int | None:
    """The first allowed moment a wait after another; None where that is after the last moment. ``by_day``: the moment
    stands in somebody's own zone, so its hour is kept and only the day moves."""
    days, rest = divmod(wait, DAY)
    there = datetime.fromtimestamp(at, UTC).astimezone(zone).replace(tzinfo=None)

    def after(n: int) -> int:  # a wait of days keeps the hour over a change of clocks
        return (real(there + timedelta(days=n), zone) if n else at) + rest

    if by_day:
        found = after(days)
        while datetime.fromtimestamp(found, UTC).astimezone(zone).weekday() not in windows.weekdays:
            days += 1
            found = after(days)
    else:
        found = allowed_from(after(days), windows, zone)
    return found if no_later_than is None or found <= no_later_than else None


def slots(plan: BatchPlan, count: int, windows: Windows, zone: ZoneInfo) -> list[int]:
    """``count`` allowed moments, at least an interval apart."""
    out: list[int] = []
    at = plan.start
    for i in range(count):
        at = allowed_from(at, windows, zone)
        out.append(at)
        at += max(plan.interval, plan.first_gap) if i == 0 and plan.pilot_share > 0 else plan.interval
    return out


def by_hand(moments: list[int], moved: Mapping[int, int], plan: BatchPlan, windows: Windows, zone: ZoneInfo) -> list[int]:
    """Moments with those that somebody moved (by number, from 1): never before the start, nor before the pilot batch has
    had its time, and always at an allowed hour."""
    out = list(moments)
    for n in sorted(moved):
        if 1 <= n <= len(out):
            first = plan.start if n == 1 or not plan.pilot_share else out[0] + plan.first_gap
            out[n - 1] = allowed_from(max(moved[n], first), windows, zone)
    return [max(at, out[0]) for at in out] if plan.pilot_share and out else out


@dataclass(frozen=True)
class Schedule:
    """``batch`` each person's place in ``moments`` (−1: no room before the last moment); ``lead`` whether the first
    is a pilot batch."""

    batch: I32
    moments: list[int]
    pilot: bool
    moved: int = 0
    late: Mask = field(default_factory=lambda: np.zeros(0, bool), repr=False)


def local_day(at: int, zone: ZoneInfo) -> int:
    """The number of the local day of a moment (1 is 1 January of year 1)."""
    return datetime.fromtimestamp(at, UTC).astimezone(zone).toordinal()


def schedule(
    plan: BatchPlan,
    subscriber: I64,
    band: I8,
    score: F64,
    provider: np.ndarray,
    windows: Windows,
    zone: ZoneInfo,
    caps: Mapping[int, int],
    no_later_than: int | None = None,
    *,
    ahead: I64 | None = None,
    moved_to: Mapping[int, int] | None = None,
) -> Schedule:
    """Every person one batch, every batch one moment; people over a cap move to the next slot that has room. ``ahead``
    orders by time zone; ``moved_to`` are moments set by hand, by the batch's number."""
    batch = assign(plan, subscriber, band, score, ahead)
    lead = plan.pilot_share > 0
    batch = batch if lead else batch - 1
    count = (len(plan.sizes) or plan.batches) + (1 if lead else 0)
    moments = by_hand(slots(plan, count, windows, zone), moved_to or {}, plan, windows, zone)
    batch, moments = in_time_order(batch, moments)
    moved = np.zeros(len(batch), bool)
    if caps:
        before = batch
        batch, moments = _capped(plan, batch, provider, moments, windows, zone, caps)
        moved = batch != before
    found = Schedule(batch, moments, lead, int(moved.sum()), np.zeros(len(batch), bool))
    return in_time(found, no_later_than)


def in_time(drawn: Schedule, no_later_than: int | None) -> Schedule:
    """The schedule up to a last moment: batches after it are dropped, their people late."""
    if no_later_than is None:
        return drawn
    batch = drawn.batch
    over = np.array([at > no_later_than for at in drawn.moments], bool)
    late = np.asarray(over[batch] if len(batch) else np.zeros(0, bool))
    batch = np.where(late, -1, batch).astype(np.int32)
    moments = [at for at in drawn.moments if at <= no_later_than]
    return Schedule(batch, moments, drawn.pilot, drawn.moved, late)


def in_time_order(batch: I32, moments: list[int]) -> tuple[I32, list[int]]:
    """Batches numbered by their moments."""
    order = np.argsort(np.array(moments, np.int64), kind="stable")
    place = np.empty(len(order), np.int32)
    place[order] = np.arange(len(order), dtype=np.int32)
    return place[batch] if len(order) else batch, [moments[i] for i in order]


def _capped(
    plan: BatchPlan,
    batch: I32,
    provider: np.ndarray,
    moments: list[int],
    windows: Windows,
    zone: ZoneInfo,
    caps: Mapping[int, int],
) -> tuple[I32, list[int]]:
    batch, moments = batch.copy(), list(moments)
    for p, cap in caps.items():
        used: dict[int, int] = {}
        mine = np.flatnonzero(provider == p)
        if cap <= 0 or not len(mine):
            continue
        queue = mine[np.argsort(batch[mine], kind="stable")]
        begin = np.searchsorted(batch[queue], np.arange(len(moments) + 1))
        waiting: list[int] = []
        i = 0
        while i < len(moments) or waiting:
            if i >= len(moments):
                if len(moments) >= MOST_SLOTS:
                    break
                moments.append(allowed_from(moments[-1] + plan.interval, windows, zone))
            own = queue[begin[i] : begin[i + 1]].tolist() if i + 1 < len(begin) else []
            day = local_day(moments[i], zone)
            room = cap - used.get(day, 0)
            line = waiting + own
            taken, waiting = line[: max(room, 0)], line[max(room, 0) :]
            used[day] = used.get(day, 0) + len(taken)
            batch[taken] = i
            i += 1
        if waiting:
            batch[waiting] = len(moments) - 1
    return batch, moments


def capacity_batch(capacity: float, answers_share: float, busiest_share: float, factor: float = 1.0) -> int | None:
    """The largest batch whose expected responses in the busiest hour stay within ``capacity`` an hour: ``answers_share``
    of the people respond, ``busiest_share`` of them in the busiest hour, each causing ``factor`` of the work."""
    expected = answers_share * busiest_share * factor
    return None if expected <= 0 else max(1, int(capacity / expected + 1e-6))


def ramp(people: int, first: int) -> list[int]:
    """Daily volumes for a new or rested domain: at most doubling, until everybody has had it."""
    out: list[int] = []
    volume = max(1, first)
    while people > 0:
        out.append(min(volume, people))
        people -= out[-1]
        volume *= 2
    return out
