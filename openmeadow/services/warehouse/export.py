"""Everything that rules, scores and plans are told from, as Parquet by tables, for an engine that holds more than one
machine: ``meadow export columns -o DIR``. Needs the packages of requirements/columns.lock.

Large tables are folders with a file a month; a month whose rows are as they were is left alone. ``schema.json`` is
written last: where it stands, the export is whole."""

from __future__ import annotations

import json
import shutil
from collections.abc import Iterator
from dataclasses import asdict
from datetime import UTC, datetime
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np

from openmeadow.core.addresses.verdicts import VERDICTS
from openmeadow.core.arrays import FAR, I64, Array
from openmeadow.core.columns import Trouble
from openmeadow.core.engagement.chance import lattice
from openmeadow.core.engagement.chance_models import ChanceModels
from openmeadow.core.errors import CannotOpen
from openmeadow.core.events import Kind
from openmeadow.core.imports.dates import rfc3339
from openmeadow.core.rules.conditions import Part
from openmeadow.core.warehouse.moment import Moment
from openmeadow.core.warehouse.tables import BY_NAME, SCHEMA_VERSION, TABLES
from openmeadow.services.warehouse.engine import needed
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings, warehouse
from openmeadow.store.engagement.columns_cache import let_go
from openmeadow.store.health.providers import names as provider_names
from openmeadow.store.parquet import DIALECTS, Exported, Writer, views
from openmeadow.store.segments.permission_facts import StoreFacts
from openmeadow.store.subscribers import subscribers

MADE_BY = ("person", "machine", "unsure")
PIECE = 1 << 17  # rows looked at together
AFTER = ("failed_at", "opened_at", "clicked_at", "reacted_at", "machine_at")


def _pieces(parts: list[Part], table: str, kept: Array) -> Iterator[tuple[Any, slice, Array, Array]]:
    """Rows of a table some at a time, part by part as they lie: the table, the piece, which of it counts, whose it is."""
    for part in parts:
        rows = getattr(part.columns, table)
        for i in range(0, len(rows), PIECE):
            piece = slice(i, i + PIECE)
            person = rows.person[piece]
            place = part.everybodys(person)
            mine = part.counts(person) & kept[place]
            yield rows, piece, mine, place[mine]
            let_go(rows)


def _deliveries(parts: list[Part], people: I64, kept: Array) -> Iterator[dict[str, Array]]:
    for rows, piece, mine, place in _pieces(parts, "rows", kept):
        told = {n: getattr(rows, n)[piece][mine] for n in ("message", "first_at", *AFTER)}
        yield {"person": people[place], **told}


def _engagement(parts: list[Part], people: I64, kept: Array) -> Iterator[dict[str, Array]]:
    kinds, by = np.array([k.name.lower() for k in Kind]), np.array(MADE_BY)
    for acts, piece, mine, place in _pieces(parts, "acts", kept):
        yield {
            "person": people[place],
            "message": acts.message[piece][mine],
            "at": acts.at[piece][mine],
            "kind": kinds[acts.kind[piece][mine] - 1],
            "made_by": by[acts.by[piece][mine]],
            "value": acts.value[piece][mine],
        }


def _chances(out: Writer, models: ChanceModels) -> dict[int, str]:
    """The fitted models as tables; which number of a source has a model of its own."""
    x, t, n = lattice()
    named = {"reading": models.reading, "clicking": models.clicking, **{str(s): m for s, m in models.sources.items()}}
    parameters: list[tuple[object, ...]] = []
    for name, model in named.items():
        given: dict[str, Array] = {"model": np.full(len(x), name), "x": x, "t": t, "n": n}
        given |= {"active": model.active(x, t, n), "chance": model.chance(x, t, n)}
        out.arrays(BY_NAME["chances"], f"{name}.parquet", given, {})
        moved = model.adjustment
        figures = zip(("alpha", "beta", "gamma", "delta"), model.parameters, strict=True)
        parameters += [(name, k, v) for k, v in (*figures, ("intercept", moved.intercept), ("slope", moved.slope))]
    out.rows(BY_NAME["parameters"], iter([parameters]))
    return {s: str(s) for s in models.sources}


def _people(workspace: Workspace, facts: StoreFacts, own: dict[int, str]) -> Iterator[list[tuple[object, ...]]]:
    db = facts.db
    providers, sources = provider_names(db), warehouse.source_names(db)
    for block in warehouse.blocks(db, warehouse.PEOPLE, facts.now):
        rows: list[tuple[object, ...]] = []
        for number, email, name, joined, rejoined, source, provider, language, country, zone, verdict in block:
            address = "not checked" if verdict is None else VERDICTS[int(str(verdict))]
            place = int(str(provider))
            held = (providers[place] or None) if place < len(providers) else None
            model = own.get(int(str(source)), "reading") if source is not None else "reading"
            stated = sources.get(int(str(source))) if source is not None else None
            rows.append((number, email, name, joined, rejoined, stated, held, language, country, zone, address, model))
        yield rows


def _permitted(facts: StoreFacts) -> Iterator[list[tuple[object, ...]]]:
    for purpose in (p.name for p in subscribers.names(facts.db, "purposes")):
        ids = facts.ids[facts.permitted(purpose)]
        for i in range(0, len(ids), warehouse.BLOCK):
            yield [(n, purpose) for n in ids[i : i + warehouse.BLOCK].tolist()]


def run(workspace: Workspace, folder: Path, who: str) -> Exported:
    """Write the tables into a folder, new or of an earlier export."""
    needed("duckdb")
    try:
        folder.mkdir(parents=True, exist_ok=True)
        if not any(folder.iterdir()):
            (folder / ".unfinished").touch()
    except OSError as e:
        raise CannotOpen(f"{folder} cannot be written to: {e.strerror}.") from None
    if any(folder.iterdir()) and not (folder / "schema.json").exists() and not (folder / ".unfinished").exists():
        raise CannotOpen(f"{folder} holds something else. Choose a new folder, or that of an earlier export.")
    (folder / ".unfinished").touch()
    scratch = folder / ".scratch"
    shutil.rmtree(scratch, ignore_errors=True)
    scratch.mkdir()
    view = workspace.view()
    assert isinstance(view.facts, StoreFacts)
    facts, now, basis = view.facts, view.now, workspace.basis(view.settled, view.now)
    let_go(view.settled.rows)
    out = Writer(needed("duckdb"), folder, scratch)
    ids, kept = facts.ids, ~facts.erased
    own = _chances(out, basis.models)
    out.rows(BY_NAME["people"], _people(workspace, facts, own))
    far: dict[str, int | None] = dict.fromkeys(AFTER, int(FAR))
    out.monthly(BY_NAME["deliveries"], partial(_deliveries, view.parts(), ids, kept), far)
    out.monthly(BY_NAME["engagement"], partial(_engagement, view.parts(), ids, kept), {"message": 0})
    told = workspace.troubles()
    mine = kept[told.person]
    what = np.array([t.name.lower() for t in Trouble])
    given: dict[str, Array] = {"person": ids[told.person[mine]], "message": told.message[mine]}
    given |= {"at": told.at[mine], "what": what[told.what[mine] - 1]}
    out.arrays(BY_NAME["bounces"], "bounces.parquet", given, {"message": 0})
    out.rows(BY_NAME["permitted"], _permitted(facts))
    for name, sql in warehouse.QUERIES.items():
        out.rows(BY_NAME[name], warehouse.blocks(facts.db, sql, now))
    out.clear()
    out.db.close()
    shutil.rmtree(scratch, ignore_errors=True)
    _describe(folder, out, Moment(now, basis.cadence, basis.limits))
    (folder / ".unfinished").unlink()
    with workspace.store.atomic() as db:
        settings.log(db, workspace.now(), who, "exported columns", str(folder), sum(out.done.rows.values()))
    return out.done


def _describe(folder: Path, out: Writer, moment: Moment) -> None:
    """``schema.json``, and the views that engines make of the files."""
    for dialect in DIALECTS:
        (folder / f"views.{dialect}.sql").write_text(views(dialect), encoding="utf-8")
    document = {
        "version": SCHEMA_VERSION,
        "at": rfc3339(moment.now),
        "made_at": datetime.now(UTC).isoformat(timespec="seconds"),
        "now": moment.now,
        "cadence": asdict(moment.cadence),
        "limits": asdict(moment.limits),
        "tables": [asdict(t) for t in TABLES],
        "files": out.files,
    }
    fresh = folder / "schema.new"
    fresh.write_text(json.dumps(document, indent=1, ensure_ascii=False), encoding="utf-8")
    fresh.replace(folder / "schema.json")
