"""Acts on many people with their undo, jobs, exports, doors and machine opens."""

from __future__ import annotations

import json
import sqlite3

from flask import Response, g

from openmeadow.core.errors import Missing
from openmeadow.desk import acts, doors, exports
from openmeadow.desk.desk import Desk
from openmeadow.store import workspace
from openmeadow.web import models as m
from openmeadow.web.api.subscribers import choice_of, columns_of
from openmeadow.web.described import ANALYSE, READ, Described, who


def job_model(row: sqlite3.Row) -> m.Job:
    a = json.loads(row["arguments"])
    outcome = json.loads(row["outcome"]) if row["outcome"] and row["outcome"] != "null" else None
    return m.Job(
        id=row["id"],
        kind=row["kind"],
        state=row["state"],
        done=row["done"],
        total=row["total"],
        outcome=m.Outcome(**outcome) if outcome else None,
        made_at=row["made_at"],
        name=a.get("name", ""),
        dry_run=bool(a.get("dry_run")),
    )


def register(api: Described, desk: Desk) -> None:
    @api.route("POST", "/acts/preview", m.ActPreview, body=m.ActIn)
    def preview(body: m.ActIn) -> m.ActPreview:
        """What an act on many people would do, in numbers."""
        return m.ActPreview(**acts.preview(desk, body.act, body.argument, choice_of(body.choice)))

    @api.route("POST", "/acts", m.Acted, body=m.ActIn, rights=ANALYSE)
    def act(body: m.ActIn) -> m.Acted:
        """Do it: at once, or as a job when many people are concerned."""
        return m.Acted(**acts.start(desk, body.act, body.argument, choice_of(body.choice), who()))

    @api.route("POST", "/activity/<int:id>/undo", m.Undone, rights=ANALYSE)
    def undo(id: int) -> m.Undone:
        """Take an entry of the activity log back."""
        return m.Undone(sentence=acts.undo(desk, id, who()))

    @api.route("GET", "/exports/columns", m.ExportColumns)
    def export_columns() -> m.ExportColumns:
        """What can be exported of people."""
        kept = float(workspace.setting(desk.store.read(), "exports_kept_days"))
        return m.ExportColumns(columns=exports.known_columns(desk), usual=list(exports.USUAL), kept_days=kept)

    @api.route("POST", "/exports", m.Done, body=m.ExportIn, rights=READ)
    def export(body: m.ExportIn) -> m.Done:
        """Write people to a file, as a job that is recorded."""
        arguments = {
            "choice": body.choice.model_dump(),
            "columns": columns_of(body.columns),
            "form": body.form,
            "name": body.name or "people",
        }
        with desk.store.atomic() as db:
            return m.Done(id=workspace.add_job(db, "export", arguments, who(), desk.now()))

    @api.route("GET", "/exports/<int:id>", "text/csv|application/x-ndjson")
    def exported(id: int) -> Response:
        """The file of an export: for who made it, and for analysts."""
        made = workspace.job(desk.store.read(), id)
        if g.user.role != "analyst" and (made is None or made["who"] != g.user.name):
            raise Missing("This export is not kept any more; make it again.")
        path = next((desk.folder / exports.FOLDER).glob(f"{id}.*"), None)
        if path is None:
            raise Missing("This export is not kept any more; make it again.")
        kind = "text/csv" if path.suffix == ".csv" else "application/x-ndjson"
        headers = {"Content-Disposition": f"attachment; filename=people-{path.name}"}
        return Response(path.read_bytes(), mimetype=kind, headers=headers)

    @api.route("GET", "/subscribers/doors", m.Doors)
    def see_doors() -> m.Doors:
        """Doors and imports with what became of their people."""
        return m.Doors(doors=[m.Door(**d) for d in doors.every(desk)])

    @api.route("GET", "/subscribers/machine-opens", m.MachineOpens)
    def machine_opens() -> m.MachineOpens:
        """How much of each provider's opens and clicks are machines'."""
        return m.MachineOpens(**doors.machine_opens(desk))

    @api.route("GET", "/jobs/<int:id>", m.Job)
    def job(id: int) -> m.Job:
        """How far a job is, and what came of it."""
        row = workspace.job(desk.store.read(), id)
        if row is None:
            raise Missing("There is no such job.")
        return job_model(row)

    @api.route("GET", "/jobs/<int:id>/refused.csv", "text/csv")
    def refused(id: int) -> Response:
        """The refused rows of an import as a CSV of their own."""
        path = desk.folder / "refused" / f"{id}.csv"
        if not path.is_file():
            raise Missing("No rows were refused in this import.")
        return Response(
            path.read_bytes(),
            mimetype="text/csv",
            headers={"Content-Disposition": f"attachment; filename=refused-{id}.csv"},
        )
