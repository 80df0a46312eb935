"""Handing over on several connections at once: ``handing over`` is written before DATA, the result after."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import Any

from openmeadow.core.columns import Kind
from openmeadow.core.delivery.refusals import Whose
from openmeadow.core.delivery.relay_failures import Failure, RelayFailure
from openmeadow.core.message.body import FieldMistake
from openmeadow.core.reports.bounces import bounce_class
from openmeadow.desk import requeue
from openmeadow.desk.bring_in.events import consequences
from openmeadow.desk.desk import Desk
from openmeadow.desk.relay import relay
from openmeadow.desk.senders import return_domain
from openmeadow.desk.writer import Writer, person_fields
from openmeadow.store import campaigns, events, ledger
from openmeadow.wire.smtp_client import HandOver, Relay, RelayProblem, RelayRefuses, Unsendable

TRIES_AFTER = (1800, 3600, 7200, 14_400)  # then every 8 h, at most 4 days (7-standards)
EVERY, AT_MOST = 8 * 3600, 4 * 86400
UNSENDABLE = "unsendable"  # nothing was said to the relay: it cannot carry this address


@dataclass(frozen=True)
class Item:
    """One hand-over: the delivery's row with its person, the arm it belongs to, the rules that hold for them."""

    delivery: Any
    arm: dict[str, Any] | None
    held: set[str]


@dataclass(frozen=True)
class Turn:
    """Some hand-overs of one plan. ``fit`` is asked right before each, and has noted the reason when it says no."""

    writer: Writer
    items: Sequence[Item]
    fit: Callable[[Item], bool]
    states: Sequence[str]  # of the plan, in which it goes on


class Lines:
    """As many connections to the relay as the workspace allows, each with its own thread."""

    def __init__(self, desk: Desk) -> None:
        self.desk = desk
        desk.refusal_run.resume()
        self._relays = [relay(desk) for _ in range(max(1, int(desk.setting("connections"))))]
        self._pool = ThreadPoolExecutor(len(self._relays), "hand-over")

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
        last: tuple[Item, HandOver] | None = None
        about_us: RelayRefuses | None = None
        try:
            while todo:
                try:
                    item = todo.popleft()
                except IndexError:
                    break  # another connection took the last one
                message = self._written(turn, item)
                if message is None:
                    continue
                out.ready()
                with self.desk.store.atomic() as db:
                    now, d = self.desk.now(), item.delivery
                    if last is not None:
                        about_us = self._record(db, turn.writer, *last, now)
                        last = None
                    if about_us or campaigns.state_of(db, turn.writer.row["id"]) not in turn.states:
                        todo.clear()
                        break
                    ledger.begin_hand_over(db, d["id"], d["version"] or turn.writer.row["version"], now)
                last = item, self._hand_over(out, turn, item, message)
        except RelayProblem:
            todo.clear()  # the same would meet the others
            raise
        finally:
            if last is not None:
                with self.desk.store.atomic() as db:
                    about_us = self._record(db, turn.writer, *last, self.desk.now())
        if about_us:
            todo.clear()
            raise about_us

    def _hand_over(self, out: Relay, turn: Turn, item: Item, message: bytes) -> HandOver:
        d = item.delivery
        sender = turn.writer.tokens.return_path(d["id"], return_domain(turn.writer.row["domain_name"]))
        try:
            return out.hand_over(sender, d["email"], message)
        except Unsendable as e:
            return HandOver(UNSENDABLE, "", str(e))
        except RelayProblem:
            with self.desk.store.atomic() as db:  # nothing was handed over: they wait as before
                ledger.put_back(db, [d["id"]], self.desk.now())
            raise

    def _record(self, db: Any, writer: Writer, item: Item, result: HandOver, now: int) -> RelayRefuses | None:
        """Note what became of a hand-over. Where it is the last of a row that is about us, nobody of the row stays
        marked, and the refusal is returned."""
        d, run = item.delivery, self.desk.refusal_run
        _note(db, d, writer, result, now)
        if result.outcome == "taken":
            run.accepted()
        if result.outcome not in ("deferred", "refused") or not result.code:
            return None
        place = d["provider"] or str(d["email"]).rpartition("@")[2].lower()
        row = run.refused(result.code, result.text, result.about, place, (d["id"], d["attempts"] + 1))
        if not row:
            return None
        requeue.unmark(db, row, now)
        s = self._relays[0].settings
        again = f"the same answer for {len(row)} recipients in a row, " if len(row) > 1 else ""
        words = f"{again}{result.code} {result.text}"
        return RelayRefuses(RelayFailure(Failure.US_REFUSED, s.host, s.port, words))

    def _written(self, turn: Turn, item: Item) -> bytes | None:
        """The message for one person, or None where it must not or cannot be written."""
        d, now = item.delivery, self.desk.now()
        if not turn.fit(item):
            return None
        try:
            return turn.writer.message(d, person_fields(d), item.arm, item.held, now)
        except FieldMistake as e:
            with self.desk.store.atomic() as db:
                ledger.mark(db, d["id"], ledger.PASSED_OVER, now, str(e))
            return None

    def close(self) -> None:
        self._pool.shutdown()
        for r in self._relays:
            r.close()


def _put_off(db: Any, d: Any, result: HandOver, now: int, until: int | None) -> bool:
    """The next try of what was put off; True where it has come to its end. A refusal of the sender's policy is put off
    too: it is about us."""
    said, tries = f"{result.code} {result.text}".strip(), d["attempts"] + 1
    word = "blocked" if result.outcome == "refused" or bounce_class(result.code, said) == "blocked" else "deferred"
    wait = TRIES_AFTER[tries - 1] if tries <= len(TRIES_AFTER) else EVERY
    if sum(TRIES_AFTER[:tries]) + max(0, tries - len(TRIES_AFTER)) * EVERY > AT_MOST:
        word = "blocked" if result.about is Whose.POLICY else word  # what persists is no throttling
        ledger.mark(db, d["id"], ledger.FAILED, now, f"{word} for 4 days: {said}")
        return True
    if until is not None and now + wait > until:
        ledger.mark(db, d["id"], ledger.FAILED, now, f"{word} until the plan's last moment: {said}")
        return True
    ledger.mark(db, d["id"], ledger.DEFERRED, now, f"{word}: {said}" if word == "blocked" else said, now + wait)
    return False


def _note(db: Any, d: Any, writer: Writer, result: HandOver, now: int) -> None:
    """The ledger's state and the events that follow. Who is refused counts as sent to and bounced, like who bounces
    later: every figure is made from the same events."""
    message, until = writer.row["message"], None if writer.row["sequence"] else writer.plan["no_later_than"]
    said = f"{result.code} {result.text}".strip()
    if result.outcome == UNSENDABLE:
        ledger.mark(db, d["id"], ledger.FAILED, now, f"{UNSENDABLE}: {result.text}")
        return
    if result.outcome == "in doubt":
        ledger.mark(db, d["id"], ledger.IN_DOUBT, now, said)
        return
    happened = [Kind.SENT]
    if result.outcome == "taken":
        ledger.mark(db, d["id"], ledger.HANDED, now)
    elif result.outcome == "deferred" or result.about is Whose.POLICY:
        happened = [Kind.SENT, Kind.BOUNCED] if _put_off(db, d, result, now, until) else [Kind.DEFERRED]
    else:
        ledger.mark(db, d["id"], ledger.FAILED, now, f"{bounce_class(result.code, result.text)}: {said}")
        happened = [Kind.SENT, Kind.BOUNCED]
    code, text = (None, None) if result.outcome == "taken" else (result.code, said)
    for kind in happened:
        outside = requeue.outside_id(d["id"], d["attempts"] + 1, with_bounce=kind is Kind.SENT and len(happened) > 1)
        about = (None, None) if kind is Kind.SENT else (code, text)
        events.add(db, [(now, int(kind), d["subscriber"], message, 0, 0, 0.0, *about, outside)])
    if Kind.BOUNCED in happened:
        consequences(db, [(now, int(Kind.BOUNCED), d["subscriber"], message, code, text)])
