"""A view whose columns lack what came last: the people it touched stand in a small view of their own beside the large
one, whose arrays are as they were. What a rule says of somebody follows from that person alone, so both answer and the
small one stands where it knows better."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, fields, replace

import numpy as np

from openmeadow.core.arrays import I32, I64, Array, Mask
from openmeadow.core.columns import Acts, Columns, People, Rows, starts
from openmeadow.core.engagement.subset import subset
from openmeadow.core.rules.activity_index import Streams
from openmeadow.core.rules.conditions import MOST_KEPT, Facts, Part, Rule, View


@dataclass(frozen=True)
class Late:
    """People with news: their places among everybody, ascending, and all that is known of them."""

    at: I64
    columns: Columns
    streams: Streams
    seen: int

    def among(self, everybody: People) -> Columns:
        """The same as columns of everybody, in which the others have nothing."""
        rows, acts = self.columns.rows, self.columns.acts
        person = self.at.astype(rows.person.dtype)
        placed = replace(rows, person=person[rows.person])
        return Columns(
            everybody, placed, replace(acts, person=person[acts.person]), starts(placed.person, len(everybody))
        )


class MergedColumns(Columns):
    """Columns that are put together when rows or acts of everybody are first asked for; the people are there at once."""

    def __init__(self, people: People, merge: Callable[[], Columns]) -> None:
        object.__setattr__(self, "people", people)
        object.__setattr__(self, "_merge", merge)

    @property
    def rows(self) -> Rows:
        return self._merge().rows  # type: ignore[attr-defined,no-any-return]

    @property
    def acts(self) -> Acts:
        return self._merge().acts  # type: ignore[attr-defined,no-any-return]

    @property
    def start(self) -> I64:
        return self._merge().start  # type: ignore[attr-defined,no-any-return]


def _take(table: Rows | Acts, chosen: Array) -> dict[str, Array]:
    return {f.name: getattr(table, f.name)[chosen] for f in fields(table)}


class FactsOf:
    """The facts of the people at some places among everybody."""

    def __init__(self, facts: Facts, at: I64) -> None:
        self.facts, self.at = facts, at
        self.message_ids, self.segment = facts.message_ids, facts.segment

    def soft_failures(self) -> tuple[I32, I64]:
        person, when = self.facts.soft_failures()
        place = np.minimum(np.searchsorted(self.at, person), len(self.at) - 1)
        mine = self.at[place] == person
        return place[mine].astype(np.int32), when[mine]

    def __getattr__(self, name: str) -> Callable[..., Array]:
        """All others answer with one entry a person."""
        answer: Callable[..., Array] = getattr(self.facts, name)
        return lambda *given: np.asarray(answer(*given))[self.at]


@dataclass
class LateView(View):
    """``base`` knows everybody as of before, ``small`` the people at the places ``at`` as of now. ``columns`` are merged
    when they are asked for."""

    base: View | None = None
    small: View | None = None
    at: I64 | None = None

    def _both(self) -> tuple[View, View, I64]:
        assert self.base is not None and self.small is not None and self.at is not None
        return self.base, self.small, self.at

    def mask(self, rule: Rule) -> Mask:
        found = self.known.get(rule)
        if found is None:
            base, small, at = self._both()
            found = base.mask(rule).copy()
            found[at] = small.mask(rule)
            if len(self.known) < MOST_KEPT or rule.names_a_segment:
                self.known[rule] = found
        return found

    @property
    def last_engaged(self) -> I64:
        base, small, at = self._both()
        if "scores" in self.__dict__:
            return self.scores.last_engaged
        out = base.last_engaged.copy()
        out[at] = small.last_engaged
        return out

    def parts(self) -> list[Part]:
        base, small, at = self._both()
        stale = np.zeros(len(self.alive), bool)
        stale[at] = True
        return [Part(base.columns, stale=stale), Part(small.columns, at)]

    def rows_of(self, message: int) -> Rows:
        base, small, _ = self._both()
        return Rows(**self._of(base.columns.rows, small.columns.rows, message))

    def acts_of(self, message: int) -> Acts:
        base, small, _ = self._both()
        return Acts(**self._of(base.columns.acts, small.columns.acts, message))

    def _of(self, old: Rows | Acts, new: Rows | Acts, message: int) -> dict[str, Array]:
        """The entries of one message: of the people at ``at`` from ``new``, of all others from ``old``."""
        at = self._both()[2]
        touched = np.zeros(len(self.alive), bool)
        touched[at] = True
        mine = np.flatnonzero(old.message == message)
        a, b = _take(old, mine[~touched[old.person[mine]]]), _take(new, new.message == message)
        b["person"] = at[b["person"]].astype(np.int32)
        order = np.argsort(np.concatenate((a["person"], b["person"])), kind="stable")
        return {k: np.concatenate((a[k], b[k]))[order] for k in a}

    def of_person(self, person: int) -> tuple[Columns, int]:
        base, small, at = self._both()
        place = int(np.searchsorted(at, person))
        if place < len(at) and at[place] == person:
            return small.columns, place
        return base.columns, person


def with_people(columns: Columns, people: People) -> Columns:
    """The same columns where more people, without any events yet, stand after the others."""
    more = len(people) - len(columns.people)
    return Columns(people, columns.rows, columns.acts, np.concatenate((columns.start, np.full(more, columns.start[-1]))))


def together(a: Columns, b: Columns) -> Columns:
    """The columns of two sets of people, none in both, by ascending id."""
    ids = np.concatenate((a.people.id, b.people.id))
    order = np.argsort(ids)
    place = np.empty(len(ids), np.int32)
    place[order] = np.arange(len(ids), dtype=np.int32)
    shift = len(a.people)

    def both(x: Rows | Acts, y: Rows | Acts) -> dict[str, Array]:
        person = place[np.concatenate((x.person, y.person + shift))]
        by = np.argsort(person, kind="stable")
        out = {f.name: np.concatenate((getattr(x, f.name), getattr(y, f.name)))[by] for f in fields(x)}
        out["person"] = person[by]
        return out

    people = People(
        **{f.name: np.concatenate((getattr(a.people, f.name), getattr(b.people, f.name)))[order] for f in fields(People)}
    )
    rows = Rows(**both(a.rows, b.rows))
    return Columns(people, rows, Acts(**both(a.acts, b.acts)), starts(rows.person, len(people)))


def later(old: Late | None, fresh: Columns, at: I64, seen: int) -> Late:
    """The people with news, with ``fresh`` columns of those at the places ``at`` instead of what was known of them."""
    if old is not None and not np.isin(old.at, at).all():
        stay = np.flatnonzero(~np.isin(old.at, at))
        fresh = together(subset(old.columns, stay), fresh)
        at = np.union1d(old.at[stay], at)
    return Late(at, fresh, Streams(fresh), seen)
