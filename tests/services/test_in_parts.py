"""What changes many rows does so in parts, between which others write; and what is cut off in between is finished."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np

from openmeadow.core.moments import DAY, HOUR
from openmeadow.core.sequences.definition import Begin, Definition, Step
from openmeadow.services.campaigns import campaigns, guardrails, requeue, resend
from openmeadow.services.campaigns.ahead import Ahead, Together
from openmeadow.services.campaigns.dispatcher import GOES_ON, send_due
from openmeadow.services.campaigns.renderer import Writer
from openmeadow.services.health import providers
from openmeadow.services.segments import segments
from openmeadow.services.sequences import editing, runner
from openmeadow.store.campaigns import batches as batch_table
from openmeadow.store.campaigns import campaigns as campaign_table
from openmeadow.store.campaigns import deliveries
from openmeadow.store.health import providers as provider_table
from openmeadow.store.health.providers import OTHER_DOMAINS
from openmeadow.store.sequences import enrolments, sequences
from openmeadow.store.turns import FIRST
from openmeadow.store.write_queue import WriteQueue
from openmeadow.worker import housekeeping
from tests.conftest import NOW, set_clock
from tests.services.mailing import Mailing, deliveries_of, mailing, ready_campaign
from tests.services.test_sequences import made

MOST = 2 * FIRST  # of a second part
PEOPLE = MOST + 60
PLAN: dict[str, Any] = {"pilot_share": 0.0, "batches": 1, "resend": False}


@contextmanager
def in_parts(m: Mailing, rows_each: int = 1) -> Iterator[None]:
    """Somebody else waits to write all the time; no transaction changes more than ``MOST`` people then."""
    writer, changed = m.workspace.store.writer, list[int]()
    before = [writer.total_changes]

    def said(sql: str) -> None:
        if sql == "COMMIT":
            changed.append(writer.total_changes - before[0])
            before[0] = writer.total_changes

    writer.set_trace_callback(said)
    with WriteQueue(m.workspace.folder).waiting():
        yield
    writer.set_trace_callback(None)
    assert sum(changed) >= PEOPLE // 2 and max(changed) <= rows_each * MOST + 10, changed


def begun(m: Mailing, **plan: Any) -> Any:
    """A campaign to everybody, started; its row."""
    id = ready_campaign(m.workspace, f"At {m.workspace.now()}")
    campaigns.write(m.workspace, id, {"plan": PLAN | {"start": m.workspace.now()} | plan})
    campaigns.start(m.workspace, id, "ann")
    return campaign_table.one(m.workspace.store.read(), id)


def states(m: Mailing, row: Any, kind: str = "first") -> Counter[str]:
    return Counter(d.state for d in deliveries_of(m.workspace.store.read(), row.id, kind))


def test_many_wait_no_more_or_wait_again(folder: Path) -> None:
    with mailing(folder, PEOPLE) as m:
        read = m.workspace.store.read
        late = begun(m, no_later_than=NOW + HOUR)
        set_clock(m.workspace, NOW + 2 * HOUR)
        batch = batch_table.batch(read(), batch_table.batches(read(), late.id)[0].id)
        assert batch is not None
        with in_parts(m):
            ahead = Ahead(m.workspace, batch, Together(m.workspace), GOES_ON)
            assert ahead.turn(Writer(m.workspace, late, m.tokens), 0) is None
        assert states(m, late) == {"skipped": PEOPLE}

        row = begun(m)
        with m.workspace.store.atomic() as db:
            for d in deliveries_of(db, row.id, "first"):
                deliveries.mark(db, d.id, deliveries.FAILED, m.workspace.now(), "blocked: 550 5.7.1 no")
        with in_parts(m, 2):
            assert requeue.put_back(m.workspace, row.id, requeue.groups(m.workspace, row.id)[0].words, "ann") == PEOPLE
        with m.workspace.store.atomic() as db:
            for d in deliveries_of(db, row.id, "first"):
                deliveries.mark(db, d.id, deliveries.DEFERRED, m.workspace.now(), "451 later", m.workspace.now())
            campaign_table.update(db, row.id, {"state": "sending"})
            batch_table.set_batches(db, row.id, ("sending",), "stopped")
        with in_parts(m):
            send_due(m.workspace, m.tokens)
        assert states(m, row) == {"queued": PEOPLE}

        with in_parts(m):
            providers.merge(m.workspace, provider_table.named(read(), "Postern") or 0, OTHER_DOMAINS, "ann")
        campaigns.pause(m.workspace, row.id, "ann")
        with in_parts(m):
            assert (
                guardrails.without_provider(m.workspace, row.id, provider_table.names(read())[OTHER_DOMAINS], "ann")
                == PEOPLE
            )
        assert states(m, row) == {"skipped": PEOPLE}


def test_a_resend_is_drawn_in_parts_and_once(folder: Path) -> None:
    with mailing(folder, PEOPLE) as m:
        read, wait = m.workspace.store.read, {"wait": 5 * DAY, "subject": "By the water"}
        row = begun(m, resend=True, wait=3 * DAY, holdout_share=0.2, variants=[{}, wait])
        send_due(m.workspace, m.tokens)
        set_clock(m.workspace, NOW + 3 * DAY)
        first = batch_table.batch(read(), next(b.id for b in batch_table.batches(read(), row.id) if b.kind == "resend"))
        assert first is not None
        with m.workspace.store.atomic() as db:  # what a draw that was cut off leaves
            own = batch_table.add_batch(db, first.send, first.n, first.due_at + 2 * DAY, 9, 2)
            batch_table.set_batch(db, own, "stopped")
            rows: list[deliveries.NewDelivery] = [
                (first.send, own if s % 2 else first.id, s, s % 2, 0, deliveries.QUEUED, None, None) for s in range(1, 30)
            ]
            deliveries.add_deliveries(db, rows)
        with in_parts(m):
            resend.draw(m.workspace, row, first)
        found = deliveries_of(read(), row.id, "resend")
        assert len(found) == len({d.subscriber for d in found}) == PEOPLE
        drawn = Counter((d.state, d.variant) for d in found)
        assert drawn["skipped", 0] == round(PEOPLE * 0.2) and abs(drawn["queued", 0] - drawn["queued", 1]) <= 1
        again = [b for b in batch_table.batches(read(), row.id) if b.kind == "resend"]
        assert [(b.state, b.people) for b in again] == [
            ("sending", PEOPLE - drawn["queued", 1]),
            ("scheduled", drawn["queued", 1]),
        ]


def test_a_sequence_is_begun_entered_and_ended_in_parts(folder: Path) -> None:
    with mailing(folder, PEOPLE) as m:
        read = m.workspace.store.read
        segments.save(m.workspace, "Everybody", "joined more than 1 day ago", "ann")
        for cut_off in (False, True):
            id = made(m, Definition((Step(1, "message"),), begin=Begin("enters a segment", "Everybody")), f"{cut_off}")
            with m.workspace.store.atomic() as db:  # what a start that was cut off leaves
                enrolments.hold_now(db, id, [1, 2, 3, 999])
                enrolments.queue(db, id, [1, 2, 3], NOW)
            with in_parts(m, 2):
                assert editing.start(m.workspace, id, "ann", with_those_there=True).queued == PEOPLE
            assert len(enrolments.held_before(read(), id)) == PEOPLE
            with in_parts(m, 7):
                runner.tick(m.workspace)
            assert len(enrolments.all_inside(read(), id)) == PEOPLE and not enrolments.anybody_queued(read(), id)
            if cut_off:
                with m.workspace.store.atomic() as db:
                    sequences.update(db, id, {"state": "ended"})
                    enrolments.queue(db, id, [1], NOW)
                assert editing.finish_ends in housekeeping.DUTIES
                editing.finish_ends(m.workspace)
            else:
                with in_parts(m, 3):
                    assert editing.end(m.workspace, id, "ann") == PEOPLE
            assert not enrolments.all_inside(read(), id) and not enrolments.anybody_queued(read(), id)
            assert np.all([d.state == "skipped" for d in sequences.sent(read(), id)])
