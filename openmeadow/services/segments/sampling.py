"""A random part of a segment, as a list of its own."""

from __future__ import annotations

import secrets

import numpy as np

from openmeadow.core.delivery.randomise import draw
from openmeadow.core.errors import Missing, Refused
from openmeadow.services import models
from openmeadow.services.subscribers import bulk_actions
from openmeadow.services.subscribers.selection import Choice
from openmeadow.services.workspace import Workspace
from openmeadow.store.segments import segments
from openmeadow.store.subscribers import subscribers


def sample(workspace: Workspace, row_id: int, given: models.SampleIn, who: str) -> models.ActionDone:
    """Put so many subscribers of a segment, each with the same chance, on a new list; undone like any other addition.
    Refused where the segment has fewer, or the list is there already."""
    row, name = segments.one(workspace.store.read(), row_id), " ".join(given.list.split())
    if row is None:
        raise Missing("This segment does not exist any more.")
    if not name:
        raise Refused("The list needs a name.")
    if any(r.name.lower() == name.lower() for r in subscribers.names(workspace.store.read(), "lists")):
        raise Refused(f"There is already a list “{name}”. Choose another name, so that the sample stays one.")
    _, view, rule, _ = workspace.count(row.rule, own_name=row.name)
    ids = view.columns.people.id[view.mask(rule)]
    if given.people > len(ids):
        raise Refused(f"“{row.name}” has {len(ids):,} subscribers; choose at most as many.")
    lot = np.argsort(draw(secrets.randbits(63), ids))[: given.people]
    chosen = Choice(ids=tuple(np.sort(ids[lot]).tolist()))
    return bulk_actions.start(workspace, "list", name, chosen, who)
