"""The cut-off replay: what the sends of a span would have been without the people beyond a cut-off.

Every message of the span is placed by the two coordinates of the map *as they stood when it was first sent*:
whole days since the last engagement before that moment, and messages left ignored since. A message's own outcome
never moves its own coordinates. Sums of what came of them stand on a grid finer than the one drawn, so that
cumulative sums answer any cut-off at once.

Who was beyond a cut-off once gets nothing more: without a message no one comes back. A message is therefore beyond
it where its own place is, or an earlier one of its person in the span: a union of corners of the grid, which is put down
as sums and differences of corners (``for_good``), so that the same cumulative sums answer.
"""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from dataclasses import replace as dc_replace
from math import sqrt

import numpy as np

from openmeadow.core.arrays import F64, FAR, I32, I64, NEVER, Array, Mask
from openmeadow.core.columns import MACHINE, Columns, Trouble, Troubles
from openmeadow.core.engagement.expected import student
from openmeadow.core.engagement.map import DAY_EDGES, LEFT_EDGES
from openmeadow.core.engagement.subset import run_of, runs
from openmeadow.core.events import Kind
from openmeadow.core.moments import DAY

FINE_DAYS = tuple(sorted({*range(0, 366, 5), *DAY_EDGES}))  # left edges of the columns; one more stands for "never"
FINE_LEFT = tuple(range(LEFT_EDGES[-1] + 1))
SHAPE = (len(FINE_DAYS) + 1, len(FINE_LEFT))
MEASURES = (
    "messages",
    "delivered",
    "engagements",
    "opens",
    "clicks",
    "bookings",
    "worth",
    "complaints",
    "hard bounces",
    "unsubscribes",
)


@dataclass(frozen=True)
class Replay:
    """``sums[m]`` of shape SHAPE for each of MEASURES; first sends went out in (since, until]. ``for_good`` are the same
    for cut-offs, where who was beyond one stays beyond it."""

    since: int
    until: int
    sums: dict[str, F64]
    for_good: dict[str, F64]

    def without(self, days: int, left: int) -> dict[str, float]:
        """The totals if people who had not answered for ``days`` days (an edge of FINE_DAYS) and had left at least ``left``
        ignored when a message went out had not been sent it, nor any after it."""
        column = FINE_DAYS.index(days)
        return {name: float(s.sum() - s[column:, left:].sum()) for name, s in self.for_good.items()}


_COLUMN_OF_DAY = (np.searchsorted(FINE_DAYS, np.arange(FINE_DAYS[-1] + 1), side="right") - 1).astype(np.int16)


def cells(age: I64, never: Mask, left: I64 | I32) -> I32:
    """The flat place on the fine grid of an age in seconds (any, where ``never``) and a number of messages."""
    days = np.minimum(np.maximum(age, 0), FINE_DAYS[-1] * DAY).astype(np.uint32) // np.uint32(DAY)
    column = _COLUMN_OF_DAY[days]
    column[never] = len(FINE_DAYS)
    row = np.minimum(left, FINE_LEFT[-1]).astype(np.int32)
    return np.asarray(column.astype(np.int32) * len(FINE_LEFT) + row, np.int32)


def _last_engagements(columns: Columns, person: I64, at: I32 | I64) -> I64:
    """The last engagement by a person strictly before each (person, moment); NEVER where there is none."""
    acts = columns.acts
    good = acts.by != MACHINE
    acted, when = acts.person[good].astype(np.int64), acts.at[good]
    if not len(when) or not len(at):
        return np.full(len(at), NEVER, np.int64)
    begin = int(min(when.min(), at.min()))
    span = int(max(when.max(), at.max())) - begin + 2
    place = np.searchsorted(acted * span + (when - begin), person * span + (at - begin), side="left") - 1
    found = np.maximum(place, 0)
    return np.where((place >= 0) & (acted[found] == person), when[found], NEVER)


def _position(columns: Columns, person: I64, at: I32 | I64, side: str) -> I64:
    """Where in ``rows`` a moment of a person would stand: before (``left``) or after (``right``) its equals."""
    rows = columns.rows
    if not len(rows):
        return np.zeros(len(at), np.int64)
    begin = int(rows.first_at.min())
    span = int(rows.first_at.max()) - begin + 3
    line = rows.person.astype(np.int64) * span + (rows.first_at - begin + 1)
    spot = person * span + (np.clip(at.astype(np.int64), begin - 1, begin + span - 2) - begin + 1)
    return np.searchsorted(line, spot, side=side)  # type: ignore[call-overload,no-any-return]


def _runs(starts: Mask) -> I64:
    """For each place, the place where its run began; ``starts`` marks the first of each run."""
    place = np.where(starts, np.arange(len(starts)), 0)
    return np.asarray(np.maximum.accumulate(place), np.int64)


def standing(columns: Columns) -> tuple[I64, I64]:
    """For every row: the last engagement before its first send (NEVER where none), and how many delivered messages
    stood ignored just then."""
    rows = columns.rows
    count = len(rows)
    if not count:
        return np.zeros(0, np.int64), np.zeros(0, np.int64)
    person = rows.person.astype(np.int64)
    last = _last_engagements(columns, person, rows.first_at)
    since = columns.people.since[rows.person]
    barrier = np.maximum(last, np.where(since < rows.first_at, since, NEVER))
    fresh_person = np.concatenate(([True], person[1:] != person[:-1]))
    # rows of one moment stand beside each other: none of them has left the others ignored
    here = _runs(fresh_person | np.concatenate(([True], rows.first_at[1:] != rows.first_at[:-1])))
    # the barrier never goes back within a person, and is constant between answers
    moved = fresh_person | np.concatenate(([True], barrier[1:] != barrier[:-1]))
    first_after = np.zeros(count, np.int64)
    where = np.flatnonzero(moved)
    first_after[where] = np.where(
        barrier[where] == NEVER, columns.start[person[where]], _position(columns, person[where], barrier[where], "right")
    )
    left = np.maximum(here - first_after[_runs(moved)], 0)
    failed = np.flatnonzero(rows.failed_at < FAR)
    if len(failed):
        # a message that failed stops counting from then on, until the person answers something
        owner = person[failed]
        begin = np.maximum(
            _position(columns, owner, rows.failed_at[failed], "left"),
            _position(columns, owner, rows.first_at[failed], "right"),
        )
        last_row = columns.start[owner + 1]
        begin = np.minimum(begin, last_row)
        end = np.maximum(np.minimum(_first_with(barrier, person, owner, rows.first_at[failed]), last_row), begin)
        change = np.zeros(count + 1, np.int64)
        np.add.at(change, begin, 1)
        np.add.at(change, end, -1)
        left = left - np.cumsum(change[:count])
    return last, left


def _first_with(barrier: I64, person: I64, owner: I64, at: I32 | I64) -> I64:
    """The first row of each owner (or after them) whose barrier is at the moment or later."""
    known = barrier[barrier > NEVER]
    if not len(known):
        return np.full(len(owner), len(person), np.int64)
    begin = int(known.min())
    span = int(known.max()) - begin + 3
    line = person * span + np.where(barrier == NEVER, 0, barrier - begin + 1)
    spot = owner * span + np.clip(at - begin + 1, 1, span - 1)
    return np.asarray(np.searchsorted(line, spot, side="left"), np.int64)


def _rows_of(columns: Columns, person: I64, message: I64) -> I64:
    """The row of each (person, message); -1 where there is none."""
    who = np.unique(person)
    spans = [np.arange(a, b) for a, b in zip(columns.start[who].tolist(), columns.start[who + 1].tolist(), strict=True)]
    mine = np.concatenate(spans) if spans else np.zeros(0, np.int64)
    key = (columns.rows.person[mine].astype(np.int64) << 34) | columns.rows.message[mine]
    order = np.argsort(key)
    wanted = (person.astype(np.int64) << 34) | message
    place = np.minimum(np.searchsorted(key[order], wanted), max(len(mine) - 1, 0))
    if not len(mine):
        return np.full(len(wanted), -1, np.int64)
    return np.where(key[order][place] == wanted, mine[order][place], -1)


Places = list[tuple[slice, Array]]  # people, and of each of their rows its place on the grid
_Both = tuple[F64, F64]
CHUNK = 1 << 16  # rows worked on at a time
ONE_IN, ENOUGH_RUNS = 8, 80  # of the runs, an estimate; fewer are replayed at once
LEAST_ERROR = 0.0001  # of an estimate, however alike its runs are: 0 is what was counted
THREADS = 2
ROWS = len(FINE_LEFT)
SIZE = SHAPE[0] * SHAPE[1]
CODES = 32  # of what most messages have or have not: sent, delivered, engaged with, opened, clicked
_CAUSED = {Trouble.COMPLAINED: "complaints", Trouble.HARD: "hard bounces", Trouble.UNSUBSCRIBED: "unsubscribes"}


class _Corners:
    """For each message of the span what its person had reached by then: the union of the corners of the grid at which
    their messages up to it stood. Where one is furthest both by days and by messages ignored, it stands alone; elsewhere
    the union is a stair, put down step by step: a corner, less what the step above it covers already."""

    def __init__(self, cell: I32, person: I32) -> None:
        inside = cell >= 0
        person = np.cumsum(person != np.concatenate((person[:1], person[:-1])), dtype=np.int32)  # 0, 1, 2… of those here
        column, row = (np.where(inside, x, 0).astype(np.int32) for x in np.divmod(cell, np.int32(ROWS)))
        most = self._reached(row * np.int32(SHAPE[0]) + column, person)
        furthest = self._reached(column, person)
        alone = most % SHAPE[0] == furthest
        self._alone = np.flatnonzero(alone & inside)
        self._far = (furthest * ROWS + most // SHAPE[0])[self._alone]
        self._message, self._cell, self._sign = self._stairs(column, row, person, np.flatnonzero(~alone & inside))

    @staticmethod
    def _reached(key: I32, person: I32) -> I32:
        """The greatest key (below the size of the grid) among the messages of the same person so far."""
        base = person * np.int32(SIZE)
        return np.asarray(np.maximum.accumulate(base + key) - base, np.int32) if len(key) else key

    def _stairs(self, column: I32, row: I32, person: I32, several: I64) -> tuple[I64, I32, F64]:
        """The steps of some messages: of which one each is, its cell, and whether it counts (1) or is counted off (-1)."""
        whose = np.zeros(int(person[-1]) + 1 if len(person) else 0, bool)
        whose[person[several]] = True
        theirs = np.flatnonzero(whose[person])
        column, row, person = column[theirs] + np.int32(1), row[theirs], person[theirs]
        parts: list[tuple[I64, I32, F64]] = [(several[:0], column[:0], np.zeros(0))]
        above = np.zeros(len(theirs), np.int32)
        most = np.zeros(len(whose), np.int32)
        np.maximum.at(most, person, row)
        most = most[person]
        asked = np.zeros(len(theirs), bool)
        asked[np.searchsorted(theirs, several)] = True
        for level in range(int(row.max(initial=-1)), -1, -1):
            some = np.flatnonzero(most >= level)  # of the others nothing stands so high
            at = self._reached(np.where(row[some] >= level, column[some], np.int32(0)), person[some])
            step = np.flatnonzero((at > above[some]) & asked[some])
            message, reached, before = theirs[some[step]], at[step], above[some[step]]
            cut = np.flatnonzero(before)
            parts.append((message, (reached - 1) * ROWS + level, np.ones(len(step))))
            parts.append((message[cut], (before[cut] - 1) * ROWS + level, np.full(len(cut), -1.0)))
            above[some] = at
        message, cell, sign = (np.concatenate(x) for x in zip(*parts, strict=True))
        return message, cell, sign

    def by_code(self, code: I32) -> F64:
        """How many messages of each code (below CODES) stand in each cell, of shape (SIZE, CODES)."""
        out = np.bincount(self._far * CODES + code[self._alone], minlength=SIZE * CODES).astype(np.float64)
        out += np.bincount(self._cell * CODES + code[self._message], self._sign, minlength=SIZE * CODES)
        return out.reshape(SIZE, CODES)

    def of_few(self, few: Mask, weights: list[F64]) -> list[F64]:
        """The sums by cell of weights that are 0 but for a few messages."""
        alone, step = np.flatnonzero(few[self._alone]), np.flatnonzero(few[self._message])
        far, whose = self._far[alone], self._alone[alone]
        cell, sign, message = self._cell[step], self._sign[step], self._message[step]
        sums = (
            np.bincount(far, w[whose], minlength=SIZE) + np.bincount(cell, sign * w[message], minlength=SIZE)
            for w in weights
        )
        return [np.asarray(s, np.float64) for s in sums]


def replay(columns: Columns, troubles: Troubles, since: int, until: int, at: Places | None = None) -> Replay:
    """The grid of what came, up to ``until``, of every message whose first send went out in (since, until].
    ``at`` is ``places(columns)`` where it is known already. Run by run of people, so that it needs little memory.
    """
    parts = _parts(columns, troubles, since, until, at or places(columns))
    sums, for_good = ({m: np.sum([p[m][k] for p in parts], axis=0) for m in MEASURES} for k in (0, 1))
    return Replay(since, until, sums, for_good)


def rough(columns: Columns, troubles: Troubles, since: int, until: int) -> tuple[Replay, float] | None:
    """An estimate from one run of people in ONE_IN, with the share by which it may be off, 95 times of 100 (by how
    much what was engaged with differs from run to run); None where there are too few runs to leave any out."""
    every = runs(columns, CHUNK)
    if len(every) < ENOUGH_RUNS:
        return None
    some = every[ONE_IN // 2 :: ONE_IN]
    parts = _parts(columns, troubles, since, until, places(columns, some))
    sent, engaged = (np.array([p[m][0].sum() for p in parts]) for m in ("messages", "engagements"))
    rows = columns.start
    times = len(columns.rows) / max(1, sum(int(rows[s.stop] - rows[s.start]) for s in some))
    rate = engaged.sum() / max(1.0, sent.sum())
    spread = np.sqrt(
        ((engaged - rate * sent) ** 2).sum() * len(some) / (len(some) - 1)
    )  # of a ratio (Cochran 1977, 2.39)
    error = student(len(some) - 1) * float(spread) * sqrt(1 - 1 / ONE_IN) / max(1.0, float(engaged.sum()))
    sums, for_good = ({m: times * np.sum([p[m][k] for p in parts], axis=0) for m in MEASURES} for k in (0, 1))
    return Replay(since, until, sums, for_good), max(error, LEAST_ERROR)


def _parts(columns: Columns, troubles: Troubles, since: int, until: int, at: Places) -> list[dict[str, _Both]]:
    order = np.argsort(troubles.person, kind="stable")
    owner = troubles.person[order]

    def one(place: int) -> dict[str, _Both]:
        people, cell = at[place]
        low, high = np.searchsorted(owner, np.array([people.start, people.stop], np.int32))
        mine = troubles.take(order[low:high])
        mine = dc_replace(mine, person=mine.person - np.int32(people.start))
        return _of_run(run_of(columns, people), mine, since, until, cell)

    with ThreadPoolExecutor(THREADS) as pool:
        return list(pool.map(one, range(len(at))))


def places(columns: Columns, pieces: list[slice] | None = None) -> Places:
    """Of the people of each run, the flat place on the fine grid of each of their messages when it was first sent."""
    pieces = pieces or runs(columns, CHUNK)

    def one(people: slice) -> Array:
        run = run_of(columns, people)
        last, left = standing(run)
        return cells(run.rows.first_at - last, last == NEVER, left).astype(np.int16)

    with ThreadPoolExecutor(THREADS) as pool:
        return list(zip(pieces, pool.map(one, pieces), strict=True))


def _of_run(columns: Columns, troubles: Troubles, since: int, until: int, at: Array) -> dict[str, _Both]:
    """What came of the messages to some people: the sums of each of MEASURES, of themselves and for good."""
    rows, acts = columns.rows, columns.acts
    inside = (rows.first_at > since) & (rows.first_at <= until)
    cell = np.where(inside, at, -1).astype(np.int32)
    corners, here = _Corners(cell, rows.person), np.flatnonzero(inside)
    # what most messages have or have not is counted together, by one code a message
    clicked, opened = rows.clicked_at <= until, rows.opened_at <= until
    held = {
        "messages": inside,
        "delivered": rows.failed_at > until,
        "engagements": opened | (rows.reacted_at <= until),
        "opens": opened | clicked,
        "clicks": clicked,
    }
    code = np.zeros(len(rows), np.int32)
    for bit, mask in enumerate(held.values()):
        code |= mask.astype(np.int32) << bit
    own = np.bincount(cell[here] * CODES + code[here], minlength=SIZE * CODES).reshape(SIZE, CODES).astype(np.float64)
    good = corners.by_code(code)
    bits = (np.arange(CODES)[:, None] >> np.arange(len(held))) & 1
    grids = zip(held, (own @ bits).T, (good @ bits).T, strict=True)
    out: dict[str, _Both] = {name: (a.reshape(SHAPE), b.reshape(SHAPE)) for name, a, b in grids}
    # and what few have, message by message
    few, weights = np.zeros(len(rows), bool), {name: np.zeros(len(rows)) for name in MEASURES if name not in held}
    booked = (acts.kind == Kind.BOOKED) & (acts.message > 0) & (acts.at <= until)
    row = _rows_of(columns, acts.person[booked].astype(np.int64), acts.message[booked].astype(np.int64))
    known = row >= 0
    np.add.at(weights["bookings"], row[known], 1.0)
    np.add.at(weights["worth"], row[known], acts.value[booked][known])
    for what, name in _CAUSED.items():
        mine = (troubles.what == what) & (troubles.at <= until) & (troubles.message > 0)
        hit = _rows_of(columns, troubles.person[mine].astype(np.int64), troubles.message[mine].astype(np.int64))
        weights[name][hit[hit >= 0]] = 1.0
    for w in weights.values():
        few |= (w != 0) & inside
    some = np.flatnonzero(few)
    for (name, w), later in zip(weights.items(), corners.of_few(few, list(weights.values())), strict=True):
        flat = np.bincount(cell[some], w[some], minlength=SIZE).astype(np.float64)
        out[name] = flat.reshape(SHAPE), later.reshape(SHAPE)
    return out
