"""Made-up history of any size, straight as columns: the same arrays for us and for the peers."""

from __future__ import annotations

import numpy as np

from openmeadow.core.arrays import FAR, NEVER
from openmeadow.core.columns import Acts, Columns, People, Rows, starts
from openmeadow.core.events import Kind
from openmeadow.core.moments import DAY

NOW = 1_773_308_520


def make(people: int, deliveries: int, seed: int = 1) -> Columns:
    """``people`` with about ``deliveries`` weekly messages between them; a third opened, some clicked, 2% failed."""
    r = np.random.default_rng(seed)
    each = r.geometric(people / deliveries, people)
    each = np.minimum(each, 78)
    each = np.maximum((each * (deliveries / each.sum())).astype(np.int64), 0)
    person = np.repeat(np.arange(people, dtype=np.int32), each)
    start = starts(person, people)
    nth = np.arange(len(person)) - start[person]
    week = (each[person] - 1 - nth).astype(np.int64)  # the last message of everybody is the newest
    first = NOW - 3 * DAY - week * 7 * DAY + r.integers(0, 1800, len(person))
    message = (week + 1).astype(np.int32)
    chance = r.beta(1.0, 1.8, people)
    opened = r.random(len(person)) < chance[person]
    clicked = opened & (r.random(len(person)) < 0.15)
    machine = r.random(len(person)) < 0.05
    opened_at = np.where(opened, first + r.integers(60, 2 * DAY, len(person)), FAR)
    rows = Rows(
        person,
        message,
        first,
        np.where(r.random(len(person)) < 0.02, first + 5, FAR),
        opened_at,
        np.where(clicked, opened_at + 30, FAR),
        np.where(clicked, opened_at + 30, FAR),
        np.where(machine, first + 2, FAR),
    )
    at = np.concatenate((opened_at[opened], opened_at[clicked] + 30, first[machine] + 2))
    who = np.concatenate((person[opened], person[clicked], person[machine]))
    kind = np.repeat(
        np.array([Kind.OPENED, Kind.CLICKED, Kind.OPENED], np.int8), [opened.sum(), clicked.sum(), machine.sum()]
    )
    by = np.repeat(np.array([0, 0, 1], np.int8), [opened.sum(), clicked.sum(), machine.sum()])
    what = np.concatenate((message[opened], message[clicked], message[machine]))
    order = np.lexsort((at, who))
    acts = Acts(at[order], who[order], what[order], kind[order], by[order], 2 * by[order], np.zeros(len(at)))
    joined = NOW - 10 * DAY - each * 7 * DAY - r.integers(0, 30 * DAY, people)
    return Columns(
        People(np.arange(1, people + 1), joined, np.full(people, NEVER), np.zeros(people, np.int32)), rows, acts, start
    )
