"""The worker: hands over what is due, does jobs, checks senders, takes bounces in, moves the demo clock."""

from __future__ import annotations

import contextlib
import fcntl
import json
import sqlite3
import time
import urllib.request
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import structlog

from openmeadow.clock import DemoClock
from openmeadow.core.errors import MeadowError, NoSpace, Refused
from openmeadow.desk import (
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
    placement,
    ready_made,
    round_trip,
    senders,
    sending,
    words,
)
from openmeadow.desk.bring_in import events as event_intake
from openmeadow.desk.bring_in import subscribers as subscriber_intake
from openmeadow.desk.desk import Desk
from openmeadow.desk.marked import Choice, chosen
from openmeadow.desk.sequences import moving
from openmeadow.store import events as event_table
from openmeadow.store import ledger, signups, workspace
from openmeadow.store import senders as sender_table
from openmeadow.wire import smtp_in
from openmeadow.wire.tokens import Tokens

log = structlog.get_logger()
CHECK_SENDERS_EVERY = 3600
KEEP_HOUSE_EVERY = 30
PAUSE = 0.3
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
        caught = sending.recover(desk)
        if caught:
            log.warning("found in doubt", deliveries=caught)

    def close(self) -> None:
        """Let go of the workspace."""
        self._lock.close()

    def listen(self) -> Any:
        s = workspace.settings(self.desk.store.read())
        return smtp_in.listen(str(s["intake_host"]), int(s["intake_port"]), self._returned)

    def _returned(self, to: str, raw: bytes) -> None:
        try:
            if not round_trip.came_back(self.desk, self.tokens, to, raw) and not answers.returned(
                self.desk, self.tokens, to, raw
            ):
                log.info("nothing to match", to=to)
        except MeadowError as e:
            log.info("mail that cannot be read", to=to, reason=str(e))

    def tick(self) -> bool:
        """Do what is due now; True when there was something."""
        busy = self._job() | self._move_clock()
        self._keep_house()
        try:
            elsewhere.tend(self.desk)
            busy |= moving.tick(self.desk) > 0
            busy |= sending.send_due(self.desk, self.tokens) > 0
        except MeadowError as e:
            log.warning("hand-over waits", reason=str(e))
        with contextlib.suppress(MeadowError):
            busy |= joining.tend(self.desk) > 0
        self._look_at_guardrails()
        self._check_senders()
        return busy

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
        intake = self.listen()
        try:
            while True:
                try:
                    busy = self.tick()
                except NoSpace as e:
                    log.warning("nothing goes on", reason=str(e))
                    busy = False
                if not busy:
                    time.sleep(PAUSE)
        finally:
            intake.stop()
            self.close()

    def _keep_house(self) -> None:
        """Once in a while: ready-made segments for a new workspace, old exports removed."""
        if time.monotonic() < self._house_at:
            return
        self._house_at = time.monotonic() + KEEP_HOUSE_EVERY
        ready_made.make(self.desk)
        exports.clean_up(self.desk)
        consent.suppress_repeated_soft(self.desk)
        duties = (asking.let_silent_go, self._clean_up, addresses.ask_again, addresses.find_providers)
        for duty in (*duties, placement.look, words.tend):
            try:
                duty(self.desk)
            except MeadowError as e:
                log.warning("a duty waits", reason=str(e))

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
            if row["checked_at"] is None or now - row["checked_at"] >= CHECK_SENDERS_EVERY:
                senders.check(self.desk, row["id"])

    def _job(self) -> bool:
        job = workspace.next_job(self.desk.store.read())
        if job is None:
            return False
        desk, a = self.desk, json.loads(job["arguments"])

        def progress(done: int, total: int) -> None:
            with desk.store.atomic() as db:
                workspace.update_job(db, job["id"], desk.now(), state="working", done=done, total=total)

        try:
            outcome = _JOBS[job["kind"]](desk, job, a, progress)
            state = "finished"
        except Later:
            return True
        except MeadowError as e:
            state, outcome = "failed", {"error": str(e)}
        except Exception:
            log.exception("job failed", job=job["id"])
            state, outcome = "failed", {"error": f"Something went wrong inside; the log names job {job['id']}."}
        with desk.store.atomic() as db:
            workspace.update_job(db, job["id"], desk.now(), state=state, done=1, total=1, outcome=outcome)
        return True

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
                joining.tend(self.desk)
                elsewhere.tend(self.desk)
                moving.tick(self.desk)
                if sending.send_due(self.desk, self.tokens):
                    busy_until = clock.now() + 3600
            people = self._world("/play", post=True).get("next") if self.world else None
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
