"""Opens and clicks on their way into the database: at once, through the file, after a crash, and of a machine."""

from __future__ import annotations

import http.client
import socket
import sqlite3
import subprocess
import sys
import threading
from io import BufferedReader
from pathlib import Path

from openmeadow.core.events import Kind
from openmeadow.core.ids import DeliveryId
from openmeadow.demo.ports import free_port
from openmeadow.net.arrival_log import FOLDER, Arrival, ArrivalLog, read
from openmeadow.services.campaigns import arrivals, campaigns, dispatcher, tracking
from openmeadow.services.campaigns.arrivals import Arrivals
from openmeadow.store.campaigns.deliveries import delivery
from openmeadow.store.engagement import event_hours
from openmeadow.web.app import make_app
from openmeadow.web.server import make_server
from tests.conftest import NOW
from tests.services.mailing import Mailing, deliveries_of, mailing


def _sent(m: Mailing) -> list[int]:
    campaigns.write(m.workspace, m.campaign, {"plan": {"pilot_share": 0.0, "batches": 1, "resend": False}})
    campaigns.start(m.workspace, m.campaign, "test")
    dispatcher.send_due(m.workspace, m.tokens)
    return [d.id for d in deliveries_of(m.workspace.store.read(), m.campaign, "first")]


def _opens(m: Mailing) -> list[int]:
    rows = m.workspace.store.read().execute("SELECT subscriber FROM events WHERE kind = 5 ORDER BY id")
    return [r["subscriber"] for r in rows]


def test_at_once_or_through_the_file(folder: Path) -> None:
    with mailing(folder, 30) as m:
        ids = _sent(m)
        tracking.opened(m.workspace, ids[0], "Reader", "198.51.100.1")
        assert len(_opens(m)) == 1 and not list((folder / FOLDER).glob("*"))

        other = sqlite3.connect(m.workspace.store.path, isolation_level=None)
        other.execute("BEGIN IMMEDIATE")
        for i in ids[1:20]:
            tracking.opened(m.workspace, i, "Reader", "198.51.100.1")
        assert len(_opens(m)) == 1
        (kept,) = (folder / FOLDER).glob("*.jsonl")
        lines = kept.read_bytes()
        other.execute("COMMIT")
        m.workspace.part(Arrivals).settle(20)
        subscribers = [delivery(m.workspace.store.read(), i).subscriber for i in ids[:20]]  # type: ignore[union-attr]
        assert _opens(m) == subscribers and not list((folder / FOLDER).glob("*"))

        kept.write_bytes(lines)  # as if the process had died between the commit and the end of the file
        assert arrivals.take_left(m.workspace) == 0
        assert _opens(m) == subscribers and event_hours.wrong(m.workspace.store.read()) == 0


def _answer(answers: BufferedReader) -> tuple[int, bool]:
    """The status of an answer, and whether it is the image."""
    status, headers = int(answers.readline().split()[1]), http.client.parse_headers(answers)
    answers.read(int(headers["Content-Length"]))
    return status, headers["Content-Type"] == "image/gif"


def test_many_are_answered_in_the_order_in_which_they_were_asked(folder: Path) -> None:
    """By the thread that reads the connection, while others write; another page in between comes in its turn."""
    with mailing(folder, 30) as m:
        ids, port = _sent(m), free_port()
        server = make_server(make_app(m.workspace), m.workspace, "127.0.0.1", port)
        answering = threading.Thread(target=server.run)
        answering.start()
        paths = [f"/o/{m.tokens.make('o', DeliveryId(i))}" for i in ids]
        paths[10:10] = ["/healthz", "/o/no-token-of-ours"]
        other = sqlite3.connect(m.workspace.store.path, isolation_level=None)
        other.execute("BEGIN IMMEDIATE")
        try:
            with socket.create_connection(("127.0.0.1", port), timeout=30) as client, client.makefile("rb") as answers:
                for some in paths[:1], paths[1:]:  # the first finds that somebody writes
                    client.sendall(b"".join(f"GET {p} HTTP/1.1\r\nHost: x\r\n\r\n".encode() for p in some))
                    told = [_answer(answers) for _ in some]
                    assert told == [(404, False) if "no-token" in p else (200, p.startswith("/o/")) for p in some]
        finally:
            other.execute("COMMIT")
            server.stop()
            answering.join(30)
            server.close()
        assert not answering.is_alive()
        m.workspace.part(Arrivals).settle(20)
        assert len(_opens(m)) == len(ids)


DIES = """
import os, signal, sys
from pathlib import Path
from openmeadow.net.arrival_log import Arrival, ArrivalLog
log = ArrivalLog(Path(sys.argv[1]))
for delivery in sys.argv[3:]:
    log.append(Arrival(int(sys.argv[2]), 5, int(delivery), 0, "Reader", "198.51.100.1"))
os.write(log._handle, b'[17, 5, 1')
os.kill(os.getpid(), signal.SIGKILL)
"""


def test_a_process_that_dies_loses_none(folder: Path) -> None:
    with mailing(folder, 12) as m:
        ids = _sent(m)
        subprocess.run([sys.executable, "-c", DIES, str(folder), str(NOW), *map(str, ids)], check=False)
        living = ArrivalLog(folder)
        living.append(Arrival(NOW, Kind.OPENED, ids[0], 0, "Another", "198.51.100.2"))
        assert arrivals.take_left(m.workspace) == len(ids) == len(_opens(m))
        assert len(living.left()) == 0 and not living.is_empty(), "what a living process writes is left to it"
        living.rotate()
        assert arrivals.take_left(m.workspace) == 0 and living.is_empty()  # the same second: one open


def test_a_machine_that_asks_on_and_on(folder: Path) -> None:
    with mailing(folder, 2) as m:
        ids = _sent(m)
        many = [
            Arrival(NOW + n, Kind.OPENED, i, 0, f"Machine {n}", "203.0.113.9") for n in range(500) for i in (ids[0], 999)
        ]
        with m.workspace.store.atomic() as db:
            assert arrivals.write(db, many) == arrivals.MOST_EVENTS - 1  # the send is one
            assert arrivals.write(db, many[:10]) == 0


def test_none_is_lost_while_files_are_taken(tmp_path: Path) -> None:
    """Threads write while another takes what is there, again and again."""
    log, threads, each, found = ArrivalLog(tmp_path), 6, 400, list[int]()

    def write(first: int) -> None:
        for i in range(first, first + each):
            log.append(Arrival(NOW, Kind.OPENED, i, 0, "Reader", "198.51.100.1"))

    def take() -> None:
        log.rotate()
        for path in log.left():
            found.extend(a.delivery for some in read(path, 100) for a in some)
            path.unlink()

    writing = [threading.Thread(target=write, args=(n * each,)) for n in range(threads)]
    for t in writing:
        t.start()
    while any(t.is_alive() for t in writing):
        take()
    take()
    assert sorted(found) == list(range(threads * each)) and log.is_empty()
