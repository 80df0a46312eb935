"""Everything out, as files anybody can read, and back in: the way to another machine."""

from __future__ import annotations

import json
import shutil
from pathlib import Path
from typing import Any

from openmeadow.core.columns import Kind
from openmeadow.core.errors import MeadowError, Missing, Refused
from openmeadow.core.intake.moments import moment, rfc3339
from openmeadow.desk import exports, outgoing
from openmeadow.desk.desk import Desk
from openmeadow.desk.marked import Choice
from openmeadow.store import whole, workspace
from openmeadow.store.consent import KEY_FILE
from openmeadow.store.subscribers import facts_changed, people_changed

FORM = 1
SECRETS = ("secret", KEY_FILE)  # so that links in mail already sent go on working, and the chain of evidence holds
EVENT_COLUMNS = ("at", "event", "email", "message", "id", "url", "agent", "ip", "code", "diagnostic", "value")


def export(desk: Desk, out: Path, who: str) -> dict[str, int]:
    """``tables/*.ndjson`` holds every table word for word; ``subscribers.csv`` and ``events.csv`` are the same people
    and events in the open forms. How many rows of each table."""
    try:
        if out.exists() and any(out.iterdir()):
            raise Refused(f"{out} holds files already; name a folder that is empty or not there yet.")
        (out / "tables").mkdir(parents=True, exist_ok=True)
        counts: dict[str, int] = {}
        with desk.store.one_moment() as db:  # whatever goes on meanwhile, all tables are of one moment
            for table in whole.tables(db):
                with (out / "tables" / f"{table}.ndjson").open("w", encoding="utf-8") as f:
                    n = 0
                    for n, line in enumerate(whole.rows(db, table), start=1):  # noqa: B007
                        f.write(line + "\n")
                counts[table] = n
            exports.write(desk, Choice(), exports.USUAL, out / "subscribers.csv")
            _events(desk, out / "events.csv")
        for name in SECRETS:
            if (desk.folder / name).exists():
                shutil.copy(desk.folder / name, out / name)
                (out / name).chmod(0o600)
        about = {"form": FORM, "made_at": rfc3339(desk.now()), "rows": counts}
        (out / "about.json").write_text(json.dumps(about, indent=1) + "\n", encoding="utf-8")
    except OSError as e:
        raise Missing(f"{out} cannot be opened for writing: {(e.strerror or 'unknown reason').lower()}.") from e
    with desk.store.atomic() as db:
        workspace.log(db, desk.now(), who, "exported everything", str(out), counts.get("subscribers", 0))
    return counts


def _events(desk: Desk, out: Path) -> None:
    import csv

    with out.open("w", encoding="utf-8", newline="") as f:
        writer = csv.writer(f)
        writer.writerow(EVENT_COLUMNS)
        for r in desk.store.read().execute(
            "SELECT e.*, s.email, m.name AS message_name, l.url, a.agent AS agent_name, a.ip FROM events e "
            "JOIN subscribers s ON s.id = e.subscriber LEFT JOIN messages m ON m.id = e.message "
            "LEFT JOIN links l ON l.id = e.link LEFT JOIN agents a ON a.id = e.agent WHERE s.erased_at IS NULL ORDER BY e.id"
        ):
            cells = (r["email"], r["message_name"] or "", r["outside_id"] or "", r["url"] or "", r["agent_name"] or "")
            rest = (r["ip"] or "", r["code"] or "", r["diagnostic"] or "", r["value"] or "")
            writer.writerow(
                [rfc3339(r["at"]), Kind(r["kind"]).name.lower(), *(exports.safe(str(c)) for c in (*cells, *rest))]
            )


def bring_in(desk: Desk, folder: Path, who: str) -> dict[str, int]:
    """Read an export back into an empty workspace; all of it or nothing."""
    try:
        about: dict[str, Any] = json.loads((folder / "about.json").read_text(encoding="utf-8"))
    except OSError as e:
        raise Missing(f"The export {folder} cannot be opened: {(e.strerror or 'unknown reason').lower()}.") from e
    except ValueError as e:
        raise MeadowError(f"{folder}/about.json cannot be read; this is not an export of everything.") from e
    if about.get("form") != FORM:
        raise MeadowError(f"This export is of a form that is not known here ({about.get('form')}).")
    if not whole.is_empty(desk.store.read()):
        raise Refused("An export of everything is read into an empty workspace only; name another data folder.")
    counts: dict[str, int] = {}
    try:
        desk.store.writer.execute("PRAGMA foreign_keys = OFF")
        with desk.store.atomic() as db:
            for table in whole.tables(db):
                path = folder / "tables" / f"{table}.ndjson"
                if not path.exists():
                    continue
                with path.open(encoding="utf-8") as f:
                    counts[table] = whole.take(db, table, (line for line in f if line.strip()))
                if counts[table] != about.get("rows", {}).get(table, counts[table]):
                    raise MeadowError(f"{path.name} holds {counts[table]:,} rows, and the export says otherwise.")
            if not whole.references_hold(db):
                raise MeadowError("The export does not fit together: some rows speak of others that are missing.")
            facts_changed(db)
            people_changed(db)
            as_of = moment(str(about.get("made_at", rfc3339(desk.now()))))
            outgoing.pause_all(db, desk.now(), as_of, "brought in from an export")
            workspace.log(db, desk.now(), who, "brought in everything", str(folder), counts.get("subscribers", 0))
    except ValueError as e:
        raise MeadowError(f"The export cannot be read: {e}.") from e
    finally:
        desk.store.writer.execute("PRAGMA foreign_keys = ON")
    for name in SECRETS:
        if (folder / name).exists():
            shutil.copy(folder / name, desk.folder / name)
            (desk.folder / name).chmod(0o600)
    return counts
