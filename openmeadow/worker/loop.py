"""The worker: sends what is due, does jobs, checks senders, takes bounces in, moves the demo clock."""

from __future__ import annotations

import fcntl
import time
from collections.abc import Callable
from functools import partial
from typing import TypeVar

import structlog

from openmeadow.core.errors import MeadowError, Refused
from openmeadow.net import heartbeat
from openmeadow.net.signed_tokens import Tokens
from openmeadow.net.smtp_client import RelayProblem
from openmeadow.services.campaigns import dispatcher, external_sending, guardrails, outgoing, unconfirmed
from openmeadow.services.health.inbound_mail import Intake
from openmeadow.services.senders import relay
from openmeadow.services.sequences import runner
from openmeadow.services.subscribers import signup
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.engagement import events as event_table
from openmeadow.worker.demo_clock import ClockMover
from openmeadow.worker.housekeeping import DUTIES, KEEP_HOUSE_EVERY, SenderChecks
from openmeadow.worker.jobs import run_next_job, wait_while_busy

log = structlog.get_logger()
PAUSE = 0.3
IDLE = 10.0  # seconds without work after which the database's log is written into it
FIRST_PAUSE, LONGEST_PAUSE = 1.0, 60.0  # seconds between tries of what failed
RELAY = "relay"


T = TypeVar("T")


class Worker:
    """One per workspace; a second one says so and leaves. ``world`` is the stand-in's control address, if any."""

    def __init__(self, workspace: Workspace, world: str = "") -> None:
        self.workspace, self.world = workspace, world
        self.tokens = Tokens(workspace.folder)
        self._lock = (workspace.folder / "worker.lock").open("w")
        try:
            fcntl.flock(self._lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            self._lock.close()
            raise Refused("Another worker is already running for this workspace; exiting.") from None
        self._house_at, self._guard_at, self._seen = 0.0, 0.0, -1
        self.intake: Intake | None = None
        self._idle_since, self._is_checkpointed = time.monotonic(), False
        self._not_before: dict[str, tuple[float, float]] = {}  # by duty: when it is tried next, the pause before
        self._senders = SenderChecks(workspace)
        self._clock = ClockMover(workspace, world, self.tokens, self._senders)
        self._relay_was_away = relay.away(workspace) is not None
        caught = wait_while_busy(lambda: dispatcher.recover(workspace))
        if caught:
            log.warning("found unconfirmed", deliveries=caught)

    def close(self) -> None:
        """Close the workspace."""
        self._lock.close()

    def listen(self) -> Intake:
        """Open the port for inbound mail; Refused where it is taken."""
        s = settings.settings(self.workspace.store.read())
        host, port = str(s["intake_host"]), int(s["intake_port"])
        try:
            self.intake = self._clock.inbound = Intake(self.workspace, self.tokens, host, port)
        except OSError as e:
            raise Refused(f"The intake cannot listen at {host} port {port}: {e.strerror or e}.") from e
        return self.intake

    def tick(self) -> bool:
        """Do what is due now; True when there was something. What fails is set aside or tried again later; the others
        go on."""
        busy = bool(self._duty("job", lambda: run_next_job(self.workspace))) | bool(self._duty("clock", self._clock.move))
        self._keep_house()
        self._duty("events of another system", lambda: external_sending.tend(self.workspace))
        if not outgoing.is_paused(self.workspace):
            busy |= self._send()
        self._duty("guardrails", self._look_at_guardrails)
        self._duty("senders", self._senders.check)
        self._when_idle(busy)
        return busy

    def _send(self) -> bool:
        busy = bool(self._duty("sequences", lambda: runner.tick(self.workspace)))
        self._duty("unconfirmed", lambda: unconfirmed.resolve_by_events(self.workspace))
        busy |= bool(self._mail(lambda: dispatcher.send_due(self.workspace, self.tokens)))
        return busy | bool(self._mail(lambda: signup.tend(self.workspace)))

    def _when_idle(self, busy: bool) -> None:
        """The log of the database is written into it when nothing has been done for a while."""
        if busy:
            self._idle_since, self._is_checkpointed = time.monotonic(), False
        elif not self._is_checkpointed and time.monotonic() - self._idle_since > IDLE:
            self._is_checkpointed = True
            self.workspace.store.analyse()
            self.workspace.store.checkpoint()

    def _duty(self, name: str, do: Callable[[], T]) -> T | None:
        """One duty of the loop. A full disk or a busy database is waited for; anything else that fails is logged and
        tried again after a growing pause."""
        if time.monotonic() < self._not_before.get(name, (0.0, 0.0))[0]:
            return None
        try:
            done = do()
        except MeadowError as e:
            self._wait_with(name, str(e))
        except Exception:
            log.exception("a duty failed", duty=name)
            self._wait_with(name, "")
        else:
            if self._not_before.pop(name, None) is not None:
                log.info("resumed", duty=name)
            return done
        return None

    def _wait_with(self, name: str, why: str) -> None:
        """The next try comes after 1, 2, 4 … 60 s; one line in the log for each change."""
        _, before = self._not_before.get(name, (0.0, 0.0))
        pause = min(max(2 * before, FIRST_PAUSE), LONGEST_PAUSE)
        if before == 0.0 and why:
            log.warning("waits", duty=name, reason=why)
        self._not_before[name] = (time.monotonic() + pause, pause)

    def _mail(self, send: Callable[[], int]) -> int:
        """Something that needs the relay. While it is away it is tried after 1, 2, 4 … 60 s, and its state is kept for
        every screen that says so."""
        if time.monotonic() < self._not_before.get(RELAY, (0.0, 0.0))[0]:
            return 0
        try:
            if RELAY in self._not_before or self._relay_was_away:
                connection = relay.relay(self.workspace)
                connection.ready()
                connection.close()
                self._not_before.pop(RELAY, None)
                self._relay_was_away = False
                if relay.note_up(self.workspace):
                    log.info("the relay accepts mail again")
            return send()
        except RelayProblem as e:
            _, before = self._not_before.get(RELAY, (0.0, 0.0))
            pause = min(max(2 * before, FIRST_PAUSE), LONGEST_PAUSE)
            self._not_before[RELAY] = (time.monotonic() + pause, pause)
            if relay.note_away(self.workspace, str(e)):
                log.warning("the relay accepts no mail", reason=str(e))
        except MeadowError as e:
            self._wait_with(RELAY, str(e))
        except Exception:
            log.exception("a duty failed", duty="sending")
            self._wait_with(RELAY, "")
        return 0

    def _look_at_guardrails(self) -> None:
        """Whenever news has arrived."""
        seen = event_table.highest(self.workspace.store.read())
        if seen == self._seen or time.monotonic() < self._guard_at:
            return
        begun, self._seen = time.monotonic(), seen
        for sentence in guardrails.news(self.workspace):
            log.warning("campaign paused", why=sentence)
        self._guard_at = time.monotonic() + 10 * (time.monotonic() - begun)

    def run(self) -> None:
        """Until it is told to stop. An intake whose port is taken is tried again; sending goes on without it."""
        beat = heartbeat.Heart(self.workspace.folder, heartbeat.WORKER)
        intake = None
        try:
            while not self.workspace.stopping.is_set():
                if intake is None:
                    intake = self._duty("intake", self.listen)
                if not self.tick():
                    time.sleep(PAUSE)
        finally:
            if intake is not None:
                intake.stop()
            beat.stop()
            self.close()

    def _keep_house(self) -> None:
        """Once in a while: ready-made segments for a new workspace, old exports removed."""
        if time.monotonic() < self._house_at:
            return
        self._house_at = time.monotonic() + KEEP_HOUSE_EVERY
        for duty in DUTIES:
            self._duty(f"{duty.__module__.rpartition('.')[2]} {duty.__name__}", partial(duty, self.workspace))
