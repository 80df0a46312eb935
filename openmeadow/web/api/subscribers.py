"""Subscribers: map, table, a person, bring in."""

from __future__ import annotations

import json
import re
import secrets
import sqlite3
import time
from pathlib import Path
from typing import Any

import numpy as np
from flask import Response, request

from openmeadow.core.addresses.providers import provider_names
from openmeadow.core.columns import I64, NEVER
from openmeadow.core.consent.gate import ask
from openmeadow.core.engagement.map import DAY_EDGES, DAY_WORDS, LEFT_EDGES, LEFT_WORDS, coordinates, grid
from openmeadow.core.engagement.score import BANDS
from openmeadow.core.errors import Missing, Refused
from openmeadow.core.intake.events import NAMES as EVENT_NAMES
from openmeadow.core.intake.subscribers import KNOWN
from openmeadow.core.rules.tree import View
from openmeadow.desk import people
from openmeadow.desk.bring_in import reading
from openmeadow.desk.bring_in import subscribers as intake
from openmeadow.desk.desk import Desk
from openmeadow.store import subscribers, workspace
from openmeadow.store.facts import StoreFacts
from openmeadow.web import models as m
from openmeadow.web.described import ANALYSE, Described, who

MOST_ROWS = 200
_SORTS = {"score", "band", "last_answer", "unanswered", "joined_at", "email"}


def rows_of(desk: Desk, view: View, index: I64) -> list[m.Row]:
    """Table rows for people by row number."""
    ids = view.columns.people.id[index].tolist()
    stored = subscribers.by_ids(desk.store.read(), ids)
    s, out = view.scores, []
    score = s.score
    suppressed = {
        int(r["subscriber"])
        for r in desk.store.read().execute(
            "SELECT subscriber FROM suppressions WHERE subscriber IN (SELECT value FROM json_each(?))", (json.dumps(ids),)
        )
    }
    for i, id in zip(index.tolist(), ids, strict=True):
        last = int(s.last_answer[i])
        out.append(
            m.Row(
                id=id,
                email=stored[id]["email"],
                name=stored[id]["name"] or "",
                band=int(s.band[i]),
                score=round(float(score[i]), 1),
                trace=people.trace(view, i),
                permitted=id not in suppressed,
                last_answer=None if last == NEVER else last,
                unanswered=int(s.unanswered[i]),
                joined_at=stored[id]["joined_at"],
            )
        )
    return out


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


def rule_of_cells(cells: list[tuple[int, int]]) -> str:
    """A rule sentence for a rectangle of the map, or "" when the cells are no rectangle."""
    columns, rows = sorted({c for c, _ in cells}), sorted({r for _, r in cells})
    whole = len(set(cells)) == len(columns) * len(rows)
    if (
        not cells
        or not whole
        or columns != list(range(columns[0], columns[-1] + 1))
        or rows != list(range(rows[0], rows[-1] + 1))
    ):
        return ""
    parts = []
    never = len(DAY_EDGES)
    if columns == [never]:
        parts.append("never answered")
    else:
        if columns[0] > 0:
            parts.append(f"no answer in {DAY_EDGES[columns[0]]} days")
        if columns[-1] < never:
            if columns[-1] + 1 < never:
                parts.append(f"not (no answer in {DAY_EDGES[columns[-1] + 1]} days)")
            else:
                parts.append("not (never answered)")
    if rows[0] > 0:
        parts.append(f"unanswered at least {LEFT_EDGES[rows[0]]}")
    if rows[-1] + 1 < len(LEFT_EDGES):
        parts.append(f"unanswered at most {LEFT_EDGES[rows[-1] + 1] - 1}")
    return " and ".join(parts) or "joined more than 0 days ago"


def register(api: Described, desk: Desk) -> None:
    @api.route("GET", "/subscribers/map", m.MapView)
    def see_map() -> m.MapView:
        """The grid of everybody, each cell divided by band."""
        view = desk.view()
        return m.MapView(
            now=view.now,
            day_words=list(DAY_WORDS),
            left_words=list(LEFT_WORDS),
            bands=list(BANDS),
            grid=grid(view.scores, view.alive).tolist(),
            totals=list(desk.band_counts(view).values()),
            subscribers=int(view.alive.sum()),
            window_days=view.scores.cadence.window,
            gap_days=view.scores.cadence.gap,
        )

    @api.route("POST", "/subscribers/map/selection", m.SelectionView, body=m.Selection)
    def select(body: m.Selection) -> m.SelectionView:
        """Who stands in some cells: bands, providers, and the sieve to those permitted for a purpose."""
        view = desk.view()
        assert isinstance(view.facts, StoreFacts)
        column, row = coordinates(view.scores)
        chosen = np.zeros((len(DAY_WORDS), len(LEFT_WORDS)), bool)
        for c, r in body.cells:
            if not (0 <= c < len(DAY_WORDS) and 0 <= r < len(LEFT_WORDS)):
                raise Refused("There is no such cell on the map.")
            chosen[c, r] = True
        mask = view.alive & chosen[column, row]
        purposes = [p["name"] for p in subscribers.names(desk.store.read(), "purposes")]
        purpose = (
            body.purpose
            if body.purpose in purposes
            else ("Season news" if "Season news" in purposes else purposes[0] if purposes else "")
        )
        sieve = [m.Sieved(words="In these cells", count=int(mask.sum()))]
        if purpose:
            answer = ask(view.facts.standing(purpose, limits=False), "campaign")
            sieve += [m.Sieved(words=w.capitalize(), count=-n) for w, n in answer.sieve(mask)]
            sieve.append(m.Sieved(words=f"Permitted for {purpose}", count=int((mask & answer.permitted).sum())))
        providers = np.bincount(view.facts.provider[mask], minlength=len(provider_names()))
        return m.SelectionView(
            count=int(mask.sum()),
            bands=np.bincount(view.scores.band[mask], minlength=len(BANDS)).tolist(),
            sieve=sieve,
            purpose=purpose,
            purposes=purposes,
            rule=rule_of_cells(body.cells),
            providers=[m.Sieved(words=n, count=int(c)) for n, c in zip(provider_names(), providers, strict=True)],
        )

    kept: dict[str, tuple[object, I64]] = {}
    nothing: tuple[object, I64] = (None, np.zeros(0, np.int64))

    @api.route("GET", "/subscribers", m.Rows)
    def table() -> m.Rows:
        """A window of the table: sorted and filtered here, however many there are."""
        a, view = request.args, desk.view()
        sort, falling = a.get("sort", "score").lstrip("-"), a.get("sort", "-score").startswith("-")
        if sort not in _SORTS:
            raise Refused(f"The table cannot be sorted by “{sort}”.")
        offset, limit = a.get("offset", 0, int), min(a.get("limit", 60, int), MOST_ROWS)
        mark = (
            view.now,
            len(view.columns.rows),
            len(view.columns.acts),
            len(view.columns.people),
            int(time.monotonic() / 5),
            sort,
            falling,
            a.get("band", ""),
            a.get("text", ""),
            a.get("rule", ""),
        )
        found = kept.get("order", nothing)
        if found[0] != mark:
            mask = view.alive.copy()
            if a.get("band"):
                wanted = [BANDS.index(b) for b in a["band"].split(",") if b in BANDS]
                mask &= np.isin(view.scores.band, wanted)
            if a.get("rule"):
                mask &= desk.checked_rule(a["rule"], view).mask(view)
            if a.get("text", "").strip():
                ids = np.array(subscribers.matching(desk.store.read(), a["text"].strip()), np.int64)
                mask &= np.isin(view.columns.people.id, ids)
            index = np.flatnonzero(mask)
            s = view.scores
            if sort == "email":
                order = [int(r["id"]) for r in desk.store.read().execute("SELECT id FROM subscribers ORDER BY email_key")]
                rank = np.empty(len(order), np.int64)
                rank[np.searchsorted(view.columns.people.id, order)] = np.arange(len(order))
                key = rank[index]
            else:
                by_name: dict[str, Any] = {
                    "score": s.score,
                    "band": -s.band.astype(np.int64),
                    "last_answer": s.last_answer,
                    "unanswered": s.unanswered,
                    "joined_at": view.columns.people.joined_at,
                }
                key = by_name[sort][index]
            found = kept["order"] = (mark, index[np.argsort(-key if falling else key, kind="stable")])
        index = found[1]
        return m.Rows(
            total=len(index), offset=offset, now=view.now, rows=rows_of(desk, view, index[offset : offset + limit])
        )

    @api.route("GET", "/subscribers/<int:id>", m.Person)
    def person(id: int) -> m.Person:
        """Everything about one subscriber."""
        return m.Person(**people.page(desk, id))

    @api.route("POST", "/bring-in/upload", m.Upload, rights=ANALYSE)
    def upload() -> m.Upload:
        """Take a file (multipart field ``file``) and say what its columns seem to be; nothing is brought in yet."""
        file = request.files.get("file")
        if file is None or not file.filename:
            raise Refused("Choose a file first.")
        folder = desk.folder / "uploads"
        folder.mkdir(exist_ok=True)
        token = secrets.token_hex(8)
        path = folder / f"{token}-{re.sub(r'[^A-Za-z0-9._-]', '_', file.filename)[-80:]}"
        file.save(path)
        return describe(path, request.form.get("kind", ""))

    def describe(path: Path, kind: str) -> m.Upload:
        name = path.name.partition("-")[2]
        if reading.is_ndjson(path):
            rows, _, _ = next(reading.ndjson_chunks(path, EVENT_NAMES), ([], [], 0))
            return m.Upload(
                upload=path.name,
                kind="events",
                name=name,
                header=list(EVENT_NAMES),
                targets=list(EVENT_NAMES),
                sample=[c for _, c in rows[:6]],
                known=list(EVENT_NAMES),
                bytes=path.stat().st_size,
            )
        head = reading.header(path)
        low = [h.strip().lower() for h in head]
        if kind == "events" or (not kind and {"at", "event", "email"} <= set(low)):
            rows, _, _ = next(reading.csv_chunks(path), ([], [], 0))
            return m.Upload(
                upload=path.name,
                kind="events",
                name=name,
                header=head,
                targets=[h if h in EVENT_NAMES else "" for h in low],
                sample=[c for _, c in rows[:6]],
                known=list(EVENT_NAMES),
                bytes=path.stat().st_size,
            )
        targets, sample = intake.look(path)
        purposes = [p["name"] for p in subscribers.names(desk.store.read(), "purposes")]
        known = [*KNOWN, *(f"{c}:{p}" for p in purposes for c in ("consent", "consent_at", "consent_source"))]
        return m.Upload(
            upload=path.name,
            kind="subscribers",
            name=name,
            header=head,
            known=known,
            targets=targets,
            sample=sample,
            bytes=path.stat().st_size,
        )

    @api.route("POST", "/bring-in", m.Done, body=m.BringIn, rights=ANALYSE)
    def bring_in(body: m.BringIn) -> m.Done:
        """Look through an uploaded file (dry run) or bring it in, as a job."""
        path = desk.folder / "uploads" / Path(body.upload).name
        if not path.is_file():
            raise Missing("The file is not here any more; choose it again.")
        arguments = body.model_dump(exclude={"upload", "kind"}) | {"path": str(path), "name": path.name.partition("-")[2]}
        with desk.store.atomic() as db:
            return m.Done(id=workspace.add_job(db, body.kind, arguments, who(), desk.now()))

    @api.route("GET", "/jobs/<int:id>", m.Job)
    def job(id: int) -> m.Job:
        """How far a job is, and what came of it."""
        row = workspace.job(desk.store.read(), id)
        if row is None:
            raise Missing("There is no such job.")
        return job_model(row)

    @api.route("GET", "/jobs/<int:id>/refused.csv", m.Done)
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
