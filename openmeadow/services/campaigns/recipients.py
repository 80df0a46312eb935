"""Whom a campaign goes to: segments and lists in, segments, lists and people out, everyone once, the eligibility
check, and why not."""

from __future__ import annotations

import csv
import io
from dataclasses import dataclass, field

import numpy as np

from openmeadow.core.addresses.aliases import Rules, alias_rules
from openmeadow.core.arrays import I64, Mask
from openmeadow.core.consent.eligibility import REASONS, Answer
from openmeadow.core.errors import Refused
from openmeadow.core.rules.conditions import View
from openmeadow.core.states import Side
from openmeadow.services.subscribers.export import safe
from openmeadow.services.workspace import Workspace
from openmeadow.store.campaigns import campaigns
from openmeadow.store.campaigns.records import Campaign
from openmeadow.store.segments import segments
from openmeadow.store.segments.permission_facts import StoreFacts
from openmeadow.store.subscribers import subscribers
from openmeadow.store.subscribers.similarity import one_mailbox

ROWS_AT_ONCE = 500  # people read together for a file
LEFT_OUT, SAME_MAILBOX = "Excluded", "Duplicate mailbox"


@dataclass(frozen=True)
class Recipients:
    """``index`` are rows of the view's people; ``exclusions`` the steps from chosen to permitted, (words, people);
    ``excluded`` who fell out at each step."""

    view: View
    index: I64
    exclusions: list[tuple[str, int]]
    excluded: dict[str, Mask] = field(repr=False, default_factory=dict)

    @property
    def subscriber(self) -> I64:
        """The ids of the recipients, ascending."""
        return self.view.columns.people.id[self.index]


def chosen(workspace: Workspace, view: View, ids: list[int]) -> Mask:
    """Who is in any of some segments; Refused where one is gone."""
    mask = np.zeros(len(view.alive), bool)
    for row_id in ids:
        row = segments.one(workspace.store.read(), row_id)
        if row is None:
            raise Refused("A selected segment does not exist any more. Choose again.")
        mask |= view.mask(workspace.checked_rule(row.rule, view, row.name))
    return mask


def gate(view: View, row: Campaign, *, limits: bool) -> Answer | None:
    """The eligibility check's answer for a campaign: for its purpose, or for what a consent request asks about; None for none."""
    assert isinstance(view.facts, StoreFacts)
    return eligibility_of(view.facts, row, limits=limits)


def eligibility_of(facts: StoreFacts, row: Campaign, *, limits: bool) -> Answer | None:
    """Who may be mailed for a campaign and why not; None while it has no purpose."""
    if row.kind == "consent request":
        return facts.may_ask(row.asks, limits=limits)
    if not row.purpose_name:
        return None
    return facts.may(row.purpose_name, limits=limits, sequences=not row.with_sequences, kind=row.gate)


def sides(workspace: Workspace, view: View, row: Campaign) -> tuple[Mask, Mask]:
    """Who is chosen by a campaign's segments, lists or one by one, and who is left out."""
    assert isinstance(view.facts, StoreFacts)
    db, ids = workspace.store.read(), view.columns.people.id
    both = []
    for side, chosen_segments, lists in (
        (Side.IN, row.segments_in, row.lists_in),
        (Side.OUT, row.segments_out, row.lists_out),
    ):
        mask = chosen(workspace, view, chosen_segments)
        for name in lists:
            mask |= view.facts.in_list(name) & view.alive
        people = np.array(campaigns.people(db, row.id, side), np.int64)
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


def work_out(workspace: Workspace, row: Campaign, *, limits: bool = False) -> Recipients:
    """A campaign's recipients as of now. Counts are negative for those who fall out; the first and last are totals."""
    view = workspace.view()
    assert isinstance(view.facts, StoreFacts)
    within, without = sides(workspace, view, row)
    exclusions, excluded, left = [("Selected", int(within.sum()))], {}, within

    def drop(words: str, mask: Mask) -> None:
        nonlocal left
        gone = left & mask
        if gone.any():
            exclusions.append((words, -int(gone.sum())))
            excluded[words] = gone
            left = left & ~gone

    drop(LEFT_OUT, without)
    answer = gate(view, row, limits=limits)
    if answer is not None:
        for i, reason in enumerate(REASONS):
            drop(reason.capitalize(), np.asarray(answer.first == i))
    drop(SAME_MAILBOX, _once(view, left, alias_rules(workspace.setting("alias_rules"))))
    exclusions.append(("May be mailed", int(left.sum())))
    return Recipients(view, np.flatnonzero(left), exclusions, excluded)


def excluded_csv(workspace: Workspace, row: Campaign, reason: str) -> str:
    """Those who fell out by one of the exclusions' reasons: address, name, and the reason."""
    found = work_out(workspace, row)
    mask = found.excluded.get(reason)
    ids: list[int] = [] if mask is None else found.view.columns.people.id[np.flatnonzero(mask)].tolist()
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(("email", "name", "reason"))
    for at in range(0, len(ids), ROWS_AT_ONCE):
        for r in subscribers.by_ids(workspace.store.read(), ids[at : at + ROWS_AT_ONCE]).values():
            writer.writerow((safe(r.email), safe(r.name or ""), reason))
    return out.getvalue()
