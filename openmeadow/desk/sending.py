"""What is due goes out, plan by plan in turns: the gate and the caps at the last moment, the guardrails in between."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import UTC, datetime
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np

from openmeadow.core.consent.gate import next_allowed
from openmeadow.core.errors import MeadowError, NoSpace
from openmeadow.core.planning.guardrails import EVERY as EVERY_LOOK
from openmeadow.desk import guarding, resending, senders, versions
from openmeadow.desk.desk import Desk
from openmeadow.desk.handing import Item, Lines, Turn
from openmeadow.desk.planning import caps_of, closed_until, plan_of
from openmeadow.desk.recipients import gate_of
from openmeadow.desk.sequences import moving
from openmeadow.desk.writer import Writer
from openmeadow.store import campaigns, events, ledger, sequences, workspace
from openmeadow.store.facts import StoreFacts
from openmeadow.store.guarded import OWN_WAITS
from openmeadow.store.subscribers import facts_version
from openmeadow.wire.smtp_client import RelayAway, RelayProblem
from openmeadow.wire.tokens import Tokens

CHUNK = EVERY_LOOK  # guardrails are read between two of them
A_DAY = 86400
GOES_ON = ("planned", "sending", "finished")  # finished: a second try of what was put off


def recover(desk: Desk) -> int:
    """After a crash: what was between DATA and its answer is in doubt, and shown."""
    with desk.store.atomic() as db:
        caught = ledger.caught_between(db, desk.now())
        if caught:
            workspace.log(db, desk.now(), "worker", "found in doubt after a stop", "deliveries", caught)
    return caught


def send_due(desk: Desk, tokens: Tokens) -> int:
    """Hand over everything that is due now, plan by plan in turns of a chunk, so that a long batch keeps no other
    waiting. Returns how many hand-overs were tried."""
    recover(desk)  # while nothing is on its way, whatever is called so was left by a stop
    db, now, tried = desk.store.read(), desk.now(), 0
    if ledger.again_due(db, now):
        with desk.store.atomic() as w:
            ledger.requeue(w, now)
    under_way = [(r["campaign"], turns(desk, tokens, r["id"])) for r in ledger.due_batches(db, now)]
    while under_way:
        going = []
        for campaign, turn in under_way:
            done = _take_turn(desk, campaign, turn)
            if done is not None:
                tried += done
                going.append((campaign, turn))
        under_way = going
    return tried


def _take_turn(desk: Desk, campaign: int, turn: Iterator[int]) -> int | None:
    """One chunk of a plan. What is wrong with this plan alone (a rule in its message names what is not there any more)
    holds it and no other."""
    try:
        return next(turn, None)
    except (RelayAway, NoSpace):
        raise  # so for everybody
    except MeadowError as e:
        row = campaigns.one(desk.store.read(), campaign)
        if row is not None and row["sequence"] and isinstance(e, RelayProblem):
            sequence = sequences.one(desk.store.read(), row["sequence"])
            if sequence is not None:
                moving.pause_by_itself(desk, sequence, str(e))
                return None
        with desk.store.atomic() as db:
            campaigns.update(db, campaign, {"state": "held", "held_why": str(e), "held_evidence": "[]"})
            workspace.log(db, desk.now(), "worker", f"paused plan: {e}", campaigns.name_of(db, campaign))
        return None


def _begin(desk: Desk, row: Any, batch: Any) -> bool:
    """What is done once, when a batch's moment has come; False where the plan does not go on."""
    if senders.fresh_check(desk, row["domain_id"]) == "broken":
        return False  # the look has held the plan, with the record that broke
    if batch["kind"] == "first" and batch["n"] > 1 and (why := versions.settle(desk, row)):
        with desk.store.atomic() as db:
            campaigns.update(db, row["id"], {"state": "held", "held_why": why})
            workspace.log(db, desk.now(), "worker", "held plan: versions", row["name"])
        return False
    if batch["kind"] != "first" and not batch["variant"]:
        resending.draw(desk, row, batch)
    with desk.store.atomic() as db:
        _move_what_follows(desk, db, row, batch)
        ledger.set_batch(db, batch["id"], "going out")
        campaigns.update(db, row["id"], {"state": "sending"})
    return True


LATE = 900  # seconds after which what follows a batch moves along


def _move_what_follows(desk: Desk, db: Any, row: Any, batch: Any) -> None:
    """A batch that goes out late (nobody worked, the clock was set forward, the plan was paused) moves those after it,
    and the resends, by the same delay, so that they keep their distance and people are not mailed twice in a day."""
    plan, late = plan_of(row), desk.now() - batch["due_at"]
    if row["sequence"] or late < LATE:
        return
    if plan["zones"] or plan["own_hour"]:
        late = -(-late // A_DAY) * A_DAY  # so that each keeps its hour
    zone = ZoneInfo(str(desk.setting("time_zone")))
    moved = ledger.delay_after(db, row["id"], batch["kind"], batch["n"], late)
    for b in moved:
        at = closed_until(plan, b["due_at"], zone)
        if at:
            ledger.move_batch(db, b["id"], at)
    ledger.set_late(db, batch["id"], late)
    if moved:
        hours = f"{late / 3600:.1f}".removesuffix(".0")
        what = f"batch {batch['n']} went out {hours} h late; {len(moved)} after it move as much"
        workspace.log(db, desk.now(), "worker", what, row["name"])


def _closed(desk: Desk, row: Any, batch: Any) -> bool:
    """Whether a batch that was late must wait for the next allowed hour, which becomes its moment. A second try of what
    a provider put off goes by its own times."""
    if row["sequence"] or batch["state"] == "gone":
        return False
    at = closed_until(plan_of(row), desk.now(), ZoneInfo(str(desk.setting("time_zone"))))
    if at:
        with desk.store.atomic() as db:
            ledger.move_batch(db, batch["id"], at)
    return bool(at)


def turns(desk: Desk, tokens: Tokens, id: int) -> Iterator[int]:
    """Hand over a batch chunk by chunk; yields how many were tried in each."""
    batch = ledger.batch(desk.store.read(), id)
    assert batch is not None
    row = campaigns.one(desk.store.read(), batch["campaign"])
    assert row is not None
    if row["state"] not in (GOES_ON if batch["state"] == "gone" else ("planned", "sending")):
        return
    if batch["state"] == "waiting" and batch["due_at"] > desk.now():
        return  # moved on by one that was late
    if _closed(desk, row, batch):
        return
    if batch["state"] == "waiting" and not _begin(desk, row, batch):
        return
    row = campaigns.one(desk.store.read(), batch["campaign"])
    writer, out = Writer(desk, row, tokens), Lines(desk)
    try:
        out.ready()
        coming = _turn(desk, writer, batch, 0)
        while coming is not None:
            turn, last = coming
            wait = out.begin(turn)
            try:
                # the next ones are looked at while these are on their way; each is asked about again before it goes
                coming = _turn(desk, writer, batch, last)
            finally:
                wait()
            yield len(turn.items)
            now_row = campaigns.one(desk.store.read(), writer.row["id"])
            if now_row is None or now_row["state"] in ("held", "stopped") or _closed(desk, now_row, batch):
                return
            if not guarding.too_soon(desk, writer.row["id"]) and guarding.look(desk, writer.row["id"]):
                return
            if now_row["version"] != writer.row["version"]:
                writer = Writer(desk, now_row, tokens)  # what was changed meanwhile is said from here on
                coming = _turn(desk, writer, batch, last)
            if coming is None:
                coming = _turn(desk, writer, batch, 0)  # whoever came back to waiting
            out.ready()
    finally:
        out.close()
    _close(desk, writer.row, id)


def _turn(desk: Desk, writer: Writer, batch: Any, after: int) -> tuple[Turn, int] | None:
    """The next people who wait in a batch, and the last of them; whoever the gate leaves out is noted with the reason.
    None when nobody waits any more."""
    db, row = desk.store.read(), writer.row
    arms = resending.arms_in(batch, writer.plan) if batch["kind"] != "first" else [None]
    seen = events.highest(db), facts_version(db)

    def fit(item: Item) -> bool:
        """Nothing came of them since the gate was asked, or it was asked again and still says yes."""
        db, subscriber = desk.store.read(), item.delivery["subscriber"]
        if not events.came_since(db, subscriber, seen[0]) and facts_version(db) == seen[1]:
            return True
        why = reasons(desk, row, batch, [item.delivery])[0].get(subscriber)
        if why:
            _not_now(desk, row, batch, writer.plan, item.delivery, why)
        return not why

    last = writer.plan["no_later_than"]
    if last is not None and not row["sequence"] and desk.now() > last:
        with desk.store.atomic() as w:
            ledger.pass_over_rest(w, batch["id"], TOO_LATE, desk.now())
        return None
    while waiting := ledger.waiting_of(db, batch["id"], CHUNK, after):
        after = waiting[-1]["subscriber"]
        refused, facts = reasons(desk, row, batch, waiting)
        if caps := caps_of(desk, writer.plan):
            refused |= _over_caps(desk, caps, facts, refused)
        held: dict[int, list[set[str]]] = {}
        items = []
        for i, d in enumerate(waiting):
            reason = refused.get(d["subscriber"])
            if reason:
                _not_now(desk, row, batch, writer.plan, d, reason)
                continue
            version = d["version"] or row["version"]
            if version not in held:
                held[version] = writer.held(version, facts.ids)
            items.append(Item(d, arms[d["arm"]], held[version][i]))
        if items:
            return Turn(writer, items, fit, GOES_ON), after
    return None


RESEND_WAITS = 4 * A_DAY


def _not_now(desk: Desk, row: Any, batch: Any, plan: dict[str, Any], d: Any, reason: str) -> None:
    """Passed over with the reason. Who has only had too many messages waits: a campaign's a day, within the plan's last
    moment, a sequence's until the next allowed moment."""
    now, last, full = desk.now(), plan["no_later_than"], reason == TOO_MANY
    again = now + A_DAY
    if row["sequence"] and full:
        sent = events.sent_to(desk.store.read(), d["subscriber"], now - 7 * A_DAY)
        most = int(desk.setting("most_a_day")), int(desk.setting("most_a_week"))
        again = max(now + 60, next_allowed(sent, now, *most))
        again = again if again > now + 60 else now + A_DAY  # the person's own limit is by the week or month
    # a resend is never emptied by the limit of messages: it waits a few days for who has had one today
    resend_waits = batch["kind"] != "first" and now - batch["due_at"] < RESEND_WAITS
    waits = (full and (last is not None or row["sequence"] or resend_waits)) or reason == CAP_FULL
    with desk.store.atomic() as db:
        if waits and (last is None or again <= last):
            ledger.mark(db, d["id"], ledger.DEFERRED, now, reason, again)
        else:
            ledger.mark(db, d["id"], ledger.PASSED_OVER, now, reason)


def reasons(
    desk: Desk, row: Any, batch: Any, deliveries: Sequence[Any], *, limits: bool = True
) -> tuple[dict[int, str], StoreFacts]:
    """Reasons to pass over some people (by ascending id) at the last moment, by subscriber: the gate, for a resend an
    answer, for a sequence having left it. And what is known of them."""
    subscribers = np.array([d["subscriber"] for d in deliveries], np.int64)
    gone = moving.no_more(desk, row, batch["kind"], deliveries) if row["sequence"] else {}
    facts = desk.facts_of(np.unique(subscribers))
    answer = gate_of(facts, row, limits=limits)
    assert answer is not None
    once_more = row["sequence"] and batch["kind"] != "first"  # the same request again, to who left it unanswered
    out = {}
    for i, s in enumerate(facts.ids.tolist()):
        why = [w for w in answer.why_not(i) if not (once_more and w == ASKED_ONCE)]
        if why:
            out[s] = why[0]
    if batch["kind"] != "first" and not row["sequence"]:
        out |= resending.answered_meanwhile(desk.view_of(subscribers), row)
    return out | gone, facts


ASKED_ONCE = "asked for consent once already"
TOO_MANY, CAP_FULL = OWN_WAITS
TOO_LATE = "the plan's last moment has passed"


def _over_caps(desk: Desk, caps: dict[int, int], facts: StoreFacts, without: dict[int, str]) -> dict[int, str]:
    """Who is over a provider's cap for today, over everything this workspace has sent."""
    zone = ZoneInfo(str(desk.setting("time_zone")))
    today = datetime.fromtimestamp(desk.now(), UTC).astimezone(zone).replace(hour=0, minute=0, second=0, microsecond=0)
    had = ledger.handed_by_provider(desk.store.read(), int(today.timestamp()))
    out = {}
    for s, p in zip(facts.ids.tolist(), facts.provider.tolist(), strict=True):
        if s in without or not caps.get(p):
            continue
        had[p] = had.get(p, 0) + 1
        if had[p] > caps[p]:
            out[s] = CAP_FULL
    return out


def _close(desk: Desk, row: Any, batch: int) -> None:
    """A batch with nobody waiting is gone; a campaign without open batches is finished. A sequence's go on."""
    if row["sequence"]:
        return
    campaign = row["id"]
    with desk.store.atomic() as db:
        if ledger.unsettled(db, batch) == 0:
            row = ledger.batch(db, batch)
            if row is not None and row["state"] != "gone":
                ledger.set_batch(db, batch, "gone", gone_at=desk.now())
        if ledger.open_batches(db, campaign) == 0:
            campaigns.update(db, campaign, {"state": "finished"})
