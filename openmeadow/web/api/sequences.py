"""Sequences: written, started, changed while they run; who stands where; the walk-through."""

from __future__ import annotations

import numpy as np

from openmeadow.core.addresses.syntax import address_key
from openmeadow.core.errors import Refused
from openmeadow.desk.desk import Desk
from openmeadow.desk.sequences import measuring, ready, walking, writing
from openmeadow.desk.sequences.reading import choices, ladder_of, row_of
from openmeadow.store import senders as sender_table
from openmeadow.store import sequences, subscribers
from openmeadow.web import models as m
from openmeadow.web.described import ANALYSE, WRITE, Described, given, who

SHOWN = 50


def register(api: Described, desk: Desk) -> None:
    @api.route("GET", "/sequences", m.SequenceList)
    def every() -> m.SequenceList:
        """All sequences with who is inside, and those that are ready to be taken."""
        return m.SequenceList(
            sequences=[m.SequenceLine(**s) for s in measuring.every(desk)],
            ready=[m.ReadySequence(**r) for r in ready.offered()],
        )

    @api.route("POST", "/sequences", m.Done, body=m.SequenceIn, rights=WRITE)
    def add(body: m.SequenceIn) -> m.Done:
        """Begin a draft, empty or from a ready one (its key)."""
        return m.Done(id=ready.take(desk, body.ready, who()) if body.ready else writing.add(desk, body.name, who()))

    @api.route("GET", "/sequences/<int:id>", m.SequenceView)
    def see(id: int) -> m.SequenceView:
        """The ladder with its figures, what is missing, what repeats add, why people left."""
        db = desk.store.read()
        addresses = [m.NamedThing(id=a["id"], name=a["address"]) for a in sender_table.addresses(db) if a["confirmed_at"]]
        return m.SequenceView(
            **measuring.see(desk, id),
            now=desk.now(),
            addresses=addresses,
            purposes=[m.NamedThing(id=p["id"], name=p["name"]) for p in subscribers.names(db, "purposes")],
            choices=m.SequenceChoices(**choices(desk)),
            begins=measuring.begins(ladder_of(row_of(desk, id))),
        )

    @api.route("PUT", "/sequences/<int:id>", m.Done, body=m.SequenceChange, rights=WRITE)
    def change(id: int, body: m.SequenceChange) -> m.Done:
        """Change it, also while it runs: then for those who have not passed what changed."""
        values = given(body, empty=("purpose", "from_address"))
        values = {k: v for k, v in values.items() if k not in ("going", "ladder")}
        if body.ladder is not None:
            values["ladder"] = body.ladder.model_dump()
        going = {int(k): (int(v) if v.isdigit() else v) for k, v in body.going.items() if k.isdigit()}
        writing.write(desk, id, values, who(), going=going)
        return m.Done(id=id)

    @api.route("DELETE", "/sequences/<int:id>", m.Done, rights=WRITE)
    def remove(id: int) -> m.Done:
        """Throw a draft away."""
        writing.remove(desk, id, who())
        return m.Done(id=id)

    @api.route("POST", "/sequences/<int:id>/copy", m.Done, body=m.SequenceIn, rights=WRITE)
    def copy(id: int, body: m.SequenceIn) -> m.Done:
        """A draft with the same steps and messages."""
        return m.Done(id=writing.copy(desk, id, body.name, who()))

    @api.route("POST", "/sequences/<int:id>/start", m.SequenceTaken, body=m.SequenceStart, rights=ANALYSE)
    def start(id: int, body: m.SequenceStart) -> m.SequenceTaken:
        """Let it run; refused with the first of what is missing."""
        return m.SequenceTaken(**writing.start(desk, id, who(), with_those_there=body.with_those_there))

    @api.route("POST", "/sequences/<int:id>/pause", m.Done, rights=ANALYSE)
    def pause(id: int) -> m.Done:
        """Everybody stays at their step."""
        writing.pause(desk, id, who())
        return m.Done(id=id)

    @api.route("POST", "/sequences/<int:id>/go-on", m.SequenceWent, rights=ANALYSE)
    def go_on(id: int) -> m.SequenceWent:
        """Go on; what piled up is spread by the daily limit."""
        return m.SequenceWent(**writing.go_on(desk, id, who()))

    @api.route("POST", "/sequences/<int:id>/end", m.Done, rights=ANALYSE)
    def end(id: int) -> m.Done:
        """For good: everybody inside leaves."""
        writing.end(desk, id, who())
        return m.Done(id=id)

    @api.route("POST", "/sequences/<int:id>/people", m.SequenceTaken, body=m.SequencePeople, rights=ANALYSE)
    def people(id: int, body: m.SequencePeople) -> m.SequenceTaken:
        """Put people in, by addresses or by a rule, through the queue and its limits."""
        ids: list[int] = []
        if body.emails:
            keys = {address_key(e.strip()): e.strip() for e in body.emails if e.strip()}
            found = subscribers.ids_of(desk.store.read(), list(keys))
            unknown = [e for k, e in keys.items() if k not in found]
            if unknown:
                rest = f" and {len(unknown) - 1} more" if len(unknown) > 1 else ""
                raise Refused(f"Nobody here has the address {unknown[0][:80]}{rest}. Nobody was put in.")
            ids = list(found.values())
        if body.rule.strip():
            view = desk.view()
            mask = view.mask(desk.checked_rule(body.rule, view)) & view.alive
            ids += view.columns.people.id[np.flatnonzero(mask)].tolist()
        if not ids:
            raise Refused("Nobody is chosen: give addresses, or a rule that holds for somebody.")
        return m.SequenceTaken(**writing.bring_in(desk, id, ids, who()))

    @api.route("GET", "/sequences/<int:id>/steps/<int:step>/people", m.StandHere, query=m.PageQuery)
    def at_step(id: int, step: int, query: m.PageQuery) -> m.StandHere:
        """Who stands at a step, who goes next first (query ``offset``)."""
        db = desk.store.read()
        rows = sequences.at_step(db, id, step, SHOWN, query.offset)
        total = next((r["people"] for r in sequences.steps(db, id) if r["step"] == step), 0)
        return m.StandHere(
            people=[
                m.StandsHere(
                    id=r["id"],
                    subscriber=r["subscriber"],
                    email=r["email"],
                    since=r["since"],
                    goes=r["due_at"] or r["again"],
                )
                for r in rows
            ],
            total=total,
        )

    @api.route("POST", "/sequences/<int:id>/stays/<int:stay>/move-on", m.Done, rights=ANALYSE)
    def move_on(id: int, stay: int) -> m.Done:
        """One person's wait is over now."""
        writing.move_on(desk, id, stay, who())
        return m.Done(id=stay)

    @api.route("POST", "/sequences/<int:id>/stays/<int:stay>/take-out", m.Done, rights=ANALYSE)
    def take_out(id: int, stay: int) -> m.Done:
        """One person leaves."""
        writing.take_out(desk, id, stay, who())
        return m.Done(id=stay)

    @api.route("GET", "/sequences/<int:id>/walk", m.WalkThrough, query=m.WalkQuery)
    def walk(id: int, query: m.WalkQuery) -> m.WalkThrough:
        """Day by day what would come (query ``supposed``: never, always, repeats; ``email``: of a chosen person)."""
        found = walking.see(desk, id, query.supposed, query.email)
        return m.WalkThrough(**found)
