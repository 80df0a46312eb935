"""Sending on several connections at once: ``sending`` is written before DATA, the result after."""

from __future__ import annotations

import sqlite3
from collections import deque
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import partial

from openmeadow.core.authentication.hosts import return_domain
from openmeadow.core.delivery.relay_failures import Failure, RelayFailure
from openmeadow.core.delivery.smtp_refusals import Whose
from openmeadow.core.events import Kind
from openmeadow.core.message.templates import FieldMistake
from openmeadow.core.moments import DAY, HOUR
from openmeadow.core.reports.bounces import bounce_class
from openmeadow.core.states import BounceClass, DeliveryState
from openmeadow.net.smtp_client import Relay, RelayProblem, RelayRefuses, Unsendable
from openmeadow.net.smtp_transaction import Submission
from openmeadow.services.campaigns import requeue
from openmeadow.services.campaigns.composing import Written
from openmeadow.services.campaigns.renderer import Writer
from openmeadow.services.senders.relay import relay
from openmeadow.services.subscribers.import_events import consequences
from openmeadow.services.workspace import Workspace
from openmeadow.store.campaigns import campaigns, deliveries
from openmeadow.store.campaigns.delivery_records import QueuedDelivery
from openmeadow.store.engagement import events

TRIES_AFTER = (1800, HOUR, 7200, 14_400)  # then every 8 h, at most 4 days
EVERY, AT_MOST = 8 * HOUR, 4 * DAY
UNSENDABLE = BounceClass.UNSENDABLE
WITH_RELAY = ("taken", "unconfirmed")


@dataclass(frozen=True)
class Item:
    """One send: the delivery's row with its person, and its message."""

    delivery: QueuedDelivery
    written: Written


@dataclass(frozen=True)
class Turn:
    """Some sends of one plan. ``fit`` is asked right before each, and has noted the reason when it says no; ``unsent`` is
    told the provider of who was fit and was not sent to after all."""

    writer: Writer
    items: Sequence[Item]
    fit: Callable[[Item], bool]
    unsent: Callable[[int], None]
    states: Sequence[str]  # of the plan, in which it goes on


class Lines:
    """As many connections to the relay as the workspace allows, each with its own thread."""

    def __init__(self, workspace: Workspace) -> None:
        self.workspace = workspace
        workspace.refusal_run.resume()
        self._relays = [relay(workspace) for _ in range(max(1, int(workspace.setting("connections"))))]
        self._pool = ThreadPoolExecutor(len(self._relays), "send")

    def ready(self) -> None:
        """Connects once, so that a relay that is away is known before anything is marked."""
        self._relays[0].ready()

    def begin(self, turn: Turn) -> Callable[[], None]:
        """All of them, each by whichever connection is free; the answer waits until every connection has come to rest,
        and raises what went wrong with the relay. Whom it did not reach still waits."""
        todo = deque(turn.items)
        running = [self._pool.submit(self._line, r, turn, todo) for r in self._relays[: len(turn.items)]]

        def wait() -> None:
            mistakes = [e for f in running if (e := f.exception()) is not None]
            if mistakes:
                raise mistakes[0]

        return wait

    def _line(self, out: Relay, turn: Turn, todo: deque[Item]) -> None:
        last: tuple[Item, Submission] | None = None
        about_us: RelayRefuses | None = None
        unsent: Item | None = None  # found fit, and not with the relay
        try:
            while todo:
                try:
                    item = todo.popleft()
                except IndexError:
                    break  # another connection took the last one
                message = self._written(turn, item)
                if message is None:
                    continue
                unsent = item
                out.ready()
                about_us, goes_on, waits = self.workspace.store.together(partial(self._next, turn, last, item))
                last = None
                if not goes_on:
                    todo.clear()
                    break
                if not waits:
                    turn.unsent(item.delivery.provider)
                    unsent = None
                    continue
                last = item, self._send(out, turn, item, message)
                if last[1].outcome not in WITH_RELAY:
                    turn.unsent(item.delivery.provider)
                unsent = None
        except RelayProblem:
            todo.clear()  # the same would meet the others
            raise
        finally:
            if unsent is not None:
                turn.unsent(unsent.delivery.provider)
            if last is not None:
                about_us = self.workspace.store.together(partial(self._record, turn.writer, *last))
        if about_us:
            todo.clear()
            raise about_us

    def _next(
        self, turn: Turn, before: tuple[Item, Submission] | None, item: Item, db: sqlite3.Connection
    ) -> tuple[RelayRefuses | None, bool, bool]:
        """Record what became of the one before, and mark the next as on its way; the refusal that is about us, whether the
        plan goes on, and whether the next still waited and goes out."""
        about_us = self._record(turn.writer, *before, db) if before is not None else None
        if about_us or campaigns.state_of(db, turn.writer.row.id) not in turn.states:
            return about_us, False, False
        d, version = item.delivery, item.delivery.version or turn.writer.row.version
        return None, True, deliveries.begin_sending(db, d.id, version, self.workspace.now())

    def _send(self, out: Relay, turn: Turn, item: Item, message: bytes) -> Submission:
        d = item.delivery
        sender = turn.writer.tokens.return_path(d.id, return_domain(turn.writer.row.domain_name or ""))
        try:
            return out.submit(sender, d.email, message)
        except Unsendable as e:
            return Submission(UNSENDABLE, "", str(e))
        except RelayProblem:
            with self.workspace.store.atomic() as db:  # nothing was sent: they wait as before
                deliveries.put_back(db, [d.id], self.workspace.now())
            raise

    def _record(self, writer: Writer, item: Item, result: Submission, db: sqlite3.Connection) -> RelayRefuses | None:
        """Note what became of a send. Where it is the last of a row that is about us, nobody of the row stays
        marked, and the refusal is returned."""
        d, run, now = item.delivery, self.workspace.refusal_run, self.workspace.now()
        _note(db, d, writer, result, now)
        if result.outcome == "taken":
            run.accepted()
        if result.outcome not in ("deferred", "refused") or not result.code:
            return None
        place = d.provider or str(d.email).rpartition("@")[2].lower()
        row = run.refused(result.code, result.text, result.about, place, (d.id, d.attempts + 1))
        if not row:
            return None
        requeue.unmark(db, row, now)
        s = self._relays[0].settings
        again = f"the same reply for {len(row)} recipients in a row, " if len(row) > 1 else ""
        words = f"{again}{result.code} {result.text}"
        return RelayRefuses(RelayFailure(Failure.US_REFUSED, s.host, s.port, words))

    def _written(self, turn: Turn, item: Item) -> bytes | None:
        """The message for one person, or None where it must not or cannot be written."""
        d, now, message, mistake = item.delivery, self.workspace.now(), b"", ""
        try:
            message = item.written.message(now)
        except FieldMistake as e:
            mistake = str(e)
        if not turn.fit(item):  # asked last: another process may have taken a while to write it
            return None
        if mistake:
            turn.unsent(d.provider)
            with self.workspace.store.atomic() as db:
                deliveries.mark(db, d.id, deliveries.SKIPPED, now, mistake)
            return None
        return message

    def close(self) -> None:
        """Close all connections."""
        self._pool.shutdown()
        for r in self._relays:
            r.close()


def _put_off(db: sqlite3.Connection, d: QueuedDelivery, result: Submission, now: int, until: int | None) -> bool:
    """The next try of what was put off; True where it has come to its end. A refusal of the sender's policy is put off
    too: it is about us."""
    said, tries = f"{result.code} {result.text}".strip(), d.attempts + 1
    refused = result.outcome == "refused" or bounce_class(result.code, said) == BounceClass.BLOCKED
    word = str(BounceClass.BLOCKED if refused else DeliveryState.DEFERRED)
    wait = TRIES_AFTER[tries - 1] if tries <= len(TRIES_AFTER) else EVERY
    if sum(TRIES_AFTER[:tries]) + max(0, tries - len(TRIES_AFTER)) * EVERY > AT_MOST:
        word = BounceClass.BLOCKED if result.about is Whose.POLICY else word  # what persists is no throttling
        deliveries.mark(db, d.id, deliveries.FAILED, now, f"{word} for 4 days: {said}")
        return True
    if until is not None and now + wait > until:
        deliveries.mark(db, d.id, deliveries.FAILED, now, f"{word} until the end date: {said}")
        return True
    deliveries.mark(
        db, d.id, deliveries.DEFERRED, now, f"{word}: {said}" if word == BounceClass.BLOCKED else said, now + wait
    )
    return False


def _note(db: sqlite3.Connection, d: QueuedDelivery, writer: Writer, result: Submission, now: int) -> None:
    """The ledger's state and the events that follow. Who is refused counts as sent to and bounced, like who bounces
    later: every figure is made from the same events."""
    message, until = writer.row.message or 0, None if writer.row.sequence else writer.plan.no_later_than
    said = f"{result.code} {result.text}".strip()
    if result.outcome == UNSENDABLE:
        deliveries.mark(db, d.id, deliveries.FAILED, now, f"{UNSENDABLE}: {result.text}")
        return
    if result.outcome == "unconfirmed":
        deliveries.mark(db, d.id, deliveries.UNCONFIRMED, now, said)
        return
    happened = [Kind.SENT]
    if result.outcome == "taken":
        deliveries.mark(db, d.id, deliveries.SENT, now)
    elif result.outcome == "deferred" or result.about is Whose.POLICY:
        happened = [Kind.SENT, Kind.BOUNCED] if _put_off(db, d, result, now, until) else [Kind.DEFERRED]
    else:
        deliveries.mark(db, d.id, deliveries.FAILED, now, f"{bounce_class(result.code, result.text)}: {said}")
        happened = [Kind.SENT, Kind.BOUNCED]
    code, text = (None, None) if result.outcome == "taken" else (result.code, said)
    for kind in happened:
        outside = requeue.outside_id(d.id, d.attempts + 1, with_bounce=kind is Kind.SENT and len(happened) > 1)
        about = (None, None) if kind is Kind.SENT else (code, text)
        events.add(db, [(now, int(kind), d.subscriber, message, 0, 0, 0.0, *about, outside)])
    if Kind.BOUNCED in happened:
        consequences(db, [(now, int(Kind.BOUNCED), d.subscriber, message, code, text)])
