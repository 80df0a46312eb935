"""What somebody decides about a campaign while the worker looks at it stands."""

from __future__ import annotations

import socket
import socketserver
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from openmeadow.core.moments import HOUR
from openmeadow.services.campaigns import campaigns, dispatcher
from openmeadow.services.campaigns.undo_start import undo_start
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.campaigns import campaigns as campaign_table
from tests.conftest import NOW, set_clock
from tests.services.mailing import Mailing, deliveries_of, mailing

ACTS: dict[str, Callable[[Workspace, int], object]] = {
    "paused": lambda w, id: campaigns.pause(w, id, "ann"),
    "stopped": lambda w, id: campaigns.stop(w, id, "ann"),
    "draft": lambda w, id: undo_start(w, id, "ann"),
}


@contextmanager
def asked_first(m: Mailing, act: Callable[[], object]) -> Iterator[None]:
    """The workspace's resolver is one that acts once before it passes any question on."""
    host, _, port = str(m.workspace.setting("resolver")).partition(":")
    todo = [act]

    class Passing(socketserver.BaseRequestHandler):
        def handle(self) -> None:
            question, own = self.request
            while todo:
                todo.pop()()
            with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as other:
                other.sendto(question, (host, int(port)))
                own.sendto(other.recv(65_535), self.client_address)

    with socketserver.UDPServer(("127.0.0.1", 0), Passing) as server:
        thread = threading.Thread(target=server.serve_forever)
        thread.start()
        with m.workspace.store.atomic() as db:
            settings.set_setting(db, "resolver", f"127.0.0.1:{server.server_address[1]}")
        try:
            yield
        finally:
            server.shutdown()
            thread.join()
    assert not todo, "nobody asked"


@pytest.mark.parametrize("state", ACTS)
def test_a_batch_that_begins_overrules_nobody(folder: Path, state: str) -> None:
    with mailing(folder, 40) as m:
        campaigns.write(m.workspace, m.campaign, {"plan": {"pilot_share": 0.0, "batches": 1, "resend": False}})
        campaigns.start(m.workspace, m.campaign, "ann")
        set_clock(m.workspace, NOW + HOUR)  # the look at the sending domain is old by now: the DNS is asked first

        def act() -> None:
            other = Workspace(m.workspace.folder)
            ACTS[state](other, m.campaign)
            other.close()

        with asked_first(m, act):
            dispatcher.send_due(m.workspace, m.tokens)
        db = m.workspace.store.read()
        row = campaign_table.one(db, m.campaign)
        assert row is not None and row.state == state
        assert not any(d.state == "sent" for d in deliveries_of(db, m.campaign, "first"))
        if state == "paused":
            campaigns.resume(m.workspace, m.campaign, "ann")
            dispatcher.send_due(m.workspace, m.tokens)
            assert {d.state for d in deliveries_of(m.workspace.store.read(), m.campaign, "first")} == {"sent"}
