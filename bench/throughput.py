"""Handing over beside a bare smtplib loop with one prepared message over as many connections, against the same relay:
``python -m bench.throughput``."""

from __future__ import annotations

import contextlib
import smtplib
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections import deque
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from openmeadow.demo import build, ports
from openmeadow.net.signed_tokens import Tokens
from openmeadow.services.campaigns import campaigns, dispatcher, renderer
from openmeadow.services.campaigns.composing import Composers
from openmeadow.services.segments import segments
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.campaigns import batches as batch_table
from openmeadow.store.campaigns import campaigns as campaign_table
from openmeadow.store.campaigns import deliveries

ROUND, ROUNDS = 600, 5
TAKES_ALL = """
import sys, time
from aiosmtpd.controller import Controller
class Takes:
    async def handle_DATA(self, server, session, envelope):
        return "250 2.0.0 taken"
Controller(Takes(), hostname="127.0.0.1", port=int(sys.argv[1])).start()
time.sleep(3600)
"""


def begin(*command: str) -> subprocess.Popen[bytes]:
    return subprocess.Popen([sys.executable, *command], stdin=subprocess.PIPE)


def until_it_listens(port: int) -> None:
    end = time.monotonic() + 60
    while True:
        try:
            smtplib.SMTP("127.0.0.1", port).quit()
            return
        except (OSError, smtplib.SMTPException):
            assert time.monotonic() < end
            time.sleep(0.05)


@contextmanager
def workspace_with_relay(of_the_demo: bool) -> Iterator[tuple[Workspace, int]]:
    """The demo's workspace beside its own mail world, or beside a relay that takes everything and looks at nothing."""
    at = {name: ports.free_port() for name in ("relay", "dns", "http", "intake", "all")}
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name) / "data"
        build.unpack(folder)
        given = [str(x) for n in ("relay", "dns", "http", "intake") for x in (f"--{n}", at[n])]
        others = [
            begin("-m", "openmeadow", "--data", str(folder), "standins", *given),
            begin("-c", TAKES_ALL, str(at["all"])),
        ]
        port = at["relay" if of_the_demo else "all"]
        workspace = Workspace(folder)
        with workspace.store.atomic() as db:
            settings.set_setting(db, "relay_port", port)
            settings.set_setting(db, "resolver", f"127.0.0.1:{at['dns']}")
        until_it_listens(at["relay"])
        until_it_listens(port)
        try:
            yield workspace, port
        finally:
            workspace.close()
            for other in others:
                other.kill()
                other.wait()


def bare(port: int, connections: int, message: bytes, to: list[str]) -> float:
    """Messages a second."""

    todo = deque(to)

    def loop() -> None:
        with smtplib.SMTP("127.0.0.1", port) as smtp:
            smtp.ehlo()
            while todo:
                with contextlib.suppress(IndexError):
                    smtp.mail("b1@bounce.news.kestrelquay.example")
                    if smtp.rcpt(todo.popleft())[0] == 250:
                        assert smtp.data(message)[0] == 250
                    else:
                        smtp.rset()

    threads = [threading.Thread(target=loop) for _ in range(connections)]
    begun = time.perf_counter()
    for t in threads:
        t.start()
    for t in threads:
        t.join()
    return len(to) / (time.perf_counter() - begun)


def begun_campaign(workspace: Workspace, of: int) -> tuple[int, Tokens]:
    """A campaign to everybody in one batch, started; the batch's id."""
    id = campaign_table.every(workspace.store.read())[of].id
    segment = workspace.store.read().execute("SELECT max(id) AS id FROM segments").fetchone()["id"]
    plan: dict[str, Any] = {"pilot_share": 0.0, "batches": 1, "resend": False, "start": workspace.now()}
    campaigns.write(workspace, id, {"segments_in": [segment], "plan": plan})
    campaigns.start(workspace, id, "bench")
    return batch_table.batches(workspace.store.read(), id)[0].id, Tokens(workspace.store.folder)


def durable() -> None:
    """What it costs that each message's entry is on the disk before its DATA, beside leaving that to the system."""
    with workspace_with_relay(False) as (workspace, _):
        segments.save(workspace, "For the bench", 'permitted for "Season news"', "bench")
        batch, tokens = begun_campaign(workspace, 0)
        composers = Composers(after=0)
        going = dispatcher.turns(workspace, tokens, batch, dispatcher.Together(workspace, composers))
        next(going)
        rates: dict[str, list[float]] = {"FULL": [], "NORMAL": []}
        for _ in range(ROUNDS):
            for how, found in rates.items():
                workspace.store.writer.execute(f"PRAGMA synchronous = {how}")
                begun, done = time.perf_counter(), 0
                while done < ROUND:
                    done += next(going)
                found.append(done / (time.perf_counter() - begun))
        going.close()
        composers.close()
        full, normal = (statistics.median(r) for r in rates.values())
        beside = f"left to the system {normal:,.0f}: {full / normal:.2f} of it"
        print(f"  each entry on the disk before DATA: {full:,.0f} a second, {beside}")


def contest(title: str, of_the_demo: bool) -> None:
    with workspace_with_relay(of_the_demo) as (workspace, port):
        segments.save(workspace, "For the bench", 'permitted for "Season news"', "bench")
        batch, tokens = begun_campaign(workspace, 0)
        row = campaign_table.one(workspace.store.read(), campaign_table.every(workspace.store.read())[0].id)
        assert row is not None
        people = deliveries.waiting_of(workspace.store.read(), batch, ROUND)
        first, to = people[0], [p.email for p in people]
        writer = renderer.Writer(workspace, row, tokens)
        to_first = writer.addressee(first, first.email, renderer.person_fields(first), None, ())
        message = writer.composer.message(to_first, workspace.now())
        composers, connections, rates = Composers(after=0), int(workspace.setting("connections")), []
        going = dispatcher.turns(workspace, tokens, batch, dispatcher.Together(workspace, composers))
        next(going)
        composers.wait()
        for _ in range(ROUNDS):
            begun, done = time.perf_counter(), 0
            while done < ROUND:
                done += next(going)
            rates.append((done / (time.perf_counter() - begun), bare(port, connections, message, to)))
        going.close()
        composers.close()
        ours, theirs = (statistics.median(r) for r in zip(*rates, strict=True))
        print(f"  {title}: {ours:,.0f} a second, the bare loop {theirs:,.0f}: {ours / theirs:.2f} of its rate")


def main() -> None:
    print(f"\nHanding over, every message written and signed for its reader (medians of {ROUNDS} rounds of {ROUND})")
    contest("the relay of the demo's mail world, which checks every signature", True)
    contest("a relay that looks at nothing", False)
    durable()


if __name__ == "__main__":
    main()
