"""Exports: people of a rule with chosen columns, as CSV or NDJSON, safe for spreadsheets, removed after a while."""

from __future__ import annotations

import csv
import json
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np

from openmeadow.core.addresses.verdicts import VERDICTS
from openmeadow.core.engagement.bands import BANDS
from openmeadow.core.errors import CannotOpen, Refused
from openmeadow.core.imports.dates import rfc3339
from openmeadow.core.moments import DAY
from openmeadow.core.rules.conditions import View
from openmeadow.services import models
from openmeadow.services.subscribers.selection import Choice, chosen, last_engaged_of
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings, undo_log
from openmeadow.store.health.providers import names as provider_names
from openmeadow.store.segments.permission_facts import StoreFacts
from openmeadow.store.subscribers import fields, selections, sources, subscribers
from openmeadow.store.subscribers.records import Subscriber

FOLDER = "exports"
USUAL = ("email", "name", "joined_at", "score", "band")
COLUMNS = (
    *USUAL,
    "chance",
    "active",
    "last_engaged",
    "ignored",
    "provider",
    "source",
    "lists",
    "labels",
    "language",
    "country",
) + ("time_zone", "address_status")
CHUNK = 5_000
Progress = Callable[[int, int], None]


def safe(cell: str) -> str:
    """A cell that a spreadsheet would run as a formula is made text."""
    return "'" + cell if cell.lstrip()[:1] in ("=", "+", "-", "@") or cell[:1] in ("\t", "\r", "\n") else cell


def known_columns(workspace: Workspace) -> list[str]:
    """What may be exported: the usual columns and the workspace's own fields."""
    return [*COLUMNS, *(f"field:{f}" for f in fields.names(workspace.store.read()))]


def _rows(workspace: Workspace, view: View, index: list[int], columns: tuple[str, ...]) -> list[list[str]]:
    db = workspace.store.read()
    ids = view.columns.people.id[index].tolist()
    stored = subscribers.by_ids(db, ids)
    lists = selections.several(db, ids, "lists") if "lists" in columns else {}
    labels = selections.several(db, ids, "labels") if "labels" in columns else {}
    verdicts = selections.verdicts_among(db, ids) if "address_status" in columns else {}
    source_names = sources.names(db) if "source" in columns else {}
    providers = provider_names(db) if "provider" in columns else []
    out = []
    for i, row_id in zip(index, ids, strict=True):
        row = stored[row_id]
        fields = row.fields

        def cell(
            column: str, i: int = i, row_id: int = row_id, row: Subscriber = row, fields: dict[str, str] = fields
        ) -> str:
            match column:
                case "joined_at":
                    return rfc3339(row.joined_at)
                case "score":
                    return f"{view.scores.score[i]:.1f}"
                case "chance" | "active":
                    return f"{getattr(view.scores, column)[i]:.6f}"
                case "band":
                    return BANDS[view.scores.band[i]]
                case "last_engaged":
                    at = last_engaged_of(view, i)
                    return rfc3339(at) if at is not None else ""
                case "ignored":
                    return str(int(view.scores.ignored[i]))
                case "provider":
                    return providers[row.provider]
                case "source":
                    return source_names.get(row.source or 0, "")
                case "lists" | "labels":
                    return ";".join((lists if column == "lists" else labels).get(row_id, ()))
                case "address_status":
                    return VERDICTS[verdicts[row_id]] if row_id in verdicts else ""
            if column.startswith("field:"):
                return str(fields.get(column[6:], ""))
            return str(getattr(row, column) or "")

        out.append([cell(c) for c in columns])
    return out


def write(
    workspace: Workspace, choice: Choice, columns: tuple[str, ...], out: Path, progress: Progress | None = None
) -> int:
    """Write the people of a choice to a file, .csv or .ndjson by its ending; how many."""
    unknown = [c for c in columns if c not in known_columns(workspace)]
    if unknown or not columns:
        raise Refused(f"There is no column “{unknown[0]}” to export." if unknown else "Choose at least one column.")
    view = workspace.view()
    assert isinstance(view.facts, StoreFacts)
    index = np.flatnonzero(chosen(workspace, view, choice)).tolist()
    try:
        with out.open("w", encoding="utf-8", newline="") as f:
            writer = csv.writer(f)
            if out.suffix != ".ndjson":
                writer.writerow(columns)
            for i in range(0, len(index), CHUNK):
                for row in _rows(workspace, view, index[i : i + CHUNK], columns):
                    if out.suffix == ".ndjson":
                        f.write(json.dumps(dict(zip(columns, row, strict=True)), ensure_ascii=False) + "\n")
                    else:
                        writer.writerow([safe(c) for c in row])
                if progress:
                    progress(min(i + CHUNK, len(index)), len(index))
    except OSError as e:
        raise CannotOpen(f"The file {out} cannot be opened: {e.strerror}.") from e
    return len(index)


def kept(
    workspace: Workspace,
    job: int,
    choice: Choice,
    columns: tuple[str, ...],
    form: str,
    what: str,
    who: str,
    progress: Progress,
) -> models.Outcome:
    """An export as a job: the file is kept in the data folder and recorded."""
    if form not in ("csv", "ndjson"):
        raise Refused("The format is csv or ndjson.")
    folder = workspace.folder / FOLDER
    folder.mkdir(exist_ok=True)
    path = folder / f"{job}.{form}"
    people = write(workspace, choice, columns, path, progress)
    with workspace.store.atomic() as db:
        undo_log.begin(db, workspace.now(), who, "exported", f"{what} ({', '.join(columns)})", people, None)
    return models.Outcome(file=path.name, taken=people, rows=people)


def clean_up(workspace: Workspace) -> int:
    """Remove exports, uploads and lists of refused rows that were kept long enough; how many files went."""
    days = float(settings.setting(workspace.store.read(), "exports_kept_days"))
    gone = 0
    for folder in (FOLDER, "uploads", "refused"):
        for path in (workspace.folder / folder).glob("*"):
            if time.time() - path.stat().st_mtime > days * DAY:
                path.unlink(missing_ok=True)
                gone += 1
    return gone
