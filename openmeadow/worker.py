"""The worker: hands over what is due, does jobs, checks senders, takes bounces in, moves the demo clock."""

from __future__ import annotations

import contextlib
import fcntl
import json
import sqlite3
import time
import urllib.request
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any, TypeVar

import numpy as np
import structlog

from openmeadow.clock import DemoClock
from openmeadow.core.errors import Busy, MeadowError, Refused
from openmeadow.desk import (
    accounts,
    acts,
    addresses,
    answers,
    asking,
    clean_up,
    consent,
    elsewhere,
    exports,
    guarding,
    joining,
    outgoing,
    placement,
    providers,
    ready_made,
    relay,
    round_trip,
    senders,
    sending,
    unconfirmed,
    words,
)
from openmeadow.desk.bring_in import events as event_intake
from openmeadow.desk.bring_in import subscribers as subscriber_intake
from openmeadow.desk.desk import Desk
from openmeadow.desk.intake import Intake, tidy
from openmeadow.desk.marked import Choice, chosen
from openmeadow.desk.sequences import moving
from openmeadow.store import events as event_table
from openmeadow.store import ledger, signups, workspace
from openmeadow.store import senders as sender_table
from openmeadow.wire import heartbeat
from openmeadow.wire.smtp_client import RelayProblem
from openmeadow.wire.tokens import Tokens

log = structlog.get_logger()
T = TypeVar("T")
CHECK_SENDERS_EVERY = 3600
KEEP_HOUSE_EVERY = 30
PAUSE = 0.3
IDLE = 10.0  # seconds without work after which the database's log is brought in
FIRST_PAUSE, LONGEST_PAUSE = 1.0, 60.0  # seconds between tries of what failed
RELAY = "relay"
TURN = 2.0  # seconds a long job works before mail that is due gets its turn
FINE, COARSE = 60, 600  # seconds a moved clock steps while people act: fine soon after a batch, coarse later


Progress = Callable[[int, int], None]


def _subscribers(desk: Desk, job: sqlite3.Row, a: dict[str, Any], progress: Progress) -> dict[str, Any]:
    return subscriber_intake.bring_in(
        desk.store,
        Path(a["path"]),
        desk.now(),
        job["who"],
        corrections=a.get("corrections"),
        list_name=a.get("list_name") or None,
        source=a.get("source") or None,
        dry_run=bool(a.get("dry_run")),
        consent=a.get("consent"),
        encoding=a.get("encoding") or "utf-8",
        dates=a.get("dates"),
        suppressed=a.get("suppressed") or "",
        progress=progress,
        refused_to=desk.folder / "refused" / f"{job['id']}.csv",
    ).json()


def _subscribers_checked(desk: Desk, job: sqlite3.Row, a: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """Brought in; and where wished, those not checked yet are checked next, as a job of its own."""
    outcome = _subscribers(desk, job, a, progress)
    if a.get("check") and not a.get("dry_run"):
        arguments = {"choice": {"rule": "address is unknown"}, "ask_hosts": False, "name": "address check of an import"}
        with desk.store.atomic() as db:
            workspace.add_job(db, "addresses", arguments, job["who"], desk.now())
    return outcome


def _events(desk: Desk, job: sqlite3.Row, a: dict[str, Any], progress: Progress) -> dict[str, Any]:
    return event_intake.bring_in(
        desk.store,
        Path(a["path"]),
        desk.now(),
        job["who"],
        dry_run=bool(a.get("dry_run")),
        progress=progress,
        refused_to=desk.folder / "refused" / f"{job['id']}.csv",
    ).json()


def _act(desk: Desk, job: sqlite3.Row, a: dict[str, Any], progress: Progress) -> dict[str, Any]:
    deed, people = acts.do(desk, a["act"], a["argument"], Choice(**a["choice"]), job["who"], progress)
    return {"deed": deed, "taken": people}


def _export(desk: Desk, job: sqlite3.Row, a: dict[str, Any], progress: Progress) -> dict[str, Any]:
    columns = tuple(a["columns"])
    return exports.kept(desk, job["id"], Choice(**a["choice"]), columns, a["form"], a["name"], job["who"], progress)


class Later(Exception):
    """A job goes on another time: it was paused, or has had its turn. What is done stays done."""


def _by_turns(desk: Desk, job: sqlite3.Row, a: dict[str, Any], progress: Progress) -> Progress:
    """Progress of a job that may be paused and gives others their turn: where it is left is kept as ``done``."""
    begun, turn = int(a.get("done", 0)), time.monotonic() + TURN

    def at(done: int, total: int) -> None:
        progress(begun + done, begun + total)
        if done < total and (time.monotonic() > turn or workspace.job_paused(desk.store.read(), job["id"])):
            with desk.store.atomic() as db:
                workspace.keep_place(db, job["id"], a | {"done": begun + done})
            raise Later

    return at


def _addresses(desk: Desk, job: sqlite3.Row, a: dict[str, Any], progress: Progress) -> dict[str, Any]:
    view, at = desk.view(), _by_turns(desk, job, a, progress)
    ids = view.columns.people.id[np.flatnonzero(chosen(desk, view, Choice(**a["choice"])))].tolist()
    addresses.check_people(desk, ids[int(a.get("done", 0)) :], ask_hosts=bool(a["ask_hosts"]), progress=at)
    return {"taken": len(ids)}


def _address_file(desk: Desk, job: sqlite3.Row, a: dict[str, Any], progress: Progress) -> dict[str, Any]:
    at, begun = _by_turns(desk, job, a, progress), int(a.get("done", 0))
    folder = desk.folder / exports.FOLDER
    folder.mkdir(exist_ok=True)
    out = folder / f"{job['id']}.csv"
    verdicts = addresses.check_file(desk, Path(a["path"]), out, begun, ask_hosts=bool(a["ask_hosts"]), progress=at)
    return {"taken": sum(verdicts.values()), "verdicts": verdicts}


_JOBS: dict[str, Callable[[Desk, sqlite3.Row, dict[str, Any], Progress], dict[str, Any]]] = {
    "subscribers": _subscribers_checked,
    "events": _events,
    "act": _act,
    "export": _export,
    "addresses": _addresses,
    "address file": _address_file,
}


def _patiently(do: Callable[[], T]) -> T:
    """A busy database is waited for."""
    while True:
        try:
            return do()
        except Busy as e:
            log.warning("waits", reason=str(e))
            time.sleep(FIRST_PAUSE)


def _bring_log_in(desk: Desk) -> None:
    """What was erased leaves the database's log too, when readers stood in the way before."""
    log_file = desk.store.path.with_name(f"{desk.store.path.name}-wal")
    if log_file.exists() and log_file.stat().st_size:
        _ = desk.store.writer
        desk.store.checkpoint()


class Worker:
    """One per workspace; a second one says so and leaves. ``world`` is the stand-in's control address, if any."""

    def __init__(self, desk: Desk, world: str = "") -> None:
        self.desk, self.world = desk, world
        self.tokens = Tokens(desk.folder)
        self._lock = (desk.folder / "worker.lock").open("w")
        try:
            fcntl.flock(self._lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            self._lock.close()
            raise Refused("Another worker already serves this workspace; this one leaves.") from None
        self._house_at, self._guard_at, self._seen = 0.0, 0.0, -1
        self.intake: Intake | None = None
        self._idle_since, self._is_checkpointed = time.monotonic(), False
        self._not_before: dict[str, tuple[float, float]] = {}  # by duty: when it is tried next, the pause before
        self._trips: dict[int, str] = {}  # by domain: what its last round trip showed when its records were looked at
        self._relay_was_away = relay.away(desk) is not None
        caught = _patiently(lambda: sending.recover(desk))
        if caught:
            log.warning("found in doubt", deliveries=caught)

    def close(self) -> None:
        """Let go of the workspace."""
        self._lock.close()

    def listen(self) -> Intake:
        s = workspace.settings(self.desk.store.read())
        host, port = str(s["intake_host"]), int(s["intake_port"])
        try:
            self.intake = Intake(self.desk, self.tokens, host, port)
        except OSError as e:
            raise Refused(f"The intake cannot listen at {host} port {port}: {e.strerror or e}.") from e
        return self.intake

    def tick(self) -> bool:
        """Do what is due now; True when there was something. What fails is set aside or tried again later; the others
        go on."""
        busy = bool(self._duty("job", self._job)) | bool(self._duty("clock", self._move_clock))
        self._keep_house()
        self._duty("told by another system", lambda: elsewhere.tend(self.desk))
        if not outgoing.is_paused(self.desk):
            busy |= self._send()
        self._duty("guardrails", self._look_at_guardrails)
        self._duty("senders", self._check_senders)
        self._when_idle(busy)
        return busy

    def _send(self) -> bool:
        busy = bool(self._duty("sequences", lambda: moving.tick(self.desk)))
        self._duty("unconfirmed", lambda: unconfirmed.settle_by_events(self.desk))
        busy |= bool(self._mail(lambda: sending.send_due(self.desk, self.tokens)))
        return busy | bool(self._mail(lambda: joining.tend(self.desk)))

    def _when_idle(self, busy: bool) -> None:
        """The log of the database is brought in when nothing has been done for a while."""
        if busy:
            self._idle_since, self._is_checkpointed = time.monotonic(), False
        elif not self._is_checkpointed and time.monotonic() - self._idle_since > IDLE:
            self._is_checkpointed = True
            self.desk.store.analyse()
            self.desk.store.checkpoint()

    def _duty(self, name: str, do: Callable[[], Any]) -> Any:
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
                log.info("goes on", duty=name)
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
                connection = relay.relay(self.desk)
                connection.ready()
                connection.close()
                self._not_before.pop(RELAY, None)
                self._relay_was_away = False
                if relay.note_up(self.desk):
                    log.info("the relay takes mail again")
            return send()
        except RelayProblem as e:
            _, before = self._not_before.get(RELAY, (0.0, 0.0))
            pause = min(max(2 * before, FIRST_PAUSE), LONGEST_PAUSE)
            self._not_before[RELAY] = (time.monotonic() + pause, pause)
            if relay.note_away(self.desk, str(e)):
                log.warning("the relay takes nothing", reason=str(e))
        except MeadowError as e:
            self._wait_with(RELAY, str(e))
        except Exception:
            log.exception("a duty failed", duty="sending")
            self._wait_with(RELAY, "")
        return 0

    def _look_at_guardrails(self) -> None:
        """Whenever news has arrived."""
        seen = event_table.highest(self.desk.store.read())
        if seen == self._seen or time.monotonic() < self._guard_at:
            return
        begun, self._seen = time.monotonic(), seen
        for sentence in guarding.news(self.desk):
            log.warning("plan held", why=sentence)
        self._guard_at = time.monotonic() + 10 * (time.monotonic() - begun)

    def run(self) -> None:
        """Until the process ends. An intake whose port is taken is tried again; sending goes on without it."""
        beat = heartbeat.Heart(self.desk.folder, heartbeat.WORKER)
        intake = None
        try:
            while True:
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
        duties: tuple[Callable[[Desk], Any], ...] = (
            ready_made.make,
            exports.clean_up,
            consent.suppress_repeated_soft,
            asking.let_silent_go,
            self._clean_up,
            addresses.ask_again,
            providers.look,
            placement.look,
            words.tend,
            tidy,
            answers.take_kept_unsubscribes,
            accounts.tend,
            _bring_log_in,
        )
        for duty in duties:
            self._duty(f"{duty.__module__.rpartition('.')[2]} {duty.__name__}", partial(duty, self.desk))

    @staticmethod
    def _clean_up(desk: Desk) -> None:
        clean_up.start_what_waits(desk, "worker")
        clean_up.run_by_itself(desk)

    def _check_senders(self) -> None:
        now = self.desk.now()
        for row in sender_table.domains(self.desk.store.read()):
            if round_trip.due(row, now):
                with contextlib.suppress(MeadowError):
                    round_trip.send(self.desk, row["id"])
            went = round_trip.finding(row, now)
            told = went.found if went else ""
            news = bool(told) and self._trips.get(row["id"]) != told
            if news or row["checked_at"] is None or now - row["checked_at"] >= CHECK_SENDERS_EVERY:
                senders.check(self.desk, row["id"])
                self._trips[row["id"]] = told

    def _job(self) -> bool:
        job = workspace.next_job(self.desk.store.read())
        if job is None:
            return False
        desk, a = self.desk, json.loads(job["arguments"])

        def progress(done: int, total: int) -> None:
            with contextlib.suppress(Busy), desk.store.atomic() as db:
                workspace.update_job(db, job["id"], desk.now(), state="working", done=done, total=total)

        try:
            outcome = _JOBS[job["kind"]](desk, job, a, progress)
            state = "finished"
        except Later:
            return True
        except Busy:
            raise  # tried again, as it was
        except MeadowError as e:
            state, outcome = "failed", {"error": str(e)}
        except Exception:
            log.exception("job failed", job=job["id"])
            state, outcome = "failed", {"error": f"Something went wrong inside; the log names job {job['id']}."}
        _patiently(lambda: self._settle_job(int(job["id"]), state, outcome))
        return True

    def _settle_job(self, id: int, state: str, outcome: dict[str, Any]) -> None:
        with self.desk.store.atomic() as db:
            workspace.update_job(db, id, self.desk.now(), state=state, done=1, total=1, outcome=outcome)

    def _world(self, path: str, *, post: bool = False) -> dict[str, Any]:
        request = urllib.request.Request(self.world + path, data=b"" if post else None)
        with urllib.request.urlopen(request, timeout=120) as answer:
            result: dict[str, Any] = json.load(answer)
            return result

    def next_due(self) -> int | None:
        """The next moment something of ours happens."""
        db = self.desk.store.read()
        moments = ledger.next_due(db), signups.next_due(db), moving.next_due(self.desk)
        return min((m for m in moments if m is not None), default=None)

    def _move_clock(self) -> bool:
        """A wished move of the demo clock: everything that falls due on the way happens in its order."""
        clock, move = self.desk.clock, workspace.clock_move(self.desk.store.read())
        if move is None or not isinstance(clock, DemoClock):
            return False
        target = move["target"]
        if target is None:
            due = self.next_due()
            people = self._world("/next").get("next") if self.world else None
            target = min((m for m in (due, people) if m is not None), default=clock.now())
            target = max(target, clock.now())
        busy_until = clock.now()
        while True:
            with contextlib.suppress(MeadowError):
                elsewhere.tend(self.desk)
                if not outgoing.is_paused(self.desk):
                    joining.tend(self.desk)
                    moving.tick(self.desk)
                if not outgoing.is_paused(self.desk) and sending.send_due(self.desk, self.tokens):
                    busy_until = clock.now() + 3600
            people = self._world("/play", post=True).get("next") if self.world else None
            if self.intake is not None:
                self.intake.drain()
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
            with self.desk.store.atomic() as db:
                workspace.update_clock_move(db, move["id"], "moving", clock.now())
        self._check_senders()
        with self.desk.store.atomic() as db:
            workspace.update_clock_move(db, move["id"], "finished", clock.now())
        return True
