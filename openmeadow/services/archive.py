"""Everything out, as files anybody can read, and back in: the way to another machine."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

from pydantic import BaseModel

from openmeadow.core.errors import CannotOpen, MeadowError, Refused
from openmeadow.core.events import Kind
from openmeadow.core.imports.dates import moment, rfc3339
from openmeadow.services.campaigns import outgoing
from openmeadow.services.subscribers import export as export_service
from openmeadow.services.subscribers.selection import Choice
from openmeadow.services.workspace import Workspace
from openmeadow.store import archive, settings
from openmeadow.store.engagement import event_counts, event_hours
from openmeadow.store.subscribers.consent import KEY_FILE
from openmeadow.store.subscribers.subscribers import facts_changed, people_changed

FORM = 1
SECRETS = ("secret", KEY_FILE)  # so that links in mail already sent go on working, and the chain of evidence holds
EVENT_COLUMNS = ("at", "event", "email", "message", "id", "url", "agent", "ip", "code", "diagnostic", "value")


def export(workspace: Workspace, out: Path, who: str) -> dict[str, int]:
    """``tables/*.ndjson`` holds every table word for word; ``subscribers.csv`` and ``events.csv`` are the same people
    and events in the open forms. How many rows of each table."""
    try:
        if out.exists() and any(out.iterdir()):
            raise Refused(f"{out} is not empty. Choose an empty or new folder.")
        (out / "tables").mkdir(parents=True, exist_ok=True)
        counts: dict[str, int] = {}
        with workspace.store.one_moment() as db:  # whatever goes on meanwhile, all tables are of one moment
            for table in archive.tables(db):
                with (out / "tables" / f"{table}.ndjson").open("w", encoding="utf-8") as f:
                    n = 0
                    for n, line in enumerate(archive.rows(db, table), start=1):  # noqa: B007
                        f.write(line + "\n")
                counts[table] = n
            export_service.write(workspace, Choice(), export_service.USUAL, out / "subscribers.csv")
            _events(workspace, out / "events.csv")
        for name in SECRETS:
            if (workspace.folder / name).exists():
                shutil.copy(workspace.folder / name, out / name)
                (out / name).chmod(0o600)
        about = {"form": FORM, "made_at": rfc3339(workspace.now()), "rows": counts}
        (out / "about.json").write_text(json.dumps(about, indent=1) + "\n", encoding="utf-8")
    except OSError as e:
        raise CannotOpen(f"{out} cannot be opened for writing: {(e.strerror or 'unknown reason').lower()}.") from e
    with workspace.store.atomic() as db:
        settings.log(db, workspace.now(), who, "exported everything", str(out), counts.get("subscribers", 0))
    return counts


def _events(workspace: Workspace, out: Path) -> None:
    import csv

    with out.open("w", encoding="utf-8", newline="") as f:
        writer = csv.writer(f)
        writer.writerow(EVENT_COLUMNS)
        for r in event_counts.everything(workspace.store.read()):
            cells = (r.email, r.message_name or "", r.outside_id or "", r.url or "", r.agent_name or "")
            rest = (r.ip or "", r.code or "", r.diagnostic or "", r.value or "")
            writer.writerow(
                [rfc3339(r.at), Kind(r.kind).name.lower(), *(export_service.safe(str(c)) for c in (*cells, *rest))]
            )


class _About(BaseModel):
    """What an export says of itself: the version of its form, rows by table, when it was made (RFC 3339)."""

    form: int | str | None = None
    rows: dict[str, int] = {}
    made_at: str = ""


def import_tables(workspace: Workspace, folder: Path, who: str) -> dict[str, int]:
    """Read an export back into an empty workspace; all of it or nothing."""
    try:
        about = _About.model_validate_json((folder / "about.json").read_text(encoding="utf-8"))
    except OSError as e:
        raise CannotOpen(f"The export {folder} cannot be opened: {(e.strerror or 'unknown reason').lower()}.") from e
    except ValueError as e:
        raise MeadowError(f"{folder}/about.json cannot be read; this is not an export made by “export all”.") from e
    if about.form != FORM:
        raise MeadowError(f"This export has an unsupported version ({about.form}).")
    if not archive.is_empty(workspace.store.read()):
        raise Refused("An export can be imported only into an empty workspace. Choose another data folder.")
    counts: dict[str, int] = {}
    try:
        workspace.store.writer.execute("PRAGMA foreign_keys = OFF")
        with workspace.store.atomic() as db:
            for table in archive.tables(db):
                path = folder / "tables" / f"{table}.ndjson"
                if not path.exists():
                    continue
                with path.open(encoding="utf-8") as f:
                    counts[table] = archive.take(db, table, (line for line in f if line.strip()))
                if counts[table] != about.rows.get(table, counts[table]):
                    raise MeadowError(f"{path.name} has {counts[table]:,} rows, but the export lists another number.")
            if not archive.references_hold(db):
                raise MeadowError("The export is inconsistent: some rows refer to missing rows.")
            event_hours.rebuild(db)
            facts_changed(db)
            people_changed(db)
            as_of = moment(about.made_at or rfc3339(workspace.now()))
            outgoing.pause_all(db, workspace.now(), as_of, "imported from an export")
            settings.log(db, workspace.now(), who, "imported everything", str(folder), counts.get("subscribers", 0))
    except ValueError as e:
        raise MeadowError(f"The export cannot be read: {e}.") from e
    finally:
        workspace.store.writer.execute("PRAGMA foreign_keys = ON")
    for name in SECRETS:
        if (folder / name).exists():
            shutil.copy(folder / name, workspace.folder / name)
            (workspace.folder / name).chmod(0o600)
    return counts
