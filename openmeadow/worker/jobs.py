"""Jobs: long work asked for by a page, done by the worker with progress, one at a time."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable
from pathlib import Path
from typing import TypeVar

import numpy as np
import structlog

from openmeadow.core.errors import Busy, MeadowError
from openmeadow.core.rules.parser import parse
from openmeadow.core.states import JobKind, JobState
from openmeadow.services import models
from openmeadow.services.models import Outcome
from openmeadow.services.subscribers import address_checks, bulk_actions, export, import_events, import_subscribers, undo
from openmeadow.services.subscribers.selection import Choice, chosen
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.records import Job

log = structlog.get_logger()
T = TypeVar("T")
TURN = 2.0  # seconds a long job works before mail that is due gets its turn
RETRY_BUSY_AFTER = 1.0  # seconds until a busy database is tried again


Progress = Callable[[int, int], None]


def _subscribers(workspace: Workspace, job: Job, progress: Progress) -> Outcome:
    """Imported; and where wished, those not checked yet are checked next, as a job of its own."""
    a = models.ImportJob.model_validate_json(job.arguments)
    report = import_subscribers.run(
        workspace.store,
        Path(a.path),
        workspace.now(),
        job.who,
        corrections=a.corrections,
        list_name=a.list_name or None,
        source=a.source or None,
        dry_run=a.dry_run,
        consent=a.consent,
        encoding=a.encoding or "utf-8",
        dates=a.dates,
        suppressed=a.suppressed,
        wording=a.wording or None,
        values=a.values,
        progress=progress,
        refused_to=workspace.folder / "refused" / f"{job.id}.csv",
    )
    if a.check and not a.dry_run and report.ids:
        view = workspace.view()
        open_ones = view.columns.people.id[view.mask(parse("address is unknown or not checked"))]
        unchecked = models.JobChoice(ids=tuple(np.intersect1d(open_ones, report.ids).tolist()))
        check = models.AddressesJob(choice=unchecked, ask_hosts=False, name="address check of an import")
        with workspace.store.atomic() as db:
            settings.add_job(db, JobKind.ADDRESSES, check.model_dump_json(), job.who, workspace.now())
    return Outcome.model_validate(report.json())


def _events(workspace: Workspace, job: Job, progress: Progress) -> Outcome:
    a = models.ImportJob.model_validate_json(job.arguments)
    report = import_events.run(
        workspace.store,
        Path(a.path),
        workspace.now(),
        job.who,
        dry_run=a.dry_run,
        progress=progress,
        refused_to=workspace.folder / "refused" / f"{job.id}.csv",
    )
    return Outcome.model_validate(report.json())


def _act(workspace: Workspace, job: Job, progress: Progress) -> Outcome:
    a = models.ActionJob.model_validate_json(job.arguments)
    if a.act == undo.UNDO:
        return Outcome(sentence=undo.undo(workspace, int(a.argument), job.who))
    action, people = bulk_actions.do(workspace, a.act, a.argument, _choice(a.choice), job.who, progress)
    return Outcome(action=action, taken=people)


def _export(workspace: Workspace, job: Job, progress: Progress) -> Outcome:
    a = models.ExportJob.model_validate_json(job.arguments)
    return export.kept(workspace, job.id, _choice(a.choice), tuple(a.columns), a.form, a.name, job.who, progress)


def _choice(c: models.JobChoice) -> Choice:
    return Choice(c.rule, c.text, c.bands, c.ids, c.without, c.also)


class Later(Exception):
    """A job goes on another time: it was paused, or has had its turn. What is done stays done."""


def _by_turns(
    workspace: Workspace, job: Job, a: models.AddressesJob | models.AddressFileJob, progress: Progress
) -> Progress:
    """Progress of a job that may be paused and gives others their turn: where it is left is kept as ``done``."""
    begun, turn = a.done, time.monotonic() + TURN

    def at(done: int, total: int) -> None:
        progress(begun + done, begun + total)
        if done < total and (time.monotonic() > turn or settings.job_paused(workspace.store.read(), job.id)):
            left = a.model_copy(update={"done": begun + done})
            with workspace.store.atomic() as db:
                settings.save_position(db, job.id, left.model_dump_json())
            raise Later

    return at


def _addresses(workspace: Workspace, job: Job, progress: Progress) -> Outcome:
    a = models.AddressesJob.model_validate_json(job.arguments)
    view, at = workspace.view(), _by_turns(workspace, job, a, progress)
    ids = view.columns.people.id[np.flatnonzero(chosen(workspace, view, _choice(a.choice)))].tolist()
    address_checks.check_people(workspace, ids[a.done :], ask_hosts=a.ask_hosts, progress=at)
    return Outcome(taken=len(ids))


def _address_file(workspace: Workspace, job: Job, progress: Progress) -> Outcome:
    a = models.AddressFileJob.model_validate_json(job.arguments)
    folder = workspace.folder / export.FOLDER
    folder.mkdir(exist_ok=True)
    out, at = folder / f"{job.id}.csv", _by_turns(workspace, job, a, progress)
    verdicts = address_checks.check_file(workspace, Path(a.path), out, a.done, ask_hosts=a.ask_hosts, progress=at)
    return Outcome(taken=sum(verdicts.values()), verdicts=verdicts)


_JOBS: dict[JobKind, Callable[[Workspace, Job, Progress], Outcome]] = {
    JobKind.SUBSCRIBERS: _subscribers,
    JobKind.EVENTS: _events,
    JobKind.ACT: _act,
    JobKind.EXPORT: _export,
    JobKind.ADDRESSES: _addresses,
    JobKind.ADDRESS_FILE: _address_file,
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

    def progress(done: int, total: int) -> None:
        with contextlib.suppress(Busy), workspace.store.atomic() as db:
            settings.update_job(db, job.id, workspace.now(), state=JobState.WORKING, done=done, total=total)

    try:
        with structlog.contextvars.bound_contextvars(job=job.id):
            outcome = _JOBS[job.kind](workspace, job, progress)
        state = JobState.FINISHED
    except Later:
        return True
    except Busy:
        raise  # tried again, as it was
    except MeadowError as e:
        state, outcome = JobState.FAILED, Outcome(error=str(e))
    except Exception:
        log.exception("job failed", job=job.id)
        state, outcome = JobState.FAILED, Outcome(error=f"Internal error; the log names job {job.id}.")
    wait_while_busy(lambda: _finish_job(workspace, int(job.id), state, outcome))
    return True


def _finish_job(workspace: Workspace, row_id: int, state: JobState, outcome: Outcome) -> None:
    with workspace.store.atomic() as db:
        settings.update_job(db, row_id, workspace.now(), state=state, done=1, total=1, outcome=outcome.model_dump_json())
