"""Whom a campaign goes to: segments and lists in, segments, lists and people out, everyone once, the gate, and why not."""

from __future__ import annotations

import json
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from openmeadow.core.addresses.aliases import Rules, alias_rules
from openmeadow.core.columns import I64, Mask
from openmeadow.core.consent.gate import REASONS, Answer
from openmeadow.core.errors import Refused
from openmeadow.core.rules.tree import View
from openmeadow.desk.desk import Desk
from openmeadow.store import campaigns, segments
from openmeadow.store.facts import StoreFacts
from openmeadow.store.likeness import one_mailbox

LEFT_OUT, SAME_MAILBOX = "Left out", "The same mailbox as another address"


@dataclass(frozen=True)
class Recipients:
    """``index`` are rows of the view's people; ``sieve`` the steps from chosen to permitted, (words, people);
    ``fallen`` who fell out at each step."""

    view: View
    index: I64
    sieve: list[tuple[str, int]]
    fallen: dict[str, Mask] = field(repr=False, default_factory=dict)

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
    if not row["purpose_name"]:
        return None
    return facts.may(row["purpose_name"], limits=limits, sequences=not row["with_sequences"], kind=row["gate"])


def sides(desk: Desk, view: View, row: Any) -> tuple[Mask, Mask]:
    """Who is chosen by a campaign's segments, lists or one by one, and who is left out."""
    assert isinstance(view.facts, StoreFacts)
    db, ids = desk.store.read(), view.columns.people.id
    both = []
    for side in ("in", "out"):
        mask = chosen(desk, view, json.loads(row[f"segments_{side}"]))
        for name in json.loads(row[f"lists_{side}"]):
            mask |= view.facts.in_list(name) & view.alive
        people = np.array(campaigns.people(db, row["id"], side), np.int64)
        both.append(mask | (view.alive & np.isin(ids, people)) if len(people) else mask)
    return both[0], both[1]


def _once(view: View, left: Mask, rules: Rules) -> Mask:
    """Who shares a mailbox with somebody who is taken: of several, the most engaged is, then the first to come."""
    assert isinstance(view.facts, StoreFacts)
    box, out = one_mailbox(view.facts, rules), np.zeros(len(left), bool)
    several = np.flatnonzero(left & (box > 0))
    if len(several):
        order = several[np.lexsort((several, -view.scores.score[several], box[several]))]
        again = np.concatenate([[False], box[order][1:] == box[order][:-1]])
        out[order[again]] = True
    return out


def work_out(desk: Desk, row: Any, *, limits: bool = False) -> Recipients:
    """A campaign's recipients as of now. Counts are negative for those who fall out; the first and last are totals."""
    view = desk.view()
    assert isinstance(view.facts, StoreFacts)
    within, without = sides(desk, view, row)
    sieve, fallen, left = [("Chosen", int(within.sum()))], {}, within

    def drop(words: str, mask: Mask) -> None:
        nonlocal left
        gone = left & mask
        if gone.any():
            sieve.append((words, -int(gone.sum())))
            fallen[words] = gone
            left = left & ~gone

    drop(LEFT_OUT, without)
    answer = gate(view, row, limits=limits)
    if answer is not None:
        for i, reason in enumerate(REASONS):
            drop(reason.capitalize(), np.asarray(answer.first == i))
    drop(SAME_MAILBOX, _once(view, left, alias_rules(desk.setting("alias_rules"))))
    sieve.append(("Permitted", int(left.sum())))
    return Recipients(view, np.flatnonzero(left), sieve, fallen)
