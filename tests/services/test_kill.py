"""A worker killed at random moments, a full disk, a clock set back: nobody twice, nobody lost, what is unconfirmed is shown."""

from __future__ import annotations

import email
import os
import random
import signal
import threading
import time
from collections import Counter
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

from openmeadow.core.errors import NoSpace
from openmeadow.core.sequences.definition import Definition, Step
from openmeadow.net.signed_tokens import Tokens
from openmeadow.services.campaigns import campaigns, dispatcher, unconfirmed
from openmeadow.services.sequences import editing, runner
from openmeadow.services.workspace import Workspace
from openmeadow.store.campaigns import batches as batch_table
from openmeadow.store.campaigns import deliveries
from openmeadow.store.sequences import sequences
from tests.conftest import NOW, set_clock
from tests.processes import Begun, fork
from tests.relays import RealRelay, use
from tests.services.mailing import DOMAIN, Mailing, deliveries_of, mailing
from tests.services.test_sequences import made

KILLS, PEOPLE, CONNECTIONS = int(os.environ.get("MEADOW_KILLS", "40")), 2000, 4
ONE_BATCH = {"plan": {"pilot_share": 0.0, "batches": 1, "resend": False}}


def work(folder: str, env: dict[str, str]) -> None:
    """What a worker does, until it is killed. The process it is forked from may be older than its environment."""
    os.environ.update(env)
    workspace = Workspace(Path(folder))
    while True:
        runner.tick(workspace)
        dispatcher.send_due(workspace, Tokens(Path(folder)))


def killed(
    folder: Path, kills: int, is_open: Callable[[], bool], arrived: Callable[[], int], meanwhile: Callable[[int], None]
) -> int:
    """Workers killed at random moments while something is open, and one at the end that is let finish; how many.
    ``meanwhile`` is told the number of the kill, and does something to the relay."""
    done, lot = 0, random.Random(20260312)
    while done < kills and is_open():
        before = arrived()
        meanwhile(done)
        child = fork.Process(target=work, args=(str(folder), dict(os.environ)))
        child.start()
        wait_until(lambda b=before: arrived() > b or not is_open(), 120)
        time.sleep(lot.random() * 0.03)
        assert child.pid is not None
        os.kill(child.pid, signal.SIGKILL)
        child.join()
        done += 1
    assert Begun("--data", str(folder), "worker", "--once").wait(120) == 0
    return done


def nobody_twice_nobody_lost(m: Mailing, campaign: int, got: Counter[str], people: int, most: int) -> Counter[str]:
    """``got`` are the Message-IDs that arrived. Unconfirmed are only deliveries cut off by a kill or a broken line."""
    rows = deliveries_of(m.workspace.store.read(), campaign, "first")
    assert max(got.values()) == 1, "nobody twice"
    by_state = Counter(d.state for d in rows)
    assert set(by_state) <= {"sent", "unconfirmed"} and sum(by_state.values()) == people, "nobody lost"
    assert 0 < by_state["unconfirmed"] <= most
    ids = {d.id: m.tokens.message_id(d.id, campaign, DOMAIN) for d in rows}
    told = {ids[d.id] for d in rows if d.state == "sent"}
    doubtful = {ids[d.id] for d in rows if d.state == "unconfirmed"}
    assert told <= set(got), "what counts as sent did arrive"
    assert set(got) - told <= doubtful, "what arrived without being noted is unconfirmed"
    return by_state


def addresses(people: int) -> np.ndarray:
    """Addresses of every kind, at two providers and elsewhere."""
    kinds = ("p{}@postern.example", "p{}@saltmere.example", "p{}@m\u00fcnchen.example", "\u00fcser{}@postern.example")
    kinds += (
        '"p {}"@saltmere.example',
        "p{}+news@lanternmail.example",
        "p{}@sub.quill-saltmere.example",
        "P.{}@Postern.Example",
    )
    return np.array([kinds[i % len(kinds)].format(i) for i in range(people)])


def test_a_campaign_through_a_real_relay_killed_again_and_again(folder: Path) -> None:
    """A relay with STARTTLS and a password that refuses us, breaks the line and comes back; counted at the relay."""
    with mailing(folder, PEOPLE, email=addresses(PEOPLE)) as m:
        relay, broken = RealRelay(folder), list[int]()
        use(m, relay)
        campaigns.write(m.workspace, m.campaign, ONE_BATCH)
        campaigns.start(m.workspace, m.campaign, "test")
        lot, guard = random.Random(1), threading.Lock()

        def drop(_: str) -> str:
            with guard:
                chance = lot.random()
                if chance < 0.004:
                    broken.append(1)
                return "" if chance >= 0.004 else "before" if chance < 0.002 else "after"

        def is_open() -> bool:
            return bool(batch_table.open_batches(m.workspace.store.read(), m.campaign))

        def refuses_for_a_while(n: int) -> None:
            if n % 8 != 3:
                return
            relay.mail = lambda _: "530 5.7.0 Must issue a STARTTLS command first"
            dispatcher.send_due(m.workspace, m.tokens)
            row = campaigns.row_of(m.workspace, m.campaign)
            assert row.state == "paused" and "530" in row.paused_why
            relay.mail = lambda _: None
            campaigns.resume(m.workspace, m.campaign, "test")

        relay.drop = drop
        try:
            kills = killed(folder, KILLS, is_open, lambda: len(relay.took), refuses_for_a_while)
            assert kills == KILLS and not is_open()
            got = Counter(str(email.message_from_bytes(raw)["Message-ID"]) for _, raw in relay.took)
            by_state = nobody_twice_nobody_lost(m, m.campaign, got, PEOPLE, kills * CONNECTIONS + len(broken))
            events = m.workspace.store.read().execute("SELECT kind, count(*) AS n FROM events GROUP BY kind").fetchall()
            assert {r["kind"]: r["n"] for r in events} == {1: by_state["sent"]}, "nothing else in anybody's history"
            # the relay's log tells who has it; the others are sent to again
            log = "\n".join(f"queued message-id={id}" for id in got)
            read = unconfirmed.read_log(m.workspace, m.campaign, log, "test", complete=True)
            assert read.arrived + read.again == by_state["unconfirmed"] and read.left == 0
            relay.drop = lambda _: ""
            dispatcher.send_due(m.workspace, m.tokens)
            got = Counter(str(email.message_from_bytes(raw)["Message-ID"]) for _, raw in relay.took)
            assert len(got) == PEOPLE and max(got.values()) == 1, "everybody has it once"
        finally:
            relay.close()


def test_a_sequence_killed_again_and_again(folder: Path) -> None:
    people = 400
    definition = Definition(
        (Step(1, "label", name="came"), Step(2, "message"), Step(3, "list", name="Went on"), Step(4, "end"))
    )
    with mailing(folder, people) as m:
        id = made(m, definition)
        editing.start(m.workspace, id, "test")
        editing.add_people(m.workspace, id, list(range(1, people + 1)), "test")
        db, campaign = m.workspace.store.read(), sequences.mails(m.workspace.store.read(), id)[2].id

        def is_open() -> bool:
            s, counts = sequences.every(db)[0], deliveries.state_counts(db, campaign)
            return bool(s.active - counts.get("unconfirmed", 0) or s.queued)

        def received() -> Counter[str]:
            return Counter({k: n for k, n in m.world.received.items() if f".c{campaign}." in k})

        kills = killed(folder, KILLS // 2, is_open, lambda: sum(received().values()), lambda _: None)
        by_state = nobody_twice_nobody_lost(m, campaign, received(), people, kills * CONNECTIONS)
        waiting = by_state["unconfirmed"]
        assert sequences.passages(db, id)[3] == people - waiting, "who is unconfirmed waits where they are"
        assert unconfirmed.resolve(m.workspace, campaign, True, "test") == waiting
        runner.tick(m.workspace)
        assert sequences.passages(db, id) == {1: people, 2: people, 3: people, 4: people}
        assert sequences.every(db)[0].finished == people
        view = m.workspace.view()
        for rule in ('has label "came"', 'in list "Went on"', 'finished sequence "Welcome"'):
            assert int(view.mask(m.workspace.checked_rule(rule, view)).sum()) == people


def test_a_full_disk_and_a_clock_set_back(folder: Path) -> None:
    with mailing(folder, 120) as m:
        campaigns.write(m.workspace, m.campaign, ONE_BATCH)
        campaigns.start(m.workspace, m.campaign, "test")
        writer = m.workspace.store.writer
        writer.execute("VACUUM")
        pages = writer.execute("PRAGMA page_count").fetchone()[0]
        writer.execute(f"PRAGMA max_page_count = {pages + 1}")
        with pytest.raises(NoSpace, match="disk is full"):
            dispatcher.send_due(m.workspace, m.tokens)
        with pytest.raises(NoSpace), m.workspace.store.atomic() as db:
            db.execute(
                "CREATE TABLE big AS WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n LIMIT 99999) SELECT i FROM n"
            )
        arrived = Counter({k: n for k, n in m.world.received.items() if k.startswith("<d")})
        assert 0 < len(arrived) < 120 and m.workspace.view().alive.sum() == 120, "what was written stands"
        writer.execute("PRAGMA max_page_count = 1073741823")
        set_clock(m.workspace, NOW - 86_400)
        assert dispatcher.send_due(m.workspace, m.tokens) == 0, "it is not due yet, by this clock"
        assert m.workspace.view().scores.band.size == 120
        set_clock(m.workspace, NOW)
        dispatcher.send_due(m.workspace, m.tokens)
        got = Counter({k: n for k, n in m.world.received.items() if k.startswith("<d")})
        rows = deliveries_of(m.workspace.store.read(), m.campaign, "first")
        by_state = Counter(d.state for d in rows)
        assert max(got.values()) == 1 and set(by_state) <= {"sent", "unconfirmed"}
        assert by_state["unconfirmed"] <= CONNECTIONS and len(got) >= by_state["sent"]


def wait_until(done: Callable[[], bool], seconds: float) -> None:
    end = time.monotonic() + seconds
    while not done():
        assert time.monotonic() < end, "the worker did not come to anything"
        time.sleep(0.005)
