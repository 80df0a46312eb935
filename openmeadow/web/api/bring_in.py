"""Bring in: upload, look, match, look through, bring in."""

from __future__ import annotations

import re
import secrets
import tempfile
from pathlib import Path

from flask import request

from openmeadow.core.errors import Missing, Refused
from openmeadow.core.intake.events import NAMES as EVENT_NAMES
from openmeadow.core.intake.moments import STYLES
from openmeadow.core.intake.subscribers import KNOWN
from openmeadow.desk.bring_in import events as event_intake
from openmeadow.desk.bring_in import reading
from openmeadow.desk.bring_in import subscribers as intake
from openmeadow.desk.desk import Desk
from openmeadow.store import subscribers, workspace
from openmeadow.web import models as m
from openmeadow.web.described import ANALYSE, Described, file_given, who


def _uploaded(desk: Desk, name: str) -> Path:
    path = desk.folder / "uploads" / Path(name).name
    if not path.is_file():
        raise Missing("The file is not here any more; choose it again.")
    return path


def described_file(
    desk: Desk, path: Path, kind: str, encoding: str = "", corrections: dict[str, str] | None = None
) -> m.Upload:
    """What an uploaded file seems to be."""
    name, bytes = path.name.partition("-")[2], path.stat().st_size
    ndjson = reading.is_ndjson(path)
    head = list(EVENT_NAMES) if ndjson else reading.header(path, encoding or reading.encoding_of(path))
    low = [h.strip().lower() for h in head]
    if ndjson or kind == "events" or (not kind and {"at", "event", "email"} <= set(low)):
        chunks = reading.ndjson_chunks(path, EVENT_NAMES) if ndjson else reading.csv_chunks(path)
        rows, _, _ = next(chunks, ([], [], 0))
        return m.Upload(
            upload=path.name,
            kind="events",
            name=name,
            header=head,
            targets=[h if h in EVENT_NAMES else "" for h in low],
            sample=[c for _, c in rows[:6]],
            known=list(EVENT_NAMES),
            bytes=bytes,
            styles={},
        )
    looked = intake.look(desk.store, path, encoding, corrections)
    purposes = [p["name"] for p in subscribers.names(desk.store.read(), "purposes")]
    parts = ("consent", "consent_at", "consent_source", "consent_wording")
    return m.Upload(
        upload=path.name,
        kind="subscribers",
        name=name,
        header=looked.header,
        known=[*KNOWN, *(f"{c}:{p}" for p in purposes for c in parts)],
        targets=looked.targets,
        sample=looked.sample,
        bytes=bytes,
        encoding=looked.encoding,
        separator=looked.separator,
        dates=looked.dates,
        styles={style: example for style, (example, _) in STYLES.items()},
        remembered=looked.remembered,
    )


def register(api: Described, desk: Desk) -> None:
    @api.route("POST", "/bring-in/upload", m.Upload, upload=m.ImportFile, rights=ANALYSE)
    def upload(form: m.ImportFile) -> m.Upload:
        """Take a file (multipart field ``file``) and say what its columns seem to be; nothing is brought in yet."""
        file = file_given()
        folder = desk.folder / "uploads"
        folder.mkdir(exist_ok=True)
        token = secrets.token_hex(8)
        path = folder / f"{token}-{re.sub(r'[^A-Za-z0-9._-]', '_', file.filename or '')[-80:]}"
        file.save(path)
        return described_file(desk, path, form.kind)

    @api.route("POST", "/bring-in/look", m.Upload, body=m.LookAgain, rights=ANALYSE)
    def look_again(body: m.LookAgain) -> m.Upload:
        """The same file read in another encoding, or with other matches."""
        return described_file(desk, _uploaded(desk, body.upload), "", body.encoding, body.corrections)

    @api.route("POST", "/bring-in", m.Done, body=m.BringIn, rights=ANALYSE)
    def bring_in(body: m.BringIn) -> m.Done:
        """Look through an uploaded file (dry run) or bring it in, as a job."""
        path = _uploaded(desk, body.upload)
        arguments = body.model_dump(exclude={"upload", "kind"}) | {"path": str(path), "name": path.name.partition("-")[2]}
        with desk.store.atomic() as db:
            return m.Done(id=workspace.add_job(db, body.kind, arguments, who(), desk.now()))

    @api.route(
        "POST", "/events", m.Outcome, upload="application/x-ndjson|text/csv|text/plain", rights=ANALYSE, scope="events"
    )
    def events() -> m.Outcome:
        """Take an event log as NDJSON (or CSV with a header) in the body, while another program sends; at once."""
        body = request.get_data(cache=False)
        if not body.strip():
            raise Refused("The body is empty; send one JSON object a line.")
        folder = desk.folder / "uploads"
        folder.mkdir(exist_ok=True)
        with tempfile.NamedTemporaryFile(dir=folder, suffix=".ndjson") as file:
            file.write(body)
            file.flush()
            report = event_intake.bring_in(desk.store, Path(file.name), desk.now(), who())
        return m.Outcome(**report.json())
