"""Moves the demo clock: everything that falls due on the way happens in its order."""

from __future__ import annotations

import contextlib
import json
import urllib.request

from openmeadow.core.errors import MeadowError
from openmeadow.core.moments import HOUR
from openmeadow.net.signed_tokens import Tokens
from openmeadow.services.campaigns import dispatcher, external_sending, outgoing
from openmeadow.services.campaigns.arrivals import Arrivals
from openmeadow.services.clock import DemoClock
from openmeadow.services.health.inbound_mail import Intake
from openmeadow.services.sequences import runner
from openmeadow.services.subscribers import signup
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.campaigns import deliveries
from openmeadow.store.subscribers import signups
from openmeadow.worker.housekeeping import SenderChecks

SETTLES = 20.0  # seconds that opens and clicks may take into the database before the clock goes on
FINE, COARSE = 60, 600  # seconds a moved clock steps while people act: fine soon after a batch, coarse later


class ClockMover:
    """Carries out a move of the demo clock; ``world`` is the stand-in's control address, if any."""

    def __init__(self, workspace: Workspace, world: str, tokens: Tokens, senders: SenderChecks) -> None:
        self.workspace, self.world, self.tokens, self.senders = workspace, world, tokens, senders
        self.inbound: Intake | None = None

    def _world(self, path: str, *, post: bool = False) -> dict[str, int]:
        request = urllib.request.Request(self.world + path, data=b"" if post else None)
        with urllib.request.urlopen(request, timeout=120) as answer:
            result: dict[str, int] = json.load(answer)
            return result

    def next_due(self) -> int | None:
        """The next moment something of ours happens."""
        db = self.workspace.store.read()
        moments = deliveries.next_due(db), signups.next_due(db), runner.next_due(self.workspace)
        return min((m for m in moments if m is not None), default=None)

    def move(self) -> bool:
        """A wished move of the demo clock: everything that falls due on the way happens in its order."""
        clock, move = self.workspace.clock, settings.clock_move(self.workspace.store.read())
        if move is None or not isinstance(clock, DemoClock):
            return False
        target = move.target
        if target is None:
            due = self.next_due()
            people = self._world("/next").get("next") if self.world else None
            target = min((m for m in (due, people) if m is not None), default=clock.now())
            target = max(target, clock.now())
        busy_until = clock.now()
        while True:
            with contextlib.suppress(MeadowError):
                external_sending.tend(self.workspace)
                if not outgoing.is_paused(self.workspace):
                    signup.tend(self.workspace)
                    runner.tick(self.workspace)
                if not outgoing.is_paused(self.workspace) and dispatcher.send_due(self.workspace, self.tokens):
                    busy_until = clock.now() + HOUR
            people = self._world("/play", post=True).get("next") if self.world else None
            if self.inbound is not None:
                self.inbound.drain()
            self.workspace.part(Arrivals).settle(SETTLES)
            now = clock.now()
            if now >= target:
                break
            due = self.next_due()
            step = FINE if now < busy_until else COARSE
            ahead = [
                m
                for m in (due, people if people is None or people <= now + 10 else max(people, now + step))
                if m is not None
            ]
            clock.set(max(now, min([target, *ahead])))
            with self.workspace.store.atomic() as db:
                settings.update_clock_move(db, move.id, "moving", clock.now())
        self.senders.check()
        with self.workspace.store.atomic() as db:
            settings.update_clock_move(db, move.id, "finished", clock.now())
        return True
