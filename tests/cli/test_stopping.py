"""Processes that are asked to end finish what is under way, and leave nothing in doubt; what they log."""

from __future__ import annotations

import http.client
import json
import signal
import socket
import sqlite3
import threading
import time
from collections import Counter
from collections.abc import Callable
from pathlib import Path

import pytest

from openmeadow.cli import processes
from openmeadow.core.errors import Damaged
from openmeadow.demo.ports import free_port
from openmeadow.services.campaigns import campaigns
from openmeadow.services.workspace import Workspace
from tests.processes import Begun
from tests.services.mailing import deliveries_of, mailing


def begun(folder: Path, *command: str) -> Begun:
    return Begun("--data", str(folder), *command)


def wait_until(there: Callable[[], object], seconds: float = 30) -> None:
    end = time.monotonic() + seconds
    while not there():
        assert time.monotonic() < end, "it never came"
        time.sleep(0.02)


@pytest.mark.parametrize("number", [signal.SIGTERM, signal.SIGINT])
def test_a_worker_ends_between_two_messages(folder: Path, number: signal.Signals) -> None:
    with mailing(folder, 600) as m:
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
        assert states() == {"sent": 600}


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


@pytest.mark.parametrize(("level", "lines"), [("info", 3), ("error", 0)])
def test_the_access_log_names_routes_and_never_what_an_address_holds(
    workspace: Workspace, folder: Path, level: str, lines: int
) -> None:
    port, kept = free_port(), folder / "log"
    logged = "--access-log", "--log-level", level
    serve = Begun("--data", str(folder), "serve", *logged, "--port", str(port), files={2: str(kept)})
    ids = []

    def ask(path: str) -> int:
        c = http.client.HTTPConnection("127.0.0.1", port, timeout=30)
        try:
            c.request("GET", path)
            answer = c.getresponse()
            ids.append(answer.getheader("X-Request-Id"))
            return answer.status
        except OSError:
            return 0
        finally:
            c.close()

    wait_until(lambda: ask("/healthz") == 200)
    del ids[:]
    assert (ask("/api/subscribers/77"), ask("/c/secret-token"), ask("/readyz")) == (401, 404, 503)
    serve.send_signal(signal.SIGTERM)
    assert serve.wait(60) == 0
    text = kept.read_text()
    found = [json.loads(line) for line in text.splitlines()][-lines:] if lines else []
    assert "secret-token" not in text and "subscribers/77" not in text
    assert [(x["status"], x["request"]) for x in found] == list(zip((401, 404, 503), ids, strict=True))[:lines]
    assert [x["route"] for x in found][:1] == ["/api/subscribers/<int:id>"][:lines] and ("answered" in text) == bool(
        lines
    )


def test_a_large_database_is_looked_at_beside_the_work(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A small one before anything begins; where a large one turns out to be damaged, the work is stopped and it is said."""
    with sqlite3.connect(folder / "meadow.db") as db:
        (page,) = db.execute("SELECT rootpage FROM sqlite_master WHERE name = 'suppressions'").fetchone()
        (size,) = db.execute("PRAGMA page_size").fetchone()
        db.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    db.close()
    whole = processes._Whole(folder)
    whole.begin(lambda: pytest.fail("it was looked at before"))
    whole.workspace.close()
    data = bytearray((folder / "meadow.db").read_bytes())
    data[(page - 1) * size : (page - 1) * size + 60] = bytes(60)
    (folder / "meadow.db").write_bytes(data)
    with pytest.raises(Damaged, match="Restore a backup"):
        processes._Whole(folder)
    monkeypatch.setattr(processes, "LARGE", 0)
    whole, stopped = processes._Whole(folder), threading.Event()
    whole.end()
    for name, value in (("CALM", 0.2), ("LOOKS_EVERY", 0.05)):
        monkeypatch.setattr(processes, name, value)
    busy = threading.Event()
    busy.set()
    whole.begin(stopped.set, busy.is_set)
    assert not stopped.wait(1), "not while pages are asked for"
    busy.clear()
    assert stopped.wait(30)
    with pytest.raises(Damaged, match=r"is damaged: .*Restore a backup"):
        whole.end()
