"""The deliveries of a campaign that is being started: written some at a time while it is still a draft, so that nobody
else waits for a large one. A start that was cut off leaves rows that the next one removes."""

from __future__ import annotations

import fcntl
from collections.abc import Iterator
from contextlib import contextmanager

import numpy as np

from openmeadow.core.arrays import F64, I64, Array
from openmeadow.core.delivery.schedule import Schedule
from openmeadow.core.errors import Refused
from openmeadow.core.ids import CampaignId
from openmeadow.core.states import DeliveryState
from openmeadow.services.workspace import Workspace
from openmeadow.store.campaigns import batches as batch_table
from openmeadow.store.campaigns import deliveries
from openmeadow.store.turns import Turns

LOCK = "starting.lock"
WHY_NOT = "the campaign cannot finish before its end date"


@contextmanager
def one_start(workspace: Workspace) -> Iterator[None]:
    """Only one campaign is started at a time; Refused where another is."""
    with (workspace.folder / LOCK).open("w") as f:
        try:
            fcntl.flock(f, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            raise Refused("A campaign is being started just now. Try again in a moment.") from None
        yield


def clear(workspace: Workspace, campaign: CampaignId) -> None:
    """Remove what a start that was cut off has left of a draft."""
    turns = Turns(workspace.store)
    for send in batch_table.passes(workspace.store.read(), campaign):
        turns.each(deliveries.ids_of_send(workspace.store.read(), send.id), deliveries.remove)
    with workspace.store.atomic() as db:
        batch_table.remove(db, campaign)


def write(workspace: Workspace, campaign: CampaignId, drawn: Schedule, subscriber: I64, band: Array, chance: F64) -> int:
    """The batches and everybody's delivery, by ascending subscriber, with the band and the chance to engage that each
    has now; the id of the send."""
    parts = np.round(10_000 * chance).astype(np.int64)
    sizes = np.bincount(drawn.batch[drawn.batch >= 0], minlength=len(drawn.moments)).tolist()
    with workspace.store.atomic() as db:
        first = batch_table.add_pass(db, campaign, "first")
        batches = [
            batch_table.add_batch(db, first, i + 1, at, n)
            for i, (at, n) in enumerate(zip(drawn.moments, sizes, strict=True))
        ]
    turns = Turns(workspace.store)
    # by ascending subscriber, which is how the indexes of deliveries grow without being torn
    for part in turns.over(range(len(subscriber))):
        some = slice(part[0], part[-1] + 1)
        with turns.part(part) as db:
            deliveries.add_deliveries(
                db,
                (
                    (first, batches[0], s, 0, b, DeliveryState.SKIPPED, WHY_NOT, c)
                    if n < 0
                    else (first, batches[n], s, 0, b, DeliveryState.QUEUED, None, c)
                    for s, b, n, c in zip(
                        *(a[some].tolist() for a in (subscriber, band, drawn.batch, parts)), strict=True
                    )
                ),
            )
    return first
