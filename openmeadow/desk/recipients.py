"""Whom a campaign goes to: segments in, segments out, everyone once, the gate, and why not."""

from __future__ import annotations

import json
from dataclasses import dataclass

import numpy as np

from openmeadow.core.columns import I64, Mask
from openmeadow.core.errors import Refused
from openmeadow.core.rules.tree import View
from openmeadow.desk.desk import Desk
from openmeadow.store import segments
from openmeadow.store.facts import StoreFacts


@dataclass(frozen=True)
class Recipients:
    """``index`` are rows of the view's people; ``sieve`` the steps from chosen to permitted, (words, people)."""

    view: View
    index: I64
    sieve: list[tuple[str, int]]

    @property
    def subscriber(self) -> I64:
        return self.view.columns.people.id[self.index]


def chosen(desk: Desk, view: View, ids: list[int]) -> Mask:
    mask = np.zeros(len(view.alive), bool)
    for id in ids:
        row = segments.one(desk.store.read(), id)
        if row is None:
            raise Refused("A chosen segment is not there any more; choose again.")
        mask |= view.mask(desk.checked_rule(row["rule"], view, row["name"]))
    return mask


def work_out(desk: Desk, segments_in: str, segments_out: str, purpose: str | None, *, limits: bool = False) -> Recipients:
    """Recipients as of now. Counts are negative for those who fall out; the first and last are totals."""
    view = desk.view()
    assert isinstance(view.facts, StoreFacts)
    within = chosen(desk, view, json.loads(segments_in))
    sieve = [("Chosen by the segments", int(within.sum()))]
    without = chosen(desk, view, json.loads(segments_out)) & within
    if without.any():
        sieve.append(("In a segment left out", -int(without.sum())))
    left = within & ~without
    if purpose:
        answer = view.facts.may(purpose, limits=limits)
        sieve += [(reason.capitalize(), -count) for reason, count in answer.sieve(left)]
        left &= answer.permitted
    sieve.append(("Permitted", int(left.sum())))
    return Recipients(view, np.flatnonzero(left), sieve)
