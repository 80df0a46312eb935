"""The people who wait in a batch, looked at some ahead of their turn: what is asked of the database and of the rules costs
little more for many than for a few."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Sequence

from openmeadow.core.delivery.guardrails import EVERY as EVERY_LOOK
from openmeadow.services.campaigns import last_check, resend
from openmeadow.services.campaigns.composer import Addressee
from openmeadow.services.campaigns.composing import STALE, Composers
from openmeadow.services.campaigns.daily_caps import DailyCaps
from openmeadow.services.campaigns.renderer import Writer, person_fields
from openmeadow.services.campaigns.schedule import caps_of
from openmeadow.services.campaigns.smtp_delivery import Item, Turn
from openmeadow.services.workspace import Workspace
from openmeadow.store.campaigns import deliveries as deliveries_table
from openmeadow.store.campaigns.delivery_records import Batch, QueuedDelivery
from openmeadow.store.engagement import events
from openmeadow.store.subscribers.subscribers import facts_version
from openmeadow.store.turns import Turns

CHUNK = EVERY_LOOK  # guardrails are read between two of them
LOOKED_AT = 4 * CHUNK  # people at once


class Together:
    """What everything that goes out in one go shares: the processes that write it, and what providers still take today."""

    def __init__(self, workspace: Workspace, composers: Composers | None = None) -> None:
        self.composers, self.caps = composers or Composers(), DailyCaps(workspace)


class Ahead:
    """Those of one batch. What was found out is not used where the message was changed since, where a fact about anybody
    was, or after ``STALE`` seconds."""

    def __init__(self, workspace: Workspace, batch: Batch, together: Together, states: Sequence[str]) -> None:
        self._workspace, self._batch, self._together, self._states = workspace, batch, together, states
        self._looked = deque[tuple[QueuedDelivery, Addressee]]()
        self._writer: Writer | None = None
        self._after, self._at, self._seen = 0, 0, (0, 0)

    def turn(self, writer: Writer, after: int) -> tuple[Turn, int] | None:
        """The next people after one (0: from the beginning), and the last of them. None when nobody waits any more."""
        workspace, last = self._workspace, writer.plan.no_later_than
        if last is not None and not writer.row.sequence and workspace.now() > last:
            batch, now = self._batch.id, workspace.now()
            Turns(workspace.store).while_any(
                lambda db, most: deliveries_table.skip_rest(db, batch, last_check.TOO_LATE, now, most)
            )
            return None
        if not self._holds(writer, after):
            self._looked.clear()
            self._after = after
        if not self._looked and not self._look(writer):
            return None
        some = [self._looked.popleft() for _ in range(min(CHUNK, len(self._looked)))]
        self._after = some[-1][0].subscriber
        written = self._together.composers.written(writer.composer, [to for _, to in some], workspace.now())
        items = [Item(d, w) for (d, _), w in zip(some, written, strict=True)]
        return Turn(writer, items, self._fit(writer), self._together.caps.put_back, self._states), self._after

    def _holds(self, writer: Writer, after: int) -> bool:
        """Whether those who were looked at are the next ones, and as they were found."""
        return (
            self._writer is writer
            and self._after == after
            and 0 <= self._workspace.now() - self._at < STALE
            and facts_version(self._workspace.store.read()) == self._seen[1]
        )

    def _look(self, writer: Writer) -> bool:
        """Look at the next people until some are found who are sent to; who the eligibility check leaves out is noted with
        the reason. False when nobody waits any more."""
        workspace, batch, row = self._workspace, self._batch, writer.row
        db, after = workspace.store.read(), self._after
        variants = resend.arms_in(batch, writer.plan) if batch.kind != "first" else [None]
        self._writer, self._at, caps = writer, workspace.now(), caps_of(workspace, writer.plan)
        self._seen = events.highest(db), facts_version(db)
        while waiting := deliveries_table.waiting_of(db, batch.id, LOOKED_AT, after):
            after = waiting[-1].subscriber
            refused, facts = last_check.reasons(workspace, row, batch, waiting)
            if caps:
                refused |= last_check.over_caps(workspace, caps, facts, refused)
            place = {s: i for i, s in enumerate(facts.ids.tolist())}
            held: dict[int, list[set[str]]] = {}
            for d in waiting:
                reason = refused.get(d.subscriber)
                if reason:
                    last_check.not_now(workspace, row, batch, writer.plan, d, reason)
                    continue
                version = d.version or row.version
                if version not in held:
                    held[version] = writer.held(version, facts.ids)
                rules = held[version][place[d.subscriber]]
                to = writer.addressee(d, d.email, person_fields(d), variants[d.variant], rules)
                self._looked.append((d, to))
            if self._looked:
                return True
        return False

    def _fit(self, writer: Writer) -> Callable[[Item], bool]:
        """What is asked right before each goes out."""
        workspace, row, batch, seen = self._workspace, writer.row, self._batch, self._seen
        caps, take = caps_of(workspace, writer.plan), self._together.caps.take

        def fit(item: Item) -> bool:
            """Nothing came of them since the eligibility check was asked, or it was asked again and still says yes; and
            their provider takes one more today."""
            db, d, why = workspace.store.read(), item.delivery, ""
            if events.came_since(db, d.subscriber, seen[0]) or facts_version(db) != seen[1]:
                why = last_check.reasons(workspace, row, batch, [d])[0].get(d.subscriber, "")
            if not why and not take(d.provider, caps.get(d.provider)):
                why = last_check.CAP_FULL
            if why:
                last_check.not_now(workspace, row, batch, writer.plan, d, why)
            return not why

        return fit
