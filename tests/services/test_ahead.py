"""People are looked at some ahead of their turn; what is known when it comes decides."""

from __future__ import annotations

from collections import Counter
from pathlib import Path

from openmeadow.services.campaigns import campaigns, dispatcher
from openmeadow.services.campaigns.ahead import CHUNK, LOOKED_AT, Together
from openmeadow.services.subscribers import import_events
from openmeadow.store.campaigns import batches as batch_table
from openmeadow.store.campaigns import deliveries
from tests.services.mailing import deliveries_of, mailing


def test_who_was_looked_at_ahead_and_waits_no_more(folder: Path) -> None:
    with mailing(folder, 240) as m:
        campaigns.write(m.workspace, m.campaign, {"plan": {"pilot_share": 0.0, "batches": 1, "resend": False}})
        campaigns.start(m.workspace, m.campaign, "ann")
        db = m.workspace.store.read()
        batch = batch_table.batches(db, m.campaign)[0]
        going = dispatcher.turns(m.workspace, m.tokens, batch.id, Together(m.workspace))
        assert next(going) == CHUNK < LOOKED_AT
        waiting = deliveries.waiting_of(db, batch.id, 200, 0)
        skipped, complained = waiting[60:65], waiting[130:135]
        with m.workspace.store.atomic() as w:
            for d in skipped:
                deliveries.mark(w, d.id, deliveries.SKIPPED, m.workspace.now(), "somebody said so")
        assert [next(going), next(going)] == [CHUNK, CHUNK]
        log = folder / "log.csv"
        said = (f"2026-03-12T09:40:00Z,complained,{d.email},\n" for d in complained)
        log.write_text("at,event,email,message\n" + "".join(said))
        import_events.run(m.workspace.store, log, m.workspace.now(), "ann")
        assert sum(going) > 0
        after = {d.id: (d.state, d.reason) for d in deliveries_of(m.workspace.store.read(), m.campaign, "first")}
        assert Counter(state for state, _ in after.values()) == {"sent": len(after) - 10, "skipped": 10}
        assert {after[d.id][1] for d in skipped} == {"somebody said so"}
        assert {after[d.id][1] for d in complained} == {"suppressed"}
