"""The columns of some people."""

from __future__ import annotations

import itertools
from dataclasses import fields, replace
from typing import TypeVar

import numpy as np

from openmeadow.core.arrays import I64, Array
from openmeadow.core.columns import Acts, Columns, People, Rows, starts

T = TypeVar("T", People, Rows, Acts)


def subset(columns: Columns, who: I64) -> Columns:
    """The columns of some people only (row numbers ascending), renumbered from 0."""
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


def run_of(columns: Columns, people: slice) -> Columns:
    """The columns of people who stand beside each other, renumbered from 0. Views: only who it was is copied."""
    a, b = (int(columns.start[n]) for n in (people.start, people.stop))
    c, d = np.searchsorted(columns.acts.person, np.array([people.start, people.stop], np.int32)).tolist()

    def cut(table: T, part: slice) -> T:
        return replace(table, **{f.name: getattr(table, f.name)[part] for f in fields(table)})

    rows, acts = cut(columns.rows, slice(a, b)), cut(columns.acts, slice(c, d))
    return Columns(
        cut(columns.people, people),
        replace(rows, person=rows.person - np.int32(people.start)),
        replace(acts, person=acts.person - np.int32(people.start)),
        columns.start[people.start : people.stop + 1] - a,
    )


def runs(columns: Columns, size: int) -> list[slice]:
    """People in runs of about so many deliveries; at least one run."""
    count = len(columns.people)
    edges = np.searchsorted(columns.start, np.arange(size, len(columns.rows), size)).clip(0, count)
    return [slice(a, b) for a, b in itertools.pairwise(np.unique([0, *edges.tolist(), count]).tolist())] or [slice(0, 0)]
