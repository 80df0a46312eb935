"""Subscribers: map and replay, table, a person."""

from __future__ import annotations

import json
import time
from collections.abc import Sequence
from typing import cast

import numpy as np
from flask import Response

from openmeadow.core.addresses.verdicts import VERDICTS
from openmeadow.core.arrays import I64
from openmeadow.core.consent.eligibility import CONSENT_STATES
from openmeadow.core.engagement.map import rule_of
from openmeadow.core.engagement.replay import FINE_DAYS, FINE_LEFT, SHAPE
from openmeadow.core.errors import Refused
from openmeadow.core.ids import SubscriberId
from openmeadow.core.imports.dates import rfc3339
from openmeadow.core.moments import MINUTE
from openmeadow.core.rules.conditions import View
from openmeadow.services.subscribers import access, address_change, erasure, profile
from openmeadow.services.subscribers.engagement_map import Replays, people_map
from openmeadow.services.subscribers.selection import Choice, chosen, last_engaged_of, ordered
from openmeadow.services.workspace import Workspace
from openmeadow.store import undo_log
from openmeadow.store.engagement import events
from openmeadow.store.health.providers import names as provider_names
from openmeadow.store.subscribers import selections, sources, subscribers
from openmeadow.web import schemas as m
from openmeadow.web.router import ANALYSE, WRITE, Routes, who


def rows_of(workspace: Workspace, view: View, index: I64) -> list[m.Row]:
    """Table rows for people by row number."""
    ids, db = view.columns.people.id[index].tolist(), workspace.store.read()
    stored = subscribers.by_ids(db, ids)
    lists, labels = selections.several(db, ids, "lists"), selections.several(db, ids, "labels")
    suppressed, verdicts = selections.suppressed_among(db, ids), selections.verdicts_among(db, ids)
    consents = selections.consents_among(db, ids, view.now)
    source_names, s, score = sources.names(db), view.scores, view.scores.score
    providers = provider_names(db)
    out = []
    for i, row_id in zip(index.tolist(), ids, strict=True):
        row = stored[row_id]
        out.append(
            m.Row(
                id=row_id,
                email=row.email,
                name=row.name or "",
                band=int(s.band[i]),
                score=round(float(score[i]), 1),
                trace=profile.trace(view, i),
                permitted=row_id not in suppressed,
                last_engaged=last_engaged_of(view, i),
                ignored=int(s.ignored[i]),
                joined_at=row.joined_at,
                provider=providers[row.provider],
                source=source_names.get(row.source or 0, ""),
                lists=lists.get(row_id, []),
                labels=labels.get(row_id, []),
                language=row.language or "",
                country=row.country or "",
                time_zone=row.time_zone or "",
                verdict=VERDICTS[verdicts[row_id]] if row_id in verdicts else "",
                fields=row.fields,
                consents={p: CONSENT_STATES[state] for p, state in consents.get(row_id, {}).items()},
            )
        )
    return out


def choice_of(body: m.ChoiceIn) -> Choice:
    """Who is chosen by what was sent."""
    ids = None if body.ids is None else tuple(body.ids)
    return Choice(body.rule, body.text, tuple(body.bands), ids, tuple(body.without), tuple(body.also))


def order_of(query: m.TableQuery) -> tuple[Choice, str, bool]:
    """Which people, by which column, and whether falling."""
    choice = Choice(query.rule, query.text, tuple(filter(None, query.band.split(","))))
    return choice, query.sort.lstrip("-"), query.sort.startswith("-")


routes = Routes()


class _LastOrder:
    """The table as it was last sorted and filtered: what for, and the index of its rows."""

    def __init__(self, workspace: Workspace) -> None:
        self.found: tuple[object, I64] = (None, np.zeros(0, np.int64))


@routes.route("GET", "/subscribers/map", m.MapView, query=m.MapQuery)
def see_map(workspace: Workspace, query: m.MapQuery) -> m.MapView:
    """Everybody on the fine grid, divided by band, provider, year, list and the eligibility check for ``purpose``."""
    return people_map(workspace, query.purpose)


@routes.route("GET", "/subscribers/map/rule", m.MapRule, query=m.CellsQuery)
def map_rule(workspace: Workspace, query: m.CellsQuery) -> m.MapRule:
    """The rule of a rectangle of the fine grid: ``columns`` and ``rows`` as "first,last"."""
    spans = [tuple(int(n) for n in span.split(",")) for span in (query.columns, query.rows)]
    for span, most in zip(spans, SHAPE, strict=False):
        if len(span) != 2 or not 0 <= span[0] <= span[1] < most:
            spans = []
    if not spans:
        raise Refused("This cell is not on the map.")
    return m.MapRule(rule=rule_of(FINE_DAYS, FINE_LEFT, spans[0], spans[1]))  # type: ignore[arg-type]


@routes.route("GET", "/subscribers/replay", m.ReplayView, query=m.ReplayQuery)
def see_replay(workspace: Workspace, query: m.ReplayQuery) -> m.ReplayView:
    """What came of the sends of the last ``months``, each message where its person stood when it went out. ``rough``: an
    estimate from one person in eight, where there are many and all is not replayed yet."""
    return workspace.part(Replays).of(query.months, rough=query.rough)


@routes.route("GET", "/subscribers", m.Rows, query=m.RowsQuery)
def table(workspace: Workspace, query: m.RowsQuery) -> m.Rows:
    """A window of the table: sorted and filtered here, however many there are."""
    view, (choice, sort, falling) = workspace.view(), order_of(query)
    db = workspace.store.read()
    version = (subscribers.facts_version(db), undo_log.events_version(db), events.highest(db), int(time.monotonic() / 5))
    mark = (view.now // MINUTE, version, sort, falling, choice)
    last = workspace.part(_LastOrder)
    if last.found[0] != mark:
        last.found = (mark, ordered(workspace, view, chosen(workspace, view, choice), sort, falling))
    index = last.found[1]
    return m.Rows(
        total=len(index),
        offset=query.offset,
        now=view.now,
        rows=rows_of(workspace, view, index[query.offset : query.offset + query.limit]),
    )


@routes.route("GET", "/subscribers/ids", m.Ids, query=m.RangeQuery)
def ids(workspace: Workspace, query: m.RangeQuery) -> m.Ids:
    """The ids of a stretch of the table in its order, for marking a range."""
    view, (choice, sort, falling) = workspace.view(), order_of(query)
    index = ordered(workspace, view, chosen(workspace, view, choice), sort, falling)
    first, last = query.first, query.last
    if not 0 <= last - first < m.MOST_IDS:
        raise Refused(f"At most {m.MOST_IDS:,} can be selected one by one. Select all matches instead.")
    return m.Ids(ids=view.columns.people.id[index[first : last + 1]].tolist())


@routes.route("GET", "/subscribers/<int:id>", m.Person)
def person(workspace: Workspace, row_id: SubscriberId) -> m.Person:
    """Everything about one subscriber."""
    return profile.page(workspace, row_id)


@routes.route("PATCH", "/subscribers/<int:id>", m.ActionDone, body=m.PersonIn, rights=WRITE)
def edit(workspace: Workspace, row_id: SubscriberId, body: m.PersonIn) -> m.ActionDone:
    """Change a person's own fields and labels; undone by its action."""
    action = profile.edit(workspace, row_id, cast(m.PersonChanges, body.model_dump(exclude_none=True)), who())
    return m.ActionDone(action=action, job=0, people=1)


@routes.route("POST", "/subscribers/<int:id>/address", m.ActionDone, body=m.AddressIn, rights=ANALYSE)
def correct_address(workspace: Workspace, row_id: SubscriberId, body: m.AddressIn) -> m.ActionDone:
    """Another address for a person; its verdict is asked anew, and it is undone by its action."""
    return m.ActionDone(action=address_change.correct(workspace, row_id, body.email, who()), job=0, people=1)


@routes.route("DELETE", "/subscribers/<int:id>", m.Done, rights=ANALYSE)
def erase(workspace: Workspace, row_id: SubscriberId) -> m.Done:
    """Erase a person for good; only a keyed hash of the address stays."""
    erasure.erase(workspace, row_id, who())
    return m.Done(id=row_id)


@routes.route("GET", "/subscribers/<int:id>/everything.json", "application/json")
def everything(workspace: Workspace, row_id: SubscriberId) -> Response:
    """All that is known about one person, as one file."""
    document = json.dumps(
        access.with_times(profile.everything(workspace, row_id, who()).model_dump(mode="json")),
        ensure_ascii=False,
        indent=1,
    )
    return _file(document, "application/json", f"subscriber-{row_id}.json")


@routes.route("GET", "/subscribers/<int:id>/everything.html", "text/html")
def everything_to_read(workspace: Workspace, row_id: SubscriberId) -> Response:
    """The same as a page that can be read and printed."""
    found = profile.everything(workspace, row_id, who()).model_dump(mode="json")
    page = access.page(
        {k: access.with_times(v, k) for k, v in found.items()}, str(workspace.setting("name")), rfc3339(workspace.now())
    )
    return _file(page, "text/html", f"subscriber-{row_id}.html")


@routes.route("POST", "/subscribers/<int:id>/notes", m.Done, body=m.NoteIn, rights=WRITE)
def note(workspace: Workspace, row_id: SubscriberId, body: m.NoteIn) -> m.Done:
    """Write a note about a person."""
    return m.Done(id=profile.note(workspace, row_id, body.text, who()))


@routes.route("DELETE", "/subscribers/<int:id>/notes/<int:note>", m.Done, rights=WRITE)
def drop_note(workspace: Workspace, row_id: SubscriberId, note: int) -> m.Done:
    """Remove a note."""
    profile.drop_note(workspace, row_id, note)
    return m.Done(id=note)


def _file(text: str | bytes, mimetype: str, name: str) -> Response:
    return Response(text, mimetype=mimetype, headers={"Content-Disposition": f"attachment; filename={name}"})


def columns_of(given: Sequence[str]) -> tuple[str, ...]:
    """The columns of an export that were asked for."""
    return tuple(dict.fromkeys(given))
