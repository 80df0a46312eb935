"""Whom a campaign goes to: segments in, segments out, everyone once, the gate, and why not."""

from __future__ import annotations

import json
from dataclasses import dataclass
from typing import Any

import numpy as np

from openmeadow.core.columns import I64, Mask
from openmeadow.core.consent.gate import Answer
from openmeadow.core.errors import Refused
from openmeadow.core.rules.tree import View
from openmeadow.desk.desk import Desk
from openmeadow.store import campaigns, segments
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


def gate(view: View, row: Any, *, limits: bool) -> Answer | None:
    """The gate's answer for a campaign: for its purpose, or for what a consent request asks about; None for none."""
    assert isinstance(view.facts, StoreFacts)
    return gate_of(view.facts, row, limits=limits)


def gate_of(facts: StoreFacts, row: Any, *, limits: bool) -> Answer | None:
    if row["kind"] == "consent request":
        return facts.may_ask(json.loads(row["asks"]), limits=limits)
    return facts.may(row["purpose_name"], limits=limits) if row["purpose_name"] else None


def sides(desk: Desk, view: View, row: Any) -> tuple[Mask, Mask]:
    """Who is chosen by a campaign's segments or one by one, and who is left out."""
    db, ids = desk.store.read(), view.columns.people.id
    both = []
    for side in ("in", "out"):
        mask = chosen(desk, view, json.loads(row[f"segments_{side}"]))
        people = np.array(campaigns.people(db, row["id"], side), np.int64)
        both.append(mask | (view.alive & np.isin(ids, people)) if len(people) else mask)
    return both[0], both[1]


def work_out(desk: Desk, row: Any, *, limits: bool = False) -> Recipients:
    """A campaign's recipients as of now. Counts are negative for those who fall out; the first and last are totals."""
    view = desk.view()
    within, without = sides(desk, view, row)
    sieve = [("Chosen", int(within.sum()))]
    if (without & within).any():
        sieve.append(("Left out", -int((without & within).sum())))
    left = within & ~without
    answer = gate(view, row, limits=limits)
    if answer is not None:
        sieve += [(reason.capitalize(), -count) for reason, count in answer.sieve(left)]
        left &= answer.permitted
    sieve.append(("Permitted", int(left.sum())))
    return Recipients(view, np.flatnonzero(left), sieve)
