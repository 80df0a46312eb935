"""A real worker process killed at random moments: nobody twice, nobody lost, what is in doubt is shown."""

from __future__ import annotations

import os
import random
import signal
import subprocess
import sys
import time
from collections import Counter
from pathlib import Path

from openmeadow.desk import campaigns
from openmeadow.store import campaigns as ledger
from tests.desk.mailing import mailing

KILLS, PEOPLE = 12, 240


def test_killed_again_and_again(folder: Path) -> None:
    lot = random.Random(20260312)
    with mailing(folder, PEOPLE) as m:
        campaigns.write(m.desk, m.campaign, {"plan": {"lead_share": 0.0, "batches": 1, "resend": False}})
        campaigns.start(m.desk, m.campaign, "test")
        command = [sys.executable, "-m", "openmeadow", "--data", str(folder), "worker"]
        for kill in range(KILLS + 1):
            before = sum(m.world.received.values())
            process = subprocess.Popen(command, stderr=subprocess.DEVNULL)
            if kill == KILLS:
                wait_until(m, lambda: not _open(m), 60)
            else:
                wait_until(m, lambda b=before: sum(m.world.received.values()) > b or not _open(m), 30)
                time.sleep(lot.random() * 0.12)
            os.kill(process.pid, signal.SIGKILL)
            process.wait()
        subprocess.run([*command, "--once"], check=True, stderr=subprocess.DEVNULL, timeout=60)
        rows = ledger.of_campaign(m.desk.store.read(), m.campaign, "first")
        got = Counter({k: n for k, n in m.world.received.items() if k.startswith("<d")})
        assert max(got.values()) == 1, "nobody twice"
        by_state = Counter(d["state"] for d in rows)
        assert set(by_state) <= {"handed over", "in doubt"} and sum(by_state.values()) == PEOPLE, "nobody lost"
        assert by_state["in doubt"] <= KILLS
        told = {f"<d{d['id']}.c{m.campaign}@news.kestrelquay.example>" for d in rows if d["state"] == "handed over"}
        doubtful = {f"<d{d['id']}.c{m.campaign}@news.kestrelquay.example>" for d in rows if d["state"] == "in doubt"}
        assert told <= set(got), "what counts as handed over did arrive"
        assert set(got) - told <= doubtful, "what arrived without being noted is in doubt"
        assert ledger.open_batches(m.desk.store.read(), m.campaign) == 0
        if doubtful:
            assert campaigns.settle_doubt(m.desk, m.campaign, True, "test") == len(doubtful)
            assert not ledger.in_doubt(m.desk.store.read())


def _open(m: object) -> bool:
    return bool(ledger.open_batches(m.desk.store.read(), m.campaign))  # type: ignore[attr-defined]


def wait_until(m: object, done: object, seconds: float) -> None:
    end = time.monotonic() + seconds
    while not done():  # type: ignore[operator]
        assert time.monotonic() < end, "the worker did not come to anything"
        time.sleep(0.01)
