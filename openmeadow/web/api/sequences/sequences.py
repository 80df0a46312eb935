"""Sequences: written, started, changed while they run; who stands where; the walk-through."""

from __future__ import annotations

from typing import cast

import numpy as np
from flask import Response

from openmeadow.core.addresses.syntax import address_key
from openmeadow.core.errors import Refused
from openmeadow.core.ids import SequenceId
from openmeadow.services.sequences import editing, simulation, starter_sequences, statistics
from openmeadow.services.sequences.loading import choices, definition_of, row_of
from openmeadow.services.workspace import Workspace
from openmeadow.store.senders import senders as sender_table
from openmeadow.store.sequences import sequences
from openmeadow.store.subscribers import subscribers
from openmeadow.web import schemas as m
from openmeadow.web.router import ANALYSE, WRITE, Routes, given, who

SHOWN = 50


MOST_UNKNOWN = 200  # addresses named that belong to no subscriber

routes = Routes()


@routes.route("GET", "/sequences", m.SequenceList)
def every(workspace: Workspace) -> m.SequenceList:
    """All sequences with who is inside, and those that are ready to be taken."""
    return m.SequenceList(sequences=statistics.every(workspace), ready=starter_sequences.offered())


@routes.route("POST", "/sequences", m.Done, body=m.SequenceIn, rights=WRITE)
def add(workspace: Workspace, body: m.SequenceIn) -> m.Done:
    """Begin a draft, empty or from a ready one (its key)."""
    return m.Done(
        id=starter_sequences.take(workspace, body.ready, who())
        if body.ready
        else editing.add(workspace, body.name, who())
    )


@routes.route("GET", "/sequences/<int:id>", m.SequenceView)
def see(workspace: Workspace, row_id: SequenceId) -> m.SequenceView:
    """The definition with its figures, what is missing, what repeats add, why people left."""
    db = workspace.store.read()
    addresses = [m.NamedThing(id=a.id, name=a.address) for a in sender_table.addresses(db) if a.confirmed_at]
    return m.SequenceView(
        **dict(statistics.see(workspace, row_id)),
        now=workspace.now(),
        addresses=addresses,
        purposes=[m.NamedThing(id=p.id, name=p.name) for p in subscribers.names(db, "purposes")],
        choices=choices(workspace),
        begins=statistics.begins(definition_of(row_of(workspace, row_id))),
    )


@routes.route("PUT", "/sequences/<int:id>", m.Done, body=m.SequenceChange, rights=WRITE)
def change(workspace: Workspace, row_id: SequenceId, body: m.SequenceChange) -> m.Done:
    """Change it, also while it runs: then for those who have not passed what changed."""
    said = given(body, empty=("purpose", "from_address"))
    values = cast(m.SequenceChanges, {k: v for k, v in said.items() if k not in ("going", "definition")})
    if body.definition is not None:
        values["definition"] = body.definition.model_dump()
    going = {int(k): (int(v) if v.isdigit() else v) for k, v in body.going.items() if k.isdigit()}
    editing.write(workspace, row_id, values, who(), going=going)
    return m.Done(id=row_id)


@routes.route("DELETE", "/sequences/<int:id>", m.Done, rights=WRITE)
def remove(workspace: Workspace, row_id: int) -> m.Done:
    """Throw a draft away."""
    editing.remove(workspace, row_id, who())
    return m.Done(id=row_id)


@routes.route("POST", "/sequences/<int:id>/copy", m.Done, body=m.SequenceIn, rights=WRITE)
def copy(workspace: Workspace, row_id: SequenceId, body: m.SequenceIn) -> m.Done:
    """A draft with the same steps and messages."""
    return m.Done(id=editing.copy(workspace, row_id, body.name, who()))


@routes.route("POST", "/sequences/<int:id>/start", m.PeopleAdded, body=m.SequenceStart, rights=ANALYSE)
def start(workspace: Workspace, row_id: SequenceId, body: m.SequenceStart) -> m.PeopleAdded:
    """Let it run; refused with the first of what is missing."""
    return editing.start(workspace, row_id, who(), with_those_there=body.with_those_there)


@routes.route("POST", "/sequences/<int:id>/pause", m.Done, rights=ANALYSE)
def pause(workspace: Workspace, row_id: int) -> m.Done:
    """Everybody stays at their step."""
    editing.pause(workspace, row_id, who())
    return m.Done(id=row_id)


@routes.route("POST", "/sequences/<int:id>/resume", m.PeopleMoved, rights=ANALYSE)
def resume(workspace: Workspace, row_id: SequenceId) -> m.PeopleMoved:
    """Go on; what piled up is spread by the daily limit."""
    return editing.resume(workspace, row_id, who())


@routes.route("POST", "/sequences/<int:id>/end", m.Done, rights=ANALYSE)
def end(workspace: Workspace, row_id: SequenceId) -> m.Done:
    """For good: everybody inside leaves."""
    editing.end(workspace, row_id, who())
    return m.Done(id=row_id)


@routes.route("POST", "/sequences/<int:id>/people", m.PeopleAdded, body=m.SequencePeople, rights=ANALYSE)
def people(workspace: Workspace, row_id: int, body: m.SequencePeople) -> m.PeopleAdded:
    """Put people in, by addresses or by a rule, through the queue and its limits."""
    ids: list[int] = []
    unknown: list[str] = []
    if body.emails:
        keys = {address_key(e.strip()): e.strip() for e in body.emails if e.strip()}
        found = subscribers.ids_of(workspace.store.read(), list(keys))
        unknown = [e for k, e in keys.items() if k not in found]
        if unknown and not found and not body.rule.strip():
            rest = f" and {len(unknown) - 1} more" if len(unknown) > 1 else ""
            raise Refused(f"There is no subscriber with the address {unknown[0][:80]}{rest}. No one was added.")
        ids = list(found.values())
    if body.rule.strip():
        view = workspace.view()
        mask = view.mask(workspace.checked_rule(body.rule, view)) & view.alive
        ids += view.columns.people.id[np.flatnonzero(mask)].tolist()
    if not ids:
        raise Refused("No one was selected. Enter addresses, or a rule that someone matches.")
    added = editing.add_people(workspace, row_id, ids, who())
    return added.model_copy(update={"unknown": [e[:320] for e in unknown[:MOST_UNKNOWN]]})


@routes.route("GET", "/sequences/<int:id>/steps/<int:step>/people", m.PersonAtStep, query=m.FoundQuery)
def at_step(workspace: Workspace, row_id: int, step: int, query: m.FoundQuery) -> m.PersonAtStep:
    """Who stands at a step, who goes next first; of those with each word of ``text`` in address or name."""
    row_of(workspace, SequenceId(row_id))
    db = workspace.store.read()
    rows = sequences.at_step(db, row_id, step, SHOWN, query.offset, query.text)
    return m.PersonAtStep(
        people=[
            m.PeopleAtStep(
                id=r.id,
                subscriber=r.subscriber,
                email=r.email,
                name=r.name or "",
                since=r.since,
                goes=r.due_at or r.again,
            )
            for r in rows
        ],
        total=sequences.how_many_at_step(db, row_id, step, query.text),
    )


@routes.route("GET", "/sequences/<int:id>/steps/<int:step>/people.csv", "text/csv")
def file_at_step(workspace: Workspace, row_id: int, step: int) -> Response:
    """Everyone who stands at a step, as a file."""
    headers = {"Content-Disposition": f"attachment; filename=sequence-{row_id}-step-{step}.csv"}
    return Response(statistics.at_step_csv(workspace, row_id, step), mimetype="text/csv", headers=headers)


@routes.route("POST", "/sequences/<int:id>/enrolments/<int:enrolment>/skip-wait", m.Done, rights=ANALYSE)
def move_on(workspace: Workspace, row_id: int, enrolment: int) -> m.Done:
    """One person's wait is over now."""
    editing.move_on(workspace, row_id, enrolment, who())
    return m.Done(id=enrolment)


@routes.route("POST", "/sequences/<int:id>/enrolments/<int:enrolment>/remove", m.Done, rights=ANALYSE)
def take_out(workspace: Workspace, row_id: int, enrolment: int) -> m.Done:
    """One person leaves."""
    editing.take_out(workspace, row_id, enrolment, who())
    return m.Done(id=enrolment)


@routes.route("GET", "/sequences/<int:id>/simulation", m.WalkThrough, query=m.WalkQuery)
def walk(workspace: Workspace, row_id: SequenceId, query: m.WalkQuery) -> m.WalkThrough:
    """Day by day what would come (query ``supposed``: never, always, repeats; ``email``: of a chosen person)."""
    return simulation.see(workspace, row_id, query.supposed, query.email)
