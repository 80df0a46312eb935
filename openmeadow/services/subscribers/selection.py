"""Whom an act or a page is about: by marks, by a rule, a band, a part of the text; and in which order."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from openmeadow.core.arrays import I64, NEVER, Array, Mask
from openmeadow.core.engagement.bands import BANDS
from openmeadow.core.errors import Refused
from openmeadow.core.rules.conditions import View
from openmeadow.services.workspace import Workspace
from openmeadow.store.segments.permission_facts import StoreFacts
from openmeadow.store.subscribers import subscribers

SORTS = ("score", "band", "last_engaged", "ignored", "joined_at", "email", "provider", "source")


@dataclass(frozen=True)
class Choice:
    """People by ``ids`` where they are given, else everybody whom rule, bands and text hold for; never ``without``.
    ``also``: groups of ``sunset.SPARED`` that an act that stops mailing takes in."""

    rule: str = ""
    text: str = ""
    bands: tuple[str, ...] = ()
    ids: tuple[int, ...] | None = None
    without: tuple[int, ...] = ()
    also: tuple[str, ...] = ()


def chosen(workspace: Workspace, view: View, choice: Choice) -> Mask:
    """The mask of a choice; mistakes in its rule point at their place."""
    mask = view.alive.copy()
    ids = view.columns.people.id
    if choice.ids is not None:
        mask &= np.isin(ids, np.array(choice.ids, np.int64))
    else:
        if choice.bands:
            mask &= np.isin(view.scores.band, [BANDS.index(b) for b in choice.bands if b in BANDS])
        if choice.rule.strip():
            mask &= view.mask(workspace.checked_rule(choice.rule, view))
        if choice.text.strip():
            mask &= np.isin(ids, np.array(subscribers.matching(workspace.store.read(), choice.text.strip()), np.int64))
    if choice.without:
        mask &= ~np.isin(ids, np.array(choice.without, np.int64))
    return mask


def ordered(workspace: Workspace, view: View, mask: Mask, sort: str, falling: bool) -> I64:
    """The row numbers of the mask's people, sorted by one of SORTS."""
    if sort not in SORTS:
        raise Refused(f"The table cannot be sorted by “{sort}”.")
    index = np.flatnonzero(mask)
    assert isinstance(view.facts, StoreFacts)
    if sort == "email":
        order = subscribers.in_order_of_address(workspace.store.read())
        rank = np.empty(len(order), np.int64)
        rank[np.searchsorted(view.columns.people.id, order)] = np.arange(len(order))
        key: Array = rank[index]
    elif sort in ("provider", "source"):
        key = getattr(view.facts, sort)[index]
    elif sort == "joined_at":
        key = view.columns.people.joined_at[index]
    elif sort == "last_engaged":
        key = view.last_engaged[index]
    else:
        s = view.scores
        by_name: dict[str, Array] = {"score": s.score, "band": -s.band.astype(np.int64), "ignored": s.ignored}
        key = by_name[sort][index]
    return index[np.argsort(-key if falling else key, kind="stable")]


def last_engaged_of(view: View, person: int) -> int | None:
    """When somebody last engaged; None for never."""
    at = int(view.last_engaged[person])
    return None if at == NEVER else at
