"""What counts for the chance: of each person how many messages were engaged with, the place of the last, and how many
counted (x, t, n).

A message engaged with counts at once. An ignored one counts when it is settled: older than the time within which 95% of
the workspace's engagement comes. Failed ones do not count, nor does a message that only a machine opened. A booking or
reply that belongs to no message counts as engagement with the last message delivered before it. Who rejoined starts
anew at that moment."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from openmeadow.core.arrays import I32, I64, NEVER, Mask
from openmeadow.core.columns import Columns
from openmeadow.core.engagement.chance import MOST
from openmeadow.core.events import Kind
from openmeadow.core.moments import DAY

FEW_BLIND = 3


@dataclass(frozen=True)
class Counts:
    """One entry a person: ``x`` messages engaged with, the place ``t`` of the last of them, of ``n`` that counted."""

    x: I32
    t: I32
    n: I32

    def of(self, some: Mask) -> tuple[I32, I32, I32]:
        """(x, t, n) of some people."""
        return self.x[some], self.t[some], self.n[some]

    def but(self, some: Mask, other: Counts) -> Counts:
        """These, with those of ``some`` people from others."""
        return Counts(*(np.where(some, b, a) for a, b in ((self.x, other.x), (self.t, other.t), (self.n, other.n))))


def counts(engaged: Mask, ignored: Mask, start: I64) -> Counts:
    """From rows of people one after the other (``start`` as in ``Columns``): of the latest MOST that count."""
    people = len(start) - 1
    passed = np.zeros(len(engaged) + 1, np.int32)
    np.cumsum(engaged | ignored, out=passed[1:])
    before = passed[start[:-1]]
    n = passed[start[1:]] - before
    if len(n) and int(n.max()) > MOST:
        owner = np.repeat(np.arange(people), np.diff(start))
        engaged = engaged & (passed[start[1:]][owner] - passed[1:] < MOST)
    total = np.zeros(len(engaged) + 1, np.int32)
    np.cumsum(engaged, out=total[1:])
    x = total[start[1:]] - total[start[:-1]]
    t = np.zeros(people, np.int32)
    full = start[1:] > start[:-1]
    if full.any():
        last = np.maximum.reduceat(np.where(engaged, passed[1:], 0), start[:-1][full])
        t[full] = np.maximum(last - before[full] - np.maximum(n[full] - MOST, 0), 0)
    return Counts(x, t, np.minimum(n, MOST))


def engaged_by_itself(columns: Columns, now: int) -> I64:
    """The rows that a booking or reply of no message counts for: the last message delivered before it."""
    acts, rows = columns.acts, columns.rows
    loose = ((acts.kind == Kind.BOOKED) | (acts.kind == Kind.REPLIED)) & (acts.message == 0)
    mine = np.flatnonzero(loose)
    mine = mine[acts.at[mine] <= now]
    if not len(mine) or not len(rows):
        return np.zeros(0, np.int64)
    who = np.unique(acts.person[mine]).astype(np.int64)
    sizes = columns.start[who + 1] - columns.start[who]
    place = np.repeat(columns.start[who] - np.concatenate(([0], np.cumsum(sizes)[:-1])), sizes) + np.arange(sizes.sum())
    place = place[(rows.first_at[place] <= now) & (rows.failed_at[place] > now)]
    if not len(place):
        return np.zeros(0, np.int64)
    begin = int(min(rows.first_at[place].min(), acts.at[mine].min()))
    span = int(max(rows.first_at[place].max(), acts.at[mine].max())) - begin + 1
    line = rows.person[place].astype(np.int64) * span + (rows.first_at[place] - begin)
    person = acts.person[mine].astype(np.int64)
    found = np.searchsorted(line, person * span + (acts.at[mine] - begin), side="right") - 1
    at = place[np.maximum(found, 0)]
    return np.unique(at[(found >= 0) & (rows.person[at] == person)])


@dataclass(frozen=True)
class Marks:
    """Of some rows: delivered, engaged with, reacted to (a click, reply or booking), opened by a machine (``blind``: and
    not seen to be opened by the person, but for clicks), settled, and first sent since their person rejoined."""

    delivered: Mask
    engaged: Mask
    reacted: Mask
    machine: Mask
    blind: Mask
    settled: Mask
    fresh: Mask

    def reading(self) -> tuple[Mask, Mask]:
        """Engaged with, and ignored: what the chance to engage is told from."""
        mine = self.engaged & self.fresh
        return mine, self.delivered & self.fresh & self.settled & ~self.engaged & ~self.machine

    def clicking(self) -> tuple[Mask, Mask]:
        """Clicked and not clicked: what the chance to click is told from, where reading cannot be seen."""
        mine = self.reacted & self.fresh
        return mine, self.delivered & self.fresh & self.settled & ~self.reacted


def marks(columns: Columns, now: int, settled: int, loose: I64, a: int, b: int, since: I64, owner: I64 | I32) -> Marks:
    """Of the rows ``a:b``; ``loose`` from ``engaged_by_itself``, ``since`` of the people that ``owner`` points at."""
    rows = columns.rows
    first = rows.first_at[a:b]
    delivered = (first <= now) & (rows.failed_at[a:b] > now)
    reacted = (rows.reacted_at[a:b] <= now) & delivered
    if len(loose):
        i, j = np.searchsorted(loose, [a, b])
        reacted[loose[i:j] - a] = True
    engaged = ((rows.opened_at[a:b] <= now) & delivered) | reacted
    anew = bool((since > NEVER).any())
    fresh = first > since[owner] if anew else np.ones(len(first), bool)
    machine = (rows.machine_at[a:b] <= now) & delivered
    opened = rows.opened_at[a:b]  # the click itself where no open was seen before it
    blind = machine & ((opened > now) | (opened >= rows.clicked_at[a:b]))
    return Marks(delivered, engaged, reacted, machine, blind, first <= now - settled, fresh)


def hidden(blind: I32, delivered: I32) -> Mask:
    """Whose reading cannot be seen: at least half of what was delivered to them lately was opened by machines and not
    seen to be opened by themselves, and enough of it. What they click can be seen."""
    return (blind * 2 >= delivered) & (blind >= FEW_BLIND)


def of_everybody(columns: Columns, now: int, settled: int, window: int) -> tuple[Counts, Counts, Mask]:
    """The counts of reading and of clicking for a fit, as of ``now``: of settled messages alone, so that no message
    counts only because it was engaged with quickly. Also whose reading could not be seen in the last ``window`` days."""
    rows, loose = columns.rows, engaged_by_itself(columns, now)
    found = marks(columns, now, settled, loose, 0, len(rows), columns.people.since, rows.person)
    read, clicked = (
        counts(done & found.settled, left, columns.start) for done, left in (found.reading(), found.clicking())
    )
    lately, people = found.delivered & (rows.first_at > now - window * DAY), len(columns.people)
    blind, delivered = (
        np.bincount(rows.person[mask], minlength=people).astype(np.int32) for mask in (lately & found.blind, lately)
    )
    return read, clicked, hidden(blind, delivered)
