"""Where one more or one less decides: the waits of a retry, the third in trouble, consent that ends within a chunk, who
became inactive this week."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from openmeadow.core.arrays import NEVER
from openmeadow.core.engagement.bands import BANDS, Limits, Standing, bands
from openmeadow.core.moments import DAY, HOUR
from openmeadow.services.campaigns import campaigns, dispatcher, guardrails
from openmeadow.services.subscribers import import_events, import_subscribers
from openmeadow.services.today import engaged_base
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.campaigns import deliveries, guardrail_counts
from openmeadow.store.campaigns.delivery_records import TroubleCount
from openmeadow.store.subscribers import subscribers
from tests.conftest import NOW, set_clock
from tests.services.mailing import deliveries_of, mailing
from tests.services.test_acts import log_of, put

AT_ONCE = {"plan": {"pilot_share": 0.0, "batches": 1, "resend": False}}


def test_a_retry_waits_longer_each_time(folder: Path) -> None:
    with mailing(folder, 40) as m:
        campaigns.write(m.workspace, m.campaign, AT_ONCE)
        campaigns.start(m.workspace, m.campaign, "test")
        plain = m.world.refusal
        m.world.refusal = lambda to: "451 4.7.1 later" if to.startswith("p7@") else plain(to)  # type: ignore[method-assign]
        m.world.deferred_once.clear()
        waits = []
        for _ in range(6):
            dispatcher.send_due(m.workspace, m.tokens)
            due = deliveries.next_due(m.workspace.store.read())
            assert due is not None
            waits.append(due - m.workspace.now())
            set_clock(m.workspace, due)
        assert waits == [HOUR // 2, HOUR, 2 * HOUR, 4 * HOUR, 8 * HOUR, 8 * HOUR]


@pytest.mark.parametrize(("bad", "named"), [(2, []), (3, ["a.example"]), (4, ["a.example"])])
def test_the_third_in_trouble_names_a_place(
    workspace: Workspace, monkeypatch: pytest.MonkeyPatch, bad: int, named: list[str]
) -> None:
    rows = {"domain": [TroubleCount(name="a.example", n=20, k=bad), TroubleCount(name="b.example", n=400, k=1)]}
    monkeypatch.setattr(guardrail_counts, "came_from", lambda *_: rows)
    assert [s.name for s in guardrails.sources(workspace, 1, 0)] == named


def test_who_may_not_any_more_within_a_chunk_gets_nothing(folder: Path) -> None:
    """Suppressed while the message before theirs is on its way: no event, and the chunk was asked about before."""
    with mailing(folder, 30) as m:
        with m.workspace.store.atomic() as db:
            settings.set_setting(db, "connections", 1)
        campaigns.write(m.workspace, m.campaign, AT_ONCE)
        campaigns.start(m.workspace, m.campaign, "test")
        plain, gone = m.world.refusal, list[int]()

        def meanwhile(to: str) -> str | None:
            waiting = [
                d.subscriber
                for d in deliveries_of(m.workspace.store.read(), m.campaign, "first")
                if d.state == "queued" and not gone
            ]
            if len(waiting) > 5:
                gone.append(waiting[-1])
                with m.workspace.store.atomic() as db:
                    subscribers.add_suppressions(db, [(waiting[-1], 6, m.workspace.now(), "t", None)])
            return plain(to)

        m.world.refusal = meanwhile  # type: ignore[method-assign]
        dispatcher.send_due(m.workspace, m.tokens)
        (last,) = [d for d in deliveries_of(m.workspace.store.read(), m.campaign, "first") if d.subscriber in gone]
        assert last.state == "skipped" and not m.world.mailboxes.get(f"p{gone[0] - 1}@postern.example")


def test_who_became_inactive_this_week_is_counted_once(workspace: Workspace, folder: Path) -> None:
    """One long ago, one now, one not yet."""
    people = "email,joined_at\n" + "".join(f"p{i}@x.example,2024-01-01\n" for i in range(3))
    import_subscribers.run(workspace.store, put(folder, "p.csv", people), NOW, "t")
    rows = []
    for i, days in enumerate((200, 93, 40)):
        email = f"p{i}@x.example"
        rows += [(days * DAY, "sent", email, "First"), (days * DAY - 600, "opened", email, "First")]
        rows += [((days - n - 1) * DAY, "sent", email, f"L{n}") for n in range(6)]
    import_events.run(workspace.store, put(folder, "e.csv", log_of(*rows)), NOW, "t")
    with workspace.store.atomic() as db:
        settings.set_setting(db, "inactive_after_days", 90)
    assert workspace.count("band is Inactive")[0] == 2
    assert engaged_base.became_inactive(workspace, workspace.view()) == 1


def test_five_ignored_messages_end_the_doubt() -> None:
    """Four leave somebody Unproven who never engaged, five do not."""
    four_to_six = np.array([4, 5, 6], np.int32)
    none, long_ago = np.zeros(3, np.int32), np.full(3, NOW - 300 * DAY, np.int64)
    standing = Standing(NOW, 90, np.full(3, NEVER, np.int64), four_to_six, none, long_ago, none, none)
    found = [BANDS[b] for b in bands(standing, np.full(3, 10.0), Limits())]
    assert found == ["Unproven", "Inactive", "Inactive"]
