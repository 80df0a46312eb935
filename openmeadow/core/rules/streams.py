"""Acts arranged for counting: each stream sorted by time, every act knowing the one before it on the same
message, so that the distinct messages of any window are counted in one pass over that window alone."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import ClassVar

import numpy as np

from openmeadow.core.columns import I32, I64, MACHINE, NEVER, Acts, Columns, Kind, Rows

_KINDS = {
    "opened": ((Kind.OPENED, Kind.CLICKED), False),
    "looked": ((Kind.OPENED, Kind.CLICKED), True),
    "clicked": ((Kind.CLICKED,), False),
    "replied": ((Kind.REPLIED,), False),
}


GOT = "got"


@dataclass(frozen=True)
class Stream:
    """``before`` is the moment of the previous act of the same person on the same message, or NEVER; for the
    stream of first passes (GOT) it is when the message failed, or FAR."""

    at: I64
    person: I32
    message: I32
    before: I64


def arrange_rows(rows: Rows) -> Stream:
    """First passes by time, so that a window costs what lies in it and not what lies there."""
    by_time = np.argsort(rows.first_at, kind="stable")
    return Stream(rows.first_at[by_time], rows.person[by_time], rows.message[by_time], rows.failed_at[by_time])


def arrange(acts: Acts, name: str) -> Stream:
    """Acts of one of the kinds by time."""
    kinds, machines_too = _KINDS[name]
    chosen = np.isin(acts.kind, kinds)
    if not machines_too:
        chosen &= acts.by != MACHINE
    at, person, message = acts.at[chosen], acts.person[chosen], acts.message[chosen]
    order = np.lexsort((at, message, person))
    same = (person[order][1:] == person[order][:-1]) & (message[order][1:] == message[order][:-1])
    before = np.full(len(at), NEVER, np.int64)
    before[order[1:][same]] = at[order[:-1][same]]
    by_time = np.argsort(at, kind="stable")
    return Stream(at[by_time], person[by_time], message[by_time], before[by_time])


@dataclass
class Streams:
    """The streams of some columns, each arranged when first asked for."""

    NAMES: ClassVar[tuple[str, ...]] = (*_KINDS, GOT)
    columns: Columns
    made: dict[str, Stream] = field(default_factory=dict)

    def stream(self, name: str) -> Stream:
        """One of NAMES, arranged."""
        if name not in self.made:
            self.made[name] = arrange_rows(self.columns.rows) if name == GOT else arrange(self.columns.acts, name)
        return self.made[name]

    def delivered(self, since: int, now: int, only: list[int] | None = None) -> I64:
        """How many messages, first sent in (since, now] and not failed by now, each person got."""
        s = self.stream(GOT)
        a, b = np.searchsorted(s.at, (since, now), side="right")
        hit = s.before[a:b] > now
        if only is not None:
            hit &= np.isin(s.message[a:b], only)
        return np.bincount(s.person[a:b][hit], minlength=len(self.columns.people))

    def messages(self, name: str, since: int, now: int, only: list[int] | None = None) -> I64:
        """How many different messages each person acted on in (since, now]."""
        s = self.stream(name)
        a, b = np.searchsorted(s.at, (since, now), side="right")
        new = s.before[a:b] <= since
        if only is not None:
            new &= np.isin(s.message[a:b], only)
        return np.bincount(s.person[a:b][new], minlength=len(self.columns.people))
