"""Batches by each person's own clock: the same wall time in every zone, or each person's own hour."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

import numpy as np

from openmeadow.core.arrays import I8, I32, I64
from openmeadow.core.delivery.schedule import Schedule, Windows, allowed_from, local_day
from openmeadow.core.moments import real

NO_HOUR = -1


def spread(
    drawn: Schedule, start: int, home: ZoneInfo, zones: Sequence[ZoneInfo], zone: I32, hour: I8, windows: Windows
) -> Schedule:
    """The schedule with every batch but the lead divided into moments by its people's own clocks.

    ``zone`` is each person's place in ``zones``, ``hour`` the hour of their day at which they are written to (NO_HOUR:
    the batch's own wall time). A moment that would lie before the plan's start waits for the next allowed one there.
    """
    n = len(drawn.batch)
    moment = np.zeros(n, np.int64)
    lead = np.asarray(drawn.batch == 0) if drawn.pilot else np.zeros(n, bool)
    late = drawn.batch < 0
    first = max(start, drawn.moments[0]) if drawn.pilot and drawn.moments else start
    for b, at in enumerate(drawn.moments):
        mine = np.flatnonzero(drawn.batch == b)
        if drawn.pilot and b == 0:
            moment[mine] = at
            continue
        wall = datetime.fromtimestamp(at, UTC).astimezone(home).replace(tzinfo=None)
        for z, h in sorted({(int(zone[i]), int(hour[i])) for i in mine}):
            there = wall if h == NO_HOUR else wall.replace(hour=h, minute=0, second=0)
            then = allowed_from(max(real(there, zones[z]), first), windows, zones[z])
            moment[mine[(zone[mine] == z) & (hour[mine] == h)]] = then
    moments = sorted({int(m) for m in moment[~late & ~lead]})
    place = np.searchsorted(np.array(moments, np.int64), moment).astype(np.int32) if moments else np.zeros(n, np.int32)
    if drawn.pilot:
        place = place + 1
        moments = [drawn.moments[0], *moments]
        place[lead] = 0
    place[late] = -1
    return Schedule(place.astype(np.int32), moments, drawn.pilot, drawn.moved, drawn.late)


def within_caps(
    drawn: Schedule,
    provider: np.ndarray,
    caps: Mapping[int, int],
    home: ZoneInfo,
    zones: Sequence[ZoneInfo],
    zone: I32,
    windows: Windows,
    interval: int,
    most: int = 2_000,
) -> Schedule:
    """Caps a provider and day (of the workspace) on moments that differ by zone: who is over one moves to the next
    moment with room that is allowed where they are; further moments are added as they are needed."""
    batch, moments, moved = drawn.batch.copy(), list(drawn.moments), 0
    for p, cap in caps.items():
        mine = np.flatnonzero((provider == p) & (batch >= 0))
        if cap <= 0 or not len(mine):
            continue
        queue = mine[np.argsort(batch[mine], kind="stable")]
        used: dict[int, int] = {}
        waiting: dict[int, list[int]] = {}
        begin = np.searchsorted(batch[queue], np.arange(len(moments) + 1))
        i = 0
        while i < len(moments) or any(waiting.values()):
            if i >= len(moments):
                if len(moments) >= most:
                    break
                moments.append(moments[-1] + max(interval, 3600))
            own = queue[begin[i] : begin[i + 1]].tolist() if i + 1 < len(begin) else []
            at, day = moments[i], local_day(moments[i], home)
            room = cap - used.get(day, 0)
            for z in sorted(waiting):
                if waiting[z] and room > 0 and allowed_from(at, windows, zones[z]) == at:
                    taken, waiting[z] = waiting[z][:room], waiting[z][room:]
                    batch[taken] = i
                    moved += len(taken)
                    room -= len(taken)
                    used[day] = used.get(day, 0) + len(taken)
            stay, over = own[: max(room, 0)], own[max(room, 0) :]
            used[day] = used.get(day, 0) + len(stay)
            for person in over:
                waiting.setdefault(int(zone[person]), []).append(person)
            i += 1
        for left in waiting.values():
            batch[left] = len(moments) - 1
    return Schedule(batch, moments, drawn.pilot, drawn.moved + moved, drawn.late)


def offsets(zones: Sequence[ZoneInfo], at: int) -> I64:
    """Seconds ahead of UTC at a moment, by zone."""
    moment = datetime.fromtimestamp(at, UTC)
    ahead = [moment.astimezone(z).utcoffset() for z in zones]
    return np.array([int(a.total_seconds()) if a else 0 for a in ahead], np.int64)
