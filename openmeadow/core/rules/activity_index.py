"""Acts arranged for counting: each stream sorted by day and, within a day, by person; every act knows the one before
it on the same message. The distinct messages of any window are counted in one run through that window alone, and the
pass walks through the people in order, which is cache-friendly."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from dataclasses import dataclass, field, fields
from typing import ClassVar

import numpy as np

from openmeadow.core.arrays import I32, I64, NEVER, Mask, inserted
from openmeadow.core.columns import MACHINE, Acts, Columns, Rows
from openmeadow.core.events import Kind
from openmeadow.core.moments import DAY

_KINDS = {
    "opened": ((Kind.OPENED, Kind.CLICKED), False),
    "opened by anyone": ((Kind.OPENED, Kind.CLICKED), True),
    "clicked": ((Kind.CLICKED,), False),
    "replied": ((Kind.REPLIED,), False),
    "engaged": ((Kind.OPENED, Kind.CLICKED, Kind.REPLIED, Kind.BOOKED), False),
}
RECEIVED = "received"
NO_MESSAGE = 0  # of a booking that belongs to none


@dataclass(frozen=True)
class Stream:
    """``before`` is the moment of the previous act of the same person on the same message, or NEVER; for the
    stream of first sends (RECEIVED) it is when the message failed, or FAR. The day is that of ``at``: it is no column
    of its own, as only its edges are looked for."""

    at: I32
    person: I32
    message: I32
    before: I32

    def window(self, since: int, now: int) -> tuple[slice, Mask]:
        """The stretch that holds all of (since, now], and which of it lies inside."""
        low, high = since // DAY, now // DAY
        places = range(len(self.at))
        part = slice(bisect_left(places, low, key=self._day), bisect_right(places, high, key=self._day))
        at = self.at[part]
        return part, (at > since) & (at <= now)

    def _day(self, place: int) -> int:
        return int(self.at[place]) // DAY


def _by_day(at: I32, person: I32, message: I32, before: I32) -> Stream:
    order = np.lexsort((person, at // DAY))
    return Stream(at[order], person[order], message[order], before[order])


def arrange_rows(rows: Rows) -> Stream:
    """First passes, so that a window costs what lies in it and not what lies there."""
    return _by_day(rows.first_at, rows.person, rows.message, rows.failed_at)


def arrange(acts: Acts, name: str) -> Stream:
    """Acts of one of the kinds by time."""
    kinds, machines_too = _KINDS[name]
    chosen = np.isin(acts.kind, kinds)
    if not machines_too:
        chosen &= acts.by != MACHINE
    at, person, message = acts.at[chosen], acts.person[chosen], acts.message[chosen]
    order = np.lexsort((at, message, person))
    same = (person[order][1:] == person[order][:-1]) & (message[order][1:] == message[order][:-1])
    before = np.full(len(at), NEVER, np.int32)
    same &= message[order][1:] != NO_MESSAGE
    before[order[1:][same]] = at[order[:-1][same]]
    return _by_day(at, person, message, before)


def arranged(columns: Columns, name: str, who: Mask | None = None) -> Stream:
    """One of the streams, of everybody or of some people."""
    table: Rows | Acts = columns.rows if name == RECEIVED else columns.acts
    if who is not None:
        chosen = who[table.person]
        table = type(table)(**{f.name: getattr(table, f.name)[chosen] for f in fields(table)})
    return arrange_rows(table) if isinstance(table, Rows) else arrange(table, name)


def spliced(old: Stream, touched: Mask, fresh: Stream) -> Stream:
    """``old`` with everything of the touched people taken from ``fresh``."""
    keep = ~touched[old.person]

    def key(s: Stream, which: Mask | slice) -> I64:
        return ((s.at[which] // DAY).astype(np.int64) << 32) | s.person[which]

    at = np.searchsorted(key(old, keep), key(fresh, slice(None)))
    return Stream(*(inserted(getattr(old, f.name)[keep], at, getattr(fresh, f.name)) for f in fields(Stream)))


@dataclass
class Streams:
    """The streams of some columns, each arranged when first asked for."""

    NAMES: ClassVar[tuple[str, ...]] = (*_KINDS, RECEIVED)
    columns: Columns
    made: dict[str, Stream] = field(default_factory=dict)

    def stream(self, name: str) -> Stream:
        """One of NAMES, arranged."""
        if name not in self.made:
            self.made[name] = arranged(self.columns, name)
        return self.made[name]

    def spliced(self, columns: Columns, touched: I64) -> Streams:
        """The streams of columns in which what is known of some people has changed, without arranging all anew."""
        hit = np.zeros(len(columns.people), bool)
        hit[touched] = True
        made = {name: spliced(old, hit, arranged(columns, name, hit)) for name, old in self.made.items()}
        return Streams(columns, made)

    def delivered(self, since: int, now: int, only: list[int] | None = None) -> I64:
        """How many messages, first sent in (since, now] and not failed by now, each person received."""
        s = self.stream(RECEIVED)
        part, hit = s.window(since, now)
        hit &= s.before[part] > now
        if only is not None:
            hit &= np.isin(s.message[part], only)
        return np.bincount(s.person[part][hit], minlength=len(self.columns.people))

    def messages(self, name: str, since: int, now: int, only: list[int] | None = None) -> I64:
        """How many different messages each person acted on in (since, now]."""
        s = self.stream(name)
        part, new = s.window(since, now)
        new &= s.before[part] <= since
        if only is not None:
            new &= np.isin(s.message[part], only)
        return np.bincount(s.person[part][new], minlength=len(self.columns.people))
