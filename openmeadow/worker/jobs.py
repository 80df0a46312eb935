"""Jobs: long work asked for by a page, done by the worker with progress, one at a time."""

from __future__ import annotations

import contextlib
import json
import sqlite3
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

import numpy as np
import structlog

from openmeadow.core.errors import Busy, MeadowError
from openmeadow.services.subscribers import address_checks, bulk_actions, export, import_events, import_subscribers
from openmeadow.services.subscribers.selection import Choice, chosen
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings

log = structlog.get_logger()
T = TypeVar("T")
TURN = 2.0  # seconds a long job works before mail that is due gets its turn
RETRY_BUSY_AFTER = 1.0  # seconds until a busy database is tried again


Progress = Callable[[int, int], None]


def _subscribers(workspace: Workspace, job: sqlite3.Row, a: dict[str, Any], progress: Progress) -> dict[str, Any]:
    return import_subscribers.run(
        workspace.store,
        Path(a["path"]),
        workspace.now(),
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
        refused_to=workspace.folder / "refused" / f"{job['id']}.csv",
    ).json()


def _subscribers_checked(workspace: Workspace, job: sqlite3.Row, a: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """Imported; and where wished, those not checked yet are checked next, as a job of its own."""
    outcome = _subscribers(workspace, job, a, progress)
    if a.get("check") and not a.get("dry_run"):
        arguments = {
            "choice": {"rule": "address is unknown or not checked"},
            "ask_hosts": False,
            "name": "address check of an import",
        }
        with workspace.store.atomic() as db:
            settings.add_job(db, "addresses", arguments, job["who"], workspace.now())
    return outcome


def _events(workspace: Workspace, job: sqlite3.Row, a: dict[str, Any], progress: Progress) -> dict[str, Any]:
    return import_events.run(
        workspace.store,
        Path(a["path"]),
        workspace.now(),
        job["who"],
        dry_run=bool(a.get("dry_run")),
        progress=progress,
        refused_to=workspace.folder / "refused" / f"{job['id']}.csv",
    ).json()


def _act(workspace: Workspace, job: sqlite3.Row, a: dict[str, Any], progress: Progress) -> dict[str, Any]:
    action, people = bulk_actions.do(workspace, a["act"], a["argument"], Choice(**a["choice"]), job["who"], progress)
    return {"action": action, "taken": people}


def _export(workspace: Workspace, job: sqlite3.Row, a: dict[str, Any], progress: Progress) -> dict[str, Any]:
    columns = tuple(a["columns"])
    return export.kept(workspace, job["id"], Choice(**a["choice"]), columns, a["form"], a["name"], job["who"], progress)


class Later(Exception):
    """A job goes on another time: it was paused, or has had its turn. What is done stays done."""


def _by_turns(workspace: Workspace, job: sqlite3.Row, a: dict[str, Any], progress: Progress) -> Progress:
    """Progress of a job that may be paused and gives others their turn: where it is left is kept as ``done``."""
    begun, turn = int(a.get("done", 0)), time.monotonic() + TURN

    def at(done: int, total: int) -> None:
        progress(begun + done, begun + total)
        if done < total and (time.monotonic() > turn or settings.job_paused(workspace.store.read(), job["id"])):
            with workspace.store.atomic() as db:
                settings.save_position(db, job["id"], a | {"done": begun + done})
            raise Later

    return at


def _addresses(workspace: Workspace, job: sqlite3.Row, a: dict[str, Any], progress: Progress) -> dict[str, Any]:
    view, at = workspace.view(), _by_turns(workspace, job, a, progress)
    ids = view.columns.people.id[np.flatnonzero(chosen(workspace, view, Choice(**a["choice"])))].tolist()
    address_checks.check_people(workspace, ids[int(a.get("done", 0)) :], ask_hosts=bool(a["ask_hosts"]), progress=at)
    return {"taken": len(ids)}


def _address_file(workspace: Workspace, job: sqlite3.Row, a: dict[str, Any], progress: Progress) -> dict[str, Any]:
    at, begun = _by_turns(workspace, job, a, progress), int(a.get("done", 0))
    folder = workspace.folder / export.FOLDER
    folder.mkdir(exist_ok=True)
    out = folder / f"{job['id']}.csv"
    verdicts = address_checks.check_file(
        workspace, Path(a["path"]), out, begun, ask_hosts=bool(a["ask_hosts"]), progress=at
    )
    return {"taken": sum(verdicts.values()), "verdicts": verdicts}


_JOBS: dict[str, Callable[[Workspace, sqlite3.Row, dict[str, Any], Progress], dict[str, Any]]] = {
    "subscribers": _subscribers_checked,
    "events": _events,
    "act": _act,
    "export": _export,
    "addresses": _addresses,
    "address file": _address_file,
}


def wait_while_busy(do: Callable[[], T]) -> T:
    """A busy database is waited for."""
    while True:
        try:
            return do()
        except Busy as e:
            log.warning("waits", reason=str(e))
            time.sleep(RETRY_BUSY_AFTER)


def run_next_job(workspace: Workspace) -> bool:
    """Do the next job, if there is one; True when there was."""
    job = settings.next_job(workspace.store.read())
    if job is None:
        return False
    a = json.loads(job["arguments"])

    def progress(done: int, total: int) -> None:
        with contextlib.suppress(Busy), workspace.store.atomic() as db:
            settings.update_job(db, job["id"], workspace.now(), state="working", done=done, total=total)

    try:
        outcome = _JOBS[job["kind"]](workspace, job, a, progress)
        state = "finished"
    except Later:
        return True
    except Busy:
        raise  # tried again, as it was
    except MeadowError as e:
        state, outcome = "failed", {"error": str(e)}
    except Exception:
        log.exception("job failed", job=job["id"])
        state, outcome = "failed", {"error": f"Internal error; the log names job {job['id']}."}
    wait_while_busy(lambda: _finish_job(workspace, int(job["id"]), state, outcome))
    return True


def _finish_job(workspace: Workspace, row_id: int, state: str, outcome: dict[str, Any]) -> None:
    with workspace.store.atomic() as db:
        settings.update_job(db, row_id, workspace.now(), state=state, done=1, total=1, outcome=outcome)
