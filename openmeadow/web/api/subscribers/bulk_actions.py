"""Acts on many people with their undo, jobs, exports, sources and machine opens."""

from __future__ import annotations

from dataclasses import asdict

from flask import Response, g

from openmeadow.core.errors import Missing
from openmeadow.core.states import JobKind
from openmeadow.services.subscribers import bulk_actions, score_model, sources
from openmeadow.services.subscribers import export as export_service
from openmeadow.services.subscribers import undo as undo_service
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.records import Job
from openmeadow.web import schemas as m
from openmeadow.web.api.subscribers.subscribers import choice_of, columns_of
from openmeadow.web.router import ANALYSE, READ, Routes, who


def job_model(row: Job) -> m.Job:
    """A job as pages show it."""
    said = m.JobName.model_validate_json(row.arguments)
    outcome = m.Outcome.model_validate_json(row.outcome) if row.outcome and row.outcome != "null" else None
    return m.Job(
        id=row.id,
        kind=row.kind,
        state=row.state,
        done=row.done,
        total=row.total,
        outcome=outcome,
        made_at=row.made_at,
        name=said.name,
        dry_run=said.dry_run,
    )


routes = Routes()


@routes.route("POST", "/actions/preview", m.ActionPreview, body=m.ActionIn)
def preview(workspace: Workspace, body: m.ActionIn) -> m.ActionPreview:
    """What an act on many people would do, in numbers."""
    return bulk_actions.preview(workspace, body.act, body.argument, choice_of(body.choice))


@routes.route("POST", "/actions", m.ActionDone, body=m.ActionIn, rights=ANALYSE)
def act(workspace: Workspace, body: m.ActionIn) -> m.ActionDone:
    """Do it: at once, or as a job when many people are concerned."""
    return bulk_actions.start(workspace, body.act, body.argument, choice_of(body.choice), who())


@routes.route("POST", "/activity/<int:id>/undo", m.Undone, rights=ANALYSE)
def undo(workspace: Workspace, row_id: int) -> m.Undone:
    """Take an entry of the activity log back: at once, or as a job when it made many entries."""
    return undo_service.start(workspace, row_id, who())


@routes.route("GET", "/exports/columns", m.ExportColumns)
def export_columns(workspace: Workspace) -> m.ExportColumns:
    """What can be exported of people."""
    kept = float(settings.setting(workspace.store.read(), "exports_kept_days"))
    return m.ExportColumns(
        columns=export_service.known_columns(workspace), usual=list(export_service.USUAL), kept_days=kept
    )


@routes.route("POST", "/exports", m.Done, body=m.ExportIn, rights=READ)
def export(workspace: Workspace, body: m.ExportIn) -> m.Done:
    """Write people to a file, as a job that is recorded."""
    job = m.ExportJob(
        choice=m.JobChoice(**asdict(choice_of(body.choice))),
        columns=list(columns_of(body.columns)),
        form=body.form,
        name=body.name or "people",
    )
    with workspace.store.atomic() as db:
        return m.Done(id=settings.add_job(db, JobKind.EXPORT, job.model_dump_json(), who(), workspace.now()))


@routes.route("GET", "/exports/<int:id>", "text/csv|application/x-ndjson")
def exported(workspace: Workspace, row_id: int) -> Response:
    """The file of an export: for who made it, and for analysts."""
    made = settings.job(workspace.store.read(), row_id)
    if g.user.role != "analyst" and (made is None or made.who != g.user.name):
        raise Missing("This export has expired. Create a new one.")
    path = next((workspace.folder / export_service.FOLDER).glob(f"{row_id}.*"), None)
    if path is None:
        raise Missing("This export has expired. Create a new one.")
    kind = "text/csv" if path.suffix == ".csv" else "application/x-ndjson"
    headers = {"Content-Disposition": f"attachment; filename=subscribers-{path.name}"}
    return Response(path.read_bytes(), mimetype=kind, headers=headers)


@routes.route("GET", "/subscribers/sources", m.Sources)
def list_sources(workspace: Workspace) -> m.Sources:
    """Sources and imports with what became of their people."""
    return m.Sources(sources=sources.every(workspace))


@routes.route("GET", "/subscribers/machine-activity", m.MachineOpens)
def machine_opens(workspace: Workspace) -> m.MachineOpens:
    """How much of each provider's opens and clicks are machines'."""
    return sources.machine_opens(workspace)


@routes.route("GET", "/subscribers/score-check", m.ScoreChecked)
def score_checked(workspace: Workspace) -> m.ScoreChecked:
    """How the score of the last mailings held against what came, and the model that stands."""
    return m.ScoreChecked(check=score_model.last_check(workspace), model=workspace.model_summary())


@routes.route("GET", "/jobs/<int:id>", m.Job)
def job(workspace: Workspace, row_id: int) -> m.Job:
    """How far a job is, and what came of it."""
    row = settings.job(workspace.store.read(), row_id)
    if row is None:
        raise Missing("This job does not exist.")
    return job_model(row)


@routes.route("GET", "/jobs/<int:id>/refused.csv", "text/csv")
def refused(workspace: Workspace, row_id: int) -> Response:
    """The refused rows of an import as a CSV of their own."""
    path = workspace.folder / "refused" / f"{row_id}.csv"
    if not path.is_file():
        raise Missing("This import has no rejected rows.")
    return Response(
        path.read_bytes(),
        mimetype="text/csv",
        headers={"Content-Disposition": f"attachment; filename=rejected-{row_id}.csv"},
    )
