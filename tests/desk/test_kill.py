"""A worker killed at random moments, a full disk, a clock set back: nobody twice, nobody lost, what is in doubt is shown."""

from __future__ import annotations

import multiprocessing
import os
import random
import signal
import subprocess
import sys
import time
from collections import Counter
from collections.abc import Callable
from pathlib import Path

import pytest

from openmeadow.core.errors import NoSpace
from openmeadow.core.sequences.ladder import Ladder, Step
from openmeadow.desk import campaigns, sending
from openmeadow.desk.desk import Desk
from openmeadow.desk.sequences import moving, writing
from openmeadow.store import ledger, sequences
from openmeadow.wire.tokens import Tokens
from tests.conftest import NOW, set_clock
from tests.desk.mailing import Mailing, mailing
from tests.desk.test_sequences import made

KILLS, PEOPLE, CONNECTIONS = 200, 1200, 4
ONE_BATCH = {"plan": {"lead_share": 0.0, "batches": 1, "resend": False}}


def work(folder: str) -> None:
    """What a worker does, until it is killed."""
    desk = Desk(Path(folder))
    while True:
        moving.tick(desk)
        sending.send_due(desk, Tokens(Path(folder)))


def killed(m: Mailing, folder: Path, kills: int, is_open: Callable[[], bool], lot: random.Random) -> int:
    """Workers killed at random moments while something is open, and one at the end that is let finish; how many."""
    fork, done = multiprocessing.get_context("forkserver"), 0
    fork.set_forkserver_preload(["tests.desk.test_kill"])
    while done < kills and is_open():
        before = sum(m.world.received.values())
        child = fork.Process(target=work, args=(str(folder),))
        child.start()
        wait_until(lambda b=before: sum(m.world.received.values()) > b or not is_open(), 30)
        time.sleep(lot.random() * 0.03)
        assert child.pid is not None
        os.kill(child.pid, signal.SIGKILL)
        child.join()
        done += 1
    once = [sys.executable, "-m", "openmeadow", "--data", str(folder), "worker", "--once"]
    subprocess.run(once, check=True, stderr=subprocess.DEVNULL, timeout=120)
    return done


def nobody_twice_nobody_lost(m: Mailing, campaign: int, people: int, kills: int) -> Counter[str]:
    rows = ledger.of_campaign(m.desk.store.read(), campaign, "first")
    got = Counter({k: n for k, n in m.world.received.items() if k.startswith("<d") and f".c{campaign}@" in k})
    assert max(got.values()) == 1, "nobody twice"
    by_state = Counter(d["state"] for d in rows)
    assert set(by_state) <= {"handed over", "in doubt"} and sum(by_state.values()) == people, "nobody lost"
    assert 0 < by_state["in doubt"] <= kills * CONNECTIONS
    told = {f"<d{d['id']}.c{campaign}@news.kestrelquay.example>" for d in rows if d["state"] == "handed over"}
    doubtful = {f"<d{d['id']}.c{campaign}@news.kestrelquay.example>" for d in rows if d["state"] == "in doubt"}
    assert told <= set(got), "what counts as handed over did arrive"
    assert set(got) - told <= doubtful, "what arrived without being noted is in doubt"
    return by_state


def test_killed_again_and_again(folder: Path) -> None:
    with mailing(folder, PEOPLE) as m:
        campaigns.write(m.desk, m.campaign, ONE_BATCH)
        campaigns.start(m.desk, m.campaign, "test")

        def is_open() -> bool:
            return bool(ledger.open_batches(m.desk.store.read(), m.campaign))

        kills = killed(m, folder, KILLS, is_open, random.Random(20260312))
        assert kills >= 100, "there were people left for that many"
        by_state = nobody_twice_nobody_lost(m, m.campaign, PEOPLE, kills)
        assert not is_open()
        assert campaigns.settle_doubt(m.desk, m.campaign, True, "test") == by_state["in doubt"]
        assert not ledger.in_doubt(m.desk.store.read())


def test_a_sequence_killed_again_and_again(folder: Path) -> None:
    people = 400
    ladder = Ladder((Step(1, "label", name="came"), Step(2, "message"), Step(3, "list", name="Went on"), Step(4, "end")))
    with mailing(folder, people) as m:
        id = made(m, ladder)
        writing.start(m.desk, id, "test")
        writing.bring_in(m.desk, id, list(range(1, people + 1)), "test")
        db = m.desk.store.read()

        def is_open() -> bool:
            s = sequences.every(db)[0]
            return bool(s["inside"] or s["queued"])

        kills = killed(m, folder, KILLS // 2, is_open, random.Random(20260313))
        assert kills >= 30
        nobody_twice_nobody_lost(m, sequences.mails(db, id)[2]["id"], people, kills)
        assert sequences.passages(db, id) == {1: people, 2: people, 3: people, 4: people}
        assert sequences.every(db)[0]["finished"] == people
        view = m.desk.view()
        for rule in ('has label "came"', 'in list "Went on"', 'finished sequence "Welcome"'):
            assert int(view.mask(m.desk.checked_rule(rule, view)).sum()) == people


def test_a_full_disk_and_a_clock_set_back(folder: Path) -> None:
    with mailing(folder, 120) as m:
        campaigns.write(m.desk, m.campaign, ONE_BATCH)
        campaigns.start(m.desk, m.campaign, "test")
        writer = m.desk.store.writer
        writer.execute("VACUUM")
        pages = writer.execute("PRAGMA page_count").fetchone()[0]
        writer.execute(f"PRAGMA max_page_count = {pages + 1}")
        with pytest.raises(NoSpace, match="disk is full"):
            sending.send_due(m.desk, m.tokens)
        with pytest.raises(NoSpace), m.desk.store.atomic() as db:
            db.execute(
                "CREATE TABLE big AS WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n LIMIT 99999) SELECT i FROM n"
            )
        arrived = Counter({k: n for k, n in m.world.received.items() if k.startswith("<d")})
        assert 0 < len(arrived) < 120 and m.desk.view().alive.sum() == 120, "what was written stands"
        writer.execute("PRAGMA max_page_count = 1073741823")
        set_clock(m.desk, NOW - 86_400)
        assert sending.send_due(m.desk, m.tokens) == 0, "it is not due yet, by this clock"
        assert m.desk.view().scores.band.size == 120
        set_clock(m.desk, NOW)
        sending.send_due(m.desk, m.tokens)
        got = Counter({k: n for k, n in m.world.received.items() if k.startswith("<d")})
        rows = ledger.of_campaign(m.desk.store.read(), m.campaign, "first")
        by_state = Counter(d["state"] for d in rows)
        assert max(got.values()) == 1 and set(by_state) <= {"handed over", "in doubt"}
        assert by_state["in doubt"] <= CONNECTIONS and len(got) >= by_state["handed over"]


def wait_until(done: Callable[[], bool], seconds: float) -> None:
    end = time.monotonic() + seconds
    while not done():
        assert time.monotonic() < end, "the worker did not come to anything"
        time.sleep(0.005)
