"""Import: upload, check, map the columns, preview, import."""

from __future__ import annotations

import re
import secrets
import tempfile
from pathlib import Path

from flask import request

from openmeadow.core.errors import Missing, Refused
from openmeadow.core.imports.dates import STYLES
from openmeadow.core.imports.event_log import NAMES as EVENT_NAMES
from openmeadow.core.imports.subscribers import KNOWN
from openmeadow.core.states import JobKind
from openmeadow.services.subscribers import file_reader, import_events, import_looks
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.subscribers import fields, subscribers
from openmeadow.web import schemas as m
from openmeadow.web.router import ANALYSE, Routes, file_given, who


def _uploaded(workspace: Workspace, name: str) -> Path:
    path = workspace.folder / "uploads" / Path(name).name
    if not path.is_file():
        raise Missing("The uploaded file has expired. Choose it again.")
    return path


def described_file(
    workspace: Workspace, path: Path, kind: str, encoding: str = "", corrections: dict[str, str] | None = None
) -> m.Upload:
    """What an uploaded file seems to be."""
    name, raw_bytes = path.name.partition("-")[2], path.stat().st_size
    ndjson = file_reader.is_ndjson(path)
    head = list(EVENT_NAMES) if ndjson else file_reader.header(path, encoding or file_reader.encoding_of(path))
    low = [h.strip().lower() for h in head]
    if ndjson or kind == "events" or (not kind and {"at", "event", "email"} <= set(low)):
        chunks = file_reader.ndjson_chunks(path, EVENT_NAMES) if ndjson else file_reader.csv_chunks(path)
        rows, _, _ = next(chunks, ([], [], 0))
        return m.Upload(
            upload=path.name,
            kind="events",
            name=name,
            header=head,
            targets=[h if h in EVENT_NAMES else "" for h in low],
            sample=[c for _, c in rows[:6]],
            known=list(EVENT_NAMES),
            bytes=raw_bytes,
            styles={},
        )
    looked = import_looks.look(workspace.store, path, encoding, corrections)
    purposes = [p.name for p in subscribers.names(workspace.store.read(), "purposes")]
    parts = ("consent", "consent_at", "consent_source", "consent_wording")
    return m.Upload(
        upload=path.name,
        kind="subscribers",
        name=name,
        header=looked.header,
        known=[*KNOWN, *(f"{c}:{p}" for p in purposes for c in parts)],
        targets=looked.targets,
        sample=looked.sample,
        bytes=raw_bytes,
        encoding=looked.encoding,
        separator=looked.separator,
        dates=looked.dates,
        values={h: [m.ValueLine(value=v, count=n, state=s) for v, n, s in found] for h, found in looked.values.items()},
        purposes=purposes,
        fields=fields.names(workspace.store.read()),
        styles={style: example for style, (example, _) in STYLES.items()},
        remembered=looked.remembered,
    )


routes = Routes()


@routes.route("POST", "/imports/upload", m.Upload, upload=m.ImportFile, rights=ANALYSE)
def upload(workspace: Workspace, form: m.ImportFile) -> m.Upload:
    """Take a file (multipart field ``file``) and say what its columns seem to be; nothing is imported yet."""
    file = file_given()
    folder = workspace.folder / "uploads"
    folder.mkdir(exist_ok=True)
    token = secrets.token_hex(8)
    name = re.sub(r"[^\w.() +-]", "_", file.filename or "")[-80:]
    path = folder / f"{token}-{name}"
    file.save(path)
    return described_file(workspace, path, form.kind)


@routes.route("POST", "/imports/preview", m.Upload, body=m.LookAgain, rights=ANALYSE)
def look_again(workspace: Workspace, body: m.LookAgain) -> m.Upload:
    """The same file read in another encoding, or with other matches."""
    return described_file(workspace, _uploaded(workspace, body.upload), "", body.encoding, body.corrections)


@routes.route("POST", "/imports", m.Done, body=m.ImportIn, rights=ANALYSE)
def bring_in(workspace: Workspace, body: m.ImportIn) -> m.Done:
    """Look through an uploaded file (dry run) or bring it in, as a job."""
    path = _uploaded(workspace, body.upload)
    given = body.model_dump(exclude={"upload", "kind"})
    job = m.ImportJob(**given, path=str(path), name=path.name.partition("-")[2])
    with workspace.store.atomic() as db:
        return m.Done(id=settings.add_job(db, JobKind(body.kind), job.model_dump_json(), who(), workspace.now()))


@routes.route(
    "POST", "/events", m.Outcome, upload="application/x-ndjson|text/csv|text/plain", rights=ANALYSE, scope="events"
)
def events(workspace: Workspace) -> m.Outcome:
    """Take an event log as NDJSON (or CSV with a header) in the body, while another program sends; at once."""
    body = request.get_data(cache=False)
    if not body.strip():
        raise Refused("The body is empty. Send one JSON object per line.")
    folder = workspace.folder / "uploads"
    folder.mkdir(exist_ok=True)
    with tempfile.NamedTemporaryFile(dir=folder, suffix=".ndjson") as file:
        file.write(body)
        file.flush()
        report = import_events.run(workspace.store, Path(file.name), workspace.now(), who())
    return m.Outcome.model_validate(report.json())
