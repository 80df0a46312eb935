"""Processes that are asked to end: what is under way is finished, nothing is begun, and nothing is in doubt."""

from __future__ import annotations

import http.client
import json
import signal
import socket
import subprocess
import sys
import threading
import time
from collections import Counter
from collections.abc import Callable
from pathlib import Path

import pytest

from openmeadow.demo.ports import free_port
from openmeadow.services.campaigns import campaigns
from openmeadow.services.workspace import Workspace
from tests.services.mailing import deliveries_of, mailing


def begun(folder: Path, *command: str) -> subprocess.Popen[bytes]:
    return subprocess.Popen([sys.executable, "-m", "openmeadow", "--data", str(folder), *command])


def wait_until(there: Callable[[], object], seconds: float = 30) -> None:
    end = time.monotonic() + seconds
    while not there():
        assert time.monotonic() < end, "it never came"
        time.sleep(0.02)


@pytest.mark.parametrize("number", [signal.SIGTERM, signal.SIGINT])
def test_a_worker_ends_between_two_messages(folder: Path, number: signal.Signals) -> None:
    with mailing(folder, 1_500) as m:
        campaigns.write(m.workspace, m.campaign, {"plan": {"pilot_share": 0.0, "batches": 1, "resend": False}})
        campaigns.start(m.workspace, m.campaign, "test")

        def states() -> Counter[str]:
            return Counter(d.state for d in deliveries_of(m.workspace.store.read(), m.campaign, "first"))

        worker = begun(folder, "worker")
        wait_until(lambda: states()["sent"])
        worker.send_signal(number)
        assert worker.wait(60) == 0
        found = states()
        assert set(found) == {"sent", "queued"}, "none is on its way, or in doubt"
        arrived = sum(len(box) for to, box in m.world.mailboxes.items() if not to.startswith("hello@"))
        assert arrived == found["sent"]
        begun(folder, "worker", "--once").wait(120)
        assert states() == {"sent": 1_500}


def test_a_server_answers_what_it_was_asked(workspace: Workspace, folder: Path) -> None:
    port, answers = free_port(), list[int]()
    serve = begun(folder, "serve", "--port", str(port))

    def open_now() -> bool:
        with socket.socket() as s:
            return s.connect_ex(("127.0.0.1", port)) == 0

    def sign_in() -> None:  # a password is checked slowly, by design
        c = http.client.HTTPConnection("127.0.0.1", port, timeout=60)
        body = json.dumps({"name": "nobody", "password": "x" * 12})
        c.request("POST", "/api/sign-in", body, {"Content-Type": "application/json"})
        answers.append(c.getresponse().status)
        c.close()

    wait_until(open_now)
    asking = [threading.Thread(target=sign_in) for _ in range(12)]
    for t in asking:
        t.start()
    wait_until(lambda: answers)
    serve.send_signal(signal.SIGTERM)
    for t in asking:
        t.join(60)
    assert serve.wait(60) == 0
    assert len(answers) == 12 and set(answers) <= {401, 409, 429}, answers
    assert not open_now()
