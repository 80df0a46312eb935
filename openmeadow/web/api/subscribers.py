"""Subscribers: map and replay, table, a person."""

from __future__ import annotations

import json
import time
from collections.abc import Sequence

import numpy as np
from flask import Response

from openmeadow.core.addresses.verdicts import VERDICTS
from openmeadow.core.columns import I64
from openmeadow.core.engagement.map import rule_of
from openmeadow.core.engagement.replay import FINE_DAYS, FINE_LEFT, SHAPE
from openmeadow.core.errors import Refused
from openmeadow.core.intake.moments import rfc3339
from openmeadow.core.rules.tree import View
from openmeadow.desk import access, erasure, people
from openmeadow.desk.cutoff import Replays, people_map
from openmeadow.desk.desk import Desk
from openmeadow.desk.marked import Choice, chosen, last_answer_of, ordered
from openmeadow.store import doors, people_sets, subscribers
from openmeadow.store.providers import names as provider_names
from openmeadow.web import models as m
from openmeadow.web.described import ANALYSE, WRITE, Described, who


def rows_of(desk: Desk, view: View, index: I64) -> list[m.Row]:
    """Table rows for people by row number."""
    ids, db = view.columns.people.id[index].tolist(), desk.store.read()
    stored = subscribers.by_ids(db, ids)
    lists, labels = people_sets.several(db, ids, "lists"), people_sets.several(db, ids, "labels")
    suppressed, verdicts = people_sets.suppressed_among(db, ids), people_sets.verdicts_among(db, ids)
    door_names, s, score = doors.names(db), view.scores, view.scores.score
    providers = provider_names(db)
    out = []
    for i, id in zip(index.tolist(), ids, strict=True):
        row = stored[id]
        out.append(
            m.Row(
                id=id,
                email=row["email"],
                name=row["name"] or "",
                band=int(s.band[i]),
                score=round(float(score[i]), 1),
                trace=people.trace(view, i),
                permitted=id not in suppressed,
                last_answer=last_answer_of(view, i),
                unanswered=int(s.unanswered[i]),
                joined_at=row["joined_at"],
                provider=providers[row["provider"]],
                door=door_names.get(row["door"] or 0, ""),
                lists=lists.get(id, []),
                labels=labels.get(id, []),
                language=row["language"] or "",
                country=row["country"] or "",
                time_zone=row["time_zone"] or "",
                verdict=VERDICTS[verdicts[id]] if id in verdicts else "",
                fields=json.loads(row["fields"]),
            )
        )
    return out


def choice_of(body: m.ChoiceIn) -> Choice:
    ids = None if body.ids is None else tuple(body.ids)
    return Choice(body.rule, body.text, tuple(body.bands), ids, tuple(body.without))


def order_of(query: m.TableQuery) -> tuple[Choice, str, bool]:
    """Which people, by which column, and whether falling."""
    choice = Choice(query.rule, query.text, tuple(filter(None, query.band.split(","))))
    return choice, query.sort.lstrip("-"), query.sort.startswith("-")


def register(api: Described, desk: Desk) -> None:
    replays = Replays(desk)

    @api.route("GET", "/subscribers/map", m.MapView, query=m.MapQuery)
    def see_map(query: m.MapQuery) -> m.MapView:
        """Everybody on the fine grid, divided by band, provider, year, list and the gate for ``purpose``."""
        return m.MapView(**people_map(desk, query.purpose))

    @api.route("GET", "/subscribers/map/rule", m.MapRule, query=m.CellsQuery)
    def map_rule(query: m.CellsQuery) -> m.MapRule:
        """The rule of a rectangle of the fine grid: ``columns`` and ``rows`` as "first,last"."""
        spans = [tuple(int(n) for n in span.split(",")) for span in (query.columns, query.rows)]
        for span, most in zip(spans, SHAPE, strict=False):
            if len(span) != 2 or not 0 <= span[0] <= span[1] < most:
                spans = []
        if not spans:
            raise Refused("There is no such cell on the map.")
        return m.MapRule(rule=rule_of(FINE_DAYS, FINE_LEFT, spans[0], spans[1]))  # type: ignore[arg-type]

    @api.route("GET", "/subscribers/replay", m.ReplayView, query=m.ReplayQuery)
    def see_replay(query: m.ReplayQuery) -> m.ReplayView:
        """What came of the sends of the last ``months``, each message where its person stood when it went out."""
        found = replays.of(query.months)
        sums = m.Sums(**{name.replace(" ", "_"): values for name, values in found["sums"].items()})
        return m.ReplayView(**{**found, "sums": sums})

    kept: dict[str, tuple[object, I64]] = {}
    nothing: tuple[object, I64] = (None, np.zeros(0, np.int64))

    @api.route("GET", "/subscribers", m.Rows, query=m.RowsQuery)
    def table(query: m.RowsQuery) -> m.Rows:
        """A window of the table: sorted and filtered here, however many there are."""
        view, (choice, sort, falling) = desk.view(), order_of(query)
        version = (subscribers.facts_version(desk.store.read()), int(time.monotonic() / 5))
        mark = (view.now, len(view.columns.rows), len(view.columns.acts), version, sort, falling, choice)
        found = kept.get("order", nothing)
        if found[0] != mark:
            found = kept["order"] = (mark, ordered(desk, view, chosen(desk, view, choice), sort, falling))
        index = found[1]
        return m.Rows(
            total=len(index),
            offset=query.offset,
            now=view.now,
            rows=rows_of(desk, view, index[query.offset : query.offset + query.limit]),
        )

    @api.route("GET", "/subscribers/ids", m.Ids, query=m.RangeQuery)
    def ids(query: m.RangeQuery) -> m.Ids:
        """The ids of a stretch of the table in its order, for marking a range."""
        view, (choice, sort, falling) = desk.view(), order_of(query)
        index = ordered(desk, view, chosen(desk, view, choice), sort, falling)
        first, last = query.first, query.last
        if not 0 <= last - first < m.MOST_IDS:
            raise Refused(f"At most {m.MOST_IDS:,} can be marked one by one; mark everybody who matches instead.")
        return m.Ids(ids=view.columns.people.id[index[first : last + 1]].tolist())

    @api.route("GET", "/subscribers/<int:id>", m.Person)
    def person(id: int) -> m.Person:
        """Everything about one subscriber."""
        return m.Person(**people.page(desk, id))

    @api.route("PATCH", "/subscribers/<int:id>", m.Acted, body=m.PersonIn, rights=WRITE)
    def edit(id: int, body: m.PersonIn) -> m.Acted:
        """Change a person's own fields and labels; undone by its deed."""
        deed = people.edit(desk, id, body.model_dump(exclude_none=True), who())
        return m.Acted(deed=deed, job=0, people=1)

    @api.route("DELETE", "/subscribers/<int:id>", m.Done, rights=ANALYSE)
    def erase(id: int) -> m.Done:
        """Erase a person for good; only a keyed hash of the address stays."""
        erasure.erase(desk, id, who())
        return m.Done(id=id)

    @api.route("GET", "/subscribers/<int:id>/everything.json", "application/json")
    def everything(id: int) -> Response:
        """All that is known about one person, as one file."""
        document = json.dumps(access.with_times(people.everything(desk, id, who())), ensure_ascii=False, indent=1)
        return _file(document, "application/json", f"subscriber-{id}.json")

    @api.route("GET", "/subscribers/<int:id>/everything.html", "text/html")
    def everything_to_read(id: int) -> Response:
        """The same as a page that can be read and printed."""
        found = people.everything(desk, id, who())
        page = access.page(access.with_times(found), str(desk.setting("name")), rfc3339(desk.now()))
        return _file(page, "text/html", f"subscriber-{id}.html")

    @api.route("POST", "/subscribers/<int:id>/notes", m.Done, body=m.NoteIn, rights=WRITE)
    def note(id: int, body: m.NoteIn) -> m.Done:
        """Write a note about a person."""
        return m.Done(id=people.note(desk, id, body.text, who()))

    @api.route("DELETE", "/subscribers/<int:id>/notes/<int:note>", m.Done, rights=WRITE)
    def drop_note(id: int, note: int) -> m.Done:
        """Remove a note."""
        people.drop_note(desk, id, note)
        return m.Done(id=note)


def _file(text: str | bytes, mimetype: str, name: str) -> Response:
    return Response(text, mimetype=mimetype, headers={"Content-Disposition": f"attachment; filename={name}"})


def columns_of(given: Sequence[str]) -> tuple[str, ...]:
    return tuple(dict.fromkeys(given))
