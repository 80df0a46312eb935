"""Sequences: begin one, write its steps, start it, change it while it runs, pause, go on, end."""

from __future__ import annotations

import json
import secrets
import sqlite3
from collections import abc
from collections.abc import Mapping
from dataclasses import replace

from openmeadow.core.delivery.plan import NamedVariant
from openmeadow.core.errors import Refused
from openmeadow.core.ids import CampaignId, MessageId, SequenceId
from openmeadow.core.message.personalisation import links, one_line
from openmeadow.core.names import free_name
from openmeadow.core.sequences import admission, state_machine
from openmeadow.core.sequences.definition import MAILS, Definition, read
from openmeadow.core.states import SequenceState
from openmeadow.services import models
from openmeadow.services.campaigns import campaigns as campaigns_service
from openmeadow.services.campaigns import templates
from openmeadow.services.sequences import runner, triggers, validation
from openmeadow.services.sequences.conditions import condition
from openmeadow.services.sequences.loading import PASSES, definition_of, pass_of, row_of
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.campaigns import batches as batch_table
from openmeadow.store.campaigns import campaigns, content
from openmeadow.store.campaigns.records import Campaign, Texts
from openmeadow.store.rows import SqlValue
from openmeadow.store.sequences import enrolments, sequences
from openmeadow.store.sequences.records import EnrolledPerson, Sequence
from openmeadow.store.subscribers import subscribers
from openmeadow.store.turns import Turns

PAUSED = runner.PAUSED
OUT = "out"


USUAL_HOURS = (8, 20)  # local, of a new sequence's messages


def add(workspace: Workspace, name: str, who: str, definition: Definition | None = None) -> SequenceId:
    """Begin a draft; its id."""
    name = name.strip()
    if not name:
        raise Refused("A sequence needs a name.")
    with workspace.store.atomic() as db:
        if sequences.named(db, name):
            raise Refused(f"There is already a sequence “{name}”.")
        row_id = sequences.add(db, name, secrets.randbits(48), workspace.now())
        usual = subscribers.usual_purpose(db)
        mine = next((p.id for p in subscribers.names(db, "purposes") if p.name == usual), None)
        sequences.update(db, row_id, {"purpose": mine})
        settings.log(db, workspace.now(), who, "created sequence", name)
    write(workspace, row_id, {"definition": (definition or Definition(hours=USUAL_HOURS)).json()}, who)
    return row_id


def write(
    workspace: Workspace,
    row_id: SequenceId,
    values: models.SequenceChanges,
    who: str,
    *,
    going: Mapping[int, int | str] | None = None,
) -> None:
    """Change a sequence: name, purpose, sender, definition. While it runs, the definition is another version for those who have
    not passed what changed. ``going`` says where people at a step that is taken away go: step key -> key, or "out"."""
    row = row_of(workspace, row_id)
    if row.state == "ended":
        raise Refused(f"“{row.name}” has ended. Copy it to a new one.")
    before = definition_of(row)
    after = read(values["definition"]) if "definition" in values else before
    going = going or {}
    stand = {r.step: r.people for r in sequences.steps(workspace.store.read(), row_id)}
    gone = {s.key for s in before.steps} - {s.key for s in after.steps}
    for key in sorted(gone & stand.keys()):
        to = going.get(key)
        if to != OUT and not (isinstance(to, int) and after.step(to)):
            people = stand[key]
            raise Refused(
                f"{people:,} {'person is' if people == 1 else 'people are'} at a step you are deleting. Move them to "
                "another step, or remove them."
            )
    if row.state != "draft" and (missing := validation.while_running(workspace, row_id, after)):
        raise Refused(f"A running sequence must stay complete. {missing[0].sentence}")
    plain: dict[str, SqlValue] = {
        k: one_line(str(v)) if k in ("name", "from_name") else v  # type: ignore[misc]
        for k, v in values.items()
        if k != "definition"
    }
    with workspace.store.atomic() as db:
        other = sequences.named(db, str(plain["name"]).strip()) if "name" in plain else None
        if other is not None and other.id != row_id:
            raise Refused(f"There is already a sequence “{values['name']}”.")
        if after != before:
            written = json.dumps(after.json())
            plain["definition"] = written
            if row.state != SequenceState.DRAFT:
                plain["version"] = row.version + 1
                sequences.add_version(db, row_id, row.version + 1, written, who, workspace.now())
                settings.log(db, workspace.now(), who, f"changed sequence (version {row.version + 1})", row.name)
        sequences.update(db, row_id, plain)
        for key in gone & stand.keys():
            _move_enrolled(workspace, db, row_id, key, after, going[key])
    _tie_mails(workspace, row_id, who)
    triggers.forget(workspace, row_id)


def _move_enrolled(
    workspace: Workspace, db: sqlite3.Connection, row_id: int, key: int, after: Definition, to: int | str
) -> None:
    now = workspace.now()
    them = [t for t in enrolments.all_inside(db, row_id) if t.step == key]
    if to == OUT:
        enrolments.leave(db, [(t.id, now, "removed with their step") for t in them])
        return
    step = after.step(int(to))
    assert step is not None
    enrolments.drop_waiting(db, [t.id for t in them], "their step was deleted", now)
    enrolments.arrive(db, [(t.id, step.key, step.path, now, row_version(db, row_id), now) for t in them])


def row_version(db: sqlite3.Connection, row_id: int) -> int:
    """The version that a sequence is at."""
    row = sequences.one(db, row_id)
    return int(row.version) if row is not None else 1


def _tie_mails(workspace: Workspace, row_id: SequenceId, who: str) -> None:
    """Every step that mails has a campaign of its own behind it, with the sequence's purpose and sender. That of a step
    taken away stays, for when the step is undone."""
    row = row_of(workspace, row_id)
    definition, mails = definition_of(row), sequences.mails(workspace.store.read(), row_id)
    own = [s for s in definition.steps if s.kind in MAILS and s.kind != "resend"]
    gate = "confirmation" if definition.begin.on == "sign-up pending" else "sequence"
    for step in own:
        asks = list(step.purposes) if step.kind == "consent request" else []
        if gate == "confirmation" and not asks and row.purpose_name:
            asks = [row.purpose_name]
        kind = "consent request" if step.kind == "consent request" else "campaign"
        campaign = mails[step.key].id if step.key in mails else 0
        if not campaign:
            title = f"{row.name}: {definition.titles()[step.key]}"
            name = free_name(title, lambda n: campaigns.named(workspace.store.read(), n))
            campaign = campaigns_service.add(workspace, name, who)
        now = campaigns.one(workspace.store.read(), campaign)
        assert now is not None
        with workspace.store.atomic() as w:
            sequences.tie(w, CampaignId(campaign), row_id, step.key, kind, gate, json.dumps(asks))
            if now.state == "draft":
                plan = now.plan.changed(resend=False, resend_rule="not engaged").model_dump_json()
                sent = {"purpose": row.purpose, "from_address": row.from_address, "from_name": row.from_name}
                campaigns.update(w, campaign, sent | {"plan": plan})
    with workspace.store.atomic() as w:
        if row.state != "draft":
            for step in own:
                found = sequences.mails(w, row_id)[step.key]
                if found.state == "draft" and not step.off:
                    _open(workspace, w, found, who)
            _set_arms(w, row_id, definition)


def _open(workspace: Workspace, w: sqlite3.Connection, mail: Campaign, who: str) -> None:
    """A step's mail can go out from now on: its message, its links, one pass and one batch for ever."""
    message = campaigns.add_message(w, mail.name, mail.purpose)
    for url in links(mail.html, mail.plain):
        campaigns.add_link(w, MessageId(message), url)
    campaigns.add_link(
        w, MessageId(message), str(workspace.setting("public_url")) + campaigns_service.TRAP_PATH, trap=True
    )
    content.add_version(w, mail.id, 1, Texts.of(mail), who, workspace.now())
    for kind in PASSES:
        batch = batch_table.add_batch(w, batch_table.add_pass(w, mail.id, kind), 1, 0, 0)
        batch_table.set_batch(w, batch, "sending")
    campaigns.update(w, mail.id, {"state": "sending", "message": message, "started_at": workspace.now()})


def _set_arms(w: sqlite3.Connection, row_id: SequenceId, definition: Definition) -> None:
    """What resends say instead: each is the one variant of its pass."""
    mails = sequences.mails(w, row_id)
    for step in definition.steps:
        about, kind = pass_of(definition, step)
        if step.kind != "resend" or about not in mails:
            continue
        way = sequences.way_out(w, mails[about].id, kind)
        if way:
            name = "New subject" if step.subject else "Same subject"
            variant = NamedVariant(name=name, wait=step.wait, subject=step.subject, preview=step.preview)
            sequences.set_arms(w, way[0], json.dumps([variant.model_dump()]))


def start(workspace: Workspace, row_id: SequenceId, who: str, *, with_those_there: bool = False) -> models.PeopleAdded:
    """Let it run. Who fulfils its beginning already stays outside, unless ``with_those_there``."""
    row = row_of(workspace, row_id)
    if row.state != "draft":
        raise Refused(f"“{row.name}” has already started.")
    found = validation.missing(workspace, row_id)
    if found:
        rest = f" And {len(found) - 1} more." if len(found) > 1 else ""
        raise Refused(f"Not complete yet. {found[0].sentence}{rest}")
    definition, view = definition_of(row), workspace.view()
    there = view.columns.people.id[condition(workspace, view, definition.begin)].tolist()
    top = enrolments.with_news(workspace.store.read(), row_id, 1 << 62, 1 << 62)
    queued = _put_in_place(workspace, row, definition, there, with_those_there=with_those_there)
    with workspace.store.atomic() as db:
        if sequences.state_of(db, row_id) != SequenceState.DRAFT:
            raise Refused(f"“{row.name}” has already started.")
        for key, mail in sequences.mails(db, row_id).items():
            if mail.state == "draft" and definition.step(key) is not None:
                _open(workspace, db, mail, who)
        _set_arms(db, row_id, definition)
        sequences.add_version(db, row_id, row.version, row.definition, who, workspace.now())
        sequences.update(
            db, row_id, {"state": "running", "started_at": workspace.now(), "seen_event": top[1], "seen_consent": top[2]}
        )
        settings.log(db, workspace.now(), who, "started sequence", row.name, queued)
    triggers.forget(workspace, row_id)
    return models.PeopleAdded(queued=queued, there=len(there), portions=admission.portions(queued, definition.begin))


def _put_in_place(
    workspace: Workspace, row: Sequence, definition: Definition, there: list[int], *, with_those_there: bool
) -> int:
    """Who fulfils the beginning of a draft is kept, and queued where wished, in place of what a start that was cut off has
    left; how many are queued."""
    turns, db = Turns(workspace.store), workspace.store.read()
    turns.each(enrolments.held_before(db, row.id).tolist(), lambda w, some: enrolments.hold_no_more(w, row.id, some))
    _empty_queue(workspace, turns, row.id)

    def put(w: sqlite3.Connection, some: abc.Sequence[int]) -> int:
        enrolments.hold_now(w, row.id, some)
        return runner.queue(workspace, w, row, definition, some) if with_those_there else 0

    return turns.each(there, put)


def _empty_queue(workspace: Workspace, turns: Turns, row_id: int) -> None:
    waiting = [p.subscriber for p in enrolments.queued(workspace.store.read(), row_id)]
    turns.each(waiting, lambda w, some: enrolments.unqueue(w, row_id, some))


def add_people(workspace: Workspace, row_id: int, people: list[int], who: str) -> models.PeopleAdded:
    """Put people in by hand, through the queue and its limits; those inside or there once already enrolment as they are."""
    row = row_of(workspace, row_id)
    if row.state not in ("running", "paused"):
        raise Refused(f"“{row.name}” is {row.state}. People can be added only while it runs.")
    definition = definition_of(row)
    came = Turns(workspace.store).each(
        sorted(set(people)), lambda w, some: runner.queue(workspace, w, row, definition, some)
    )
    with workspace.store.atomic() as db:
        settings.log(db, workspace.now(), who, "added people to sequence", row.name, came)
    waiting = enrolments.in_queue(workspace.store.read(), row_id)
    return models.PeopleAdded(queued=came, portions=admission.portions(waiting, definition.begin))


def pause(workspace: Workspace, row_id: int, who: str) -> None:
    """Everyone stays at their step; nothing goes out."""
    row = _in_state(workspace, row_id, "running")
    with workspace.store.atomic() as db:
        sequences.pause(db, row_id, PAUSED)
        settings.log(db, workspace.now(), who, "paused sequence", row.name)


def resume(workspace: Workspace, row_id: SequenceId, who: str) -> models.PeopleMoved:
    """Go on; who was due meanwhile goes on by the daily limit, in the order they were due."""
    row, now = _in_state(workspace, row_id, "paused"), workspace.now()
    if missing := validation.while_running(workspace, row_id, definition_of(row)):
        raise Refused(f"It must be complete before it can resume. {missing[0].sentence}")
    a_day = definition_of(row).begin.a_day
    inside = enrolments.all_inside(workspace.store.read(), row_id)
    due_at = {t.id: t.due_at for t in inside if t.due_at is not None}
    due = state_machine.spread(list(due_at.values()), now, a_day)
    late = sum(at <= now for at in due_at.values())
    moved = [(at, t) for at, t in zip(due, due_at, strict=True) if at != due_at[t]]
    Turns(workspace.store).each(moved, enrolments.move_due)
    with workspace.store.atomic() as db:
        if sequences.state_of(db, row_id) != SequenceState.PAUSED:
            raise Refused(f"“{row.name}” is not paused any more.")
        sequences.update(db, row_id, {"state": "running", "paused_why": ""})
        for mail in sequences.mails(db, row_id).values():
            if mail.state == "paused" and mail.paused_why == PAUSED:
                campaigns.update(db, mail.id, {"state": "sending", "paused_why": ""})
        settings.log(db, workspace.now(), who, "resumed sequence", row.name, late)
    return models.PeopleMoved(late=late, days=-(-late // a_day) if a_day else int(late > 0))


def end(workspace: Workspace, row_id: SequenceId, who: str) -> int:
    """For good: everybody inside leaves, nobody enters. How many left."""
    row = row_of(workspace, row_id)
    if row.state not in ("running", "paused"):
        raise Refused(f"“{row.name}” is {row.state}, so this is not possible.")
    gone = len(enrolments.who_is_inside(workspace.store.read(), row_id))
    with workspace.store.atomic() as db:
        sequences.update(db, row_id, {"state": "ended", "paused_why": ""})
        for mail in sequences.mails(db, row_id).values():
            if mail.state in ("sending", "paused"):
                batch_table.set_batches(db, mail.id, ("scheduled", "sending", "paused"), "sent")
                campaigns.update(db, mail.id, {"state": "finished"})
        settings.log(db, workspace.now(), who, "ended sequence", row.name, gone)
    _empty(workspace, row_id)
    return gone


def _empty(workspace: Workspace, row_id: SequenceId) -> None:
    """Everybody leaves a sequence that has ended, some at a time."""
    turns, now = Turns(workspace.store), workspace.now()
    inside = [(t.id, now, "the sequence was ended") for t in enrolments.all_inside(workspace.store.read(), row_id)]
    turns.each(inside, enrolments.leave)
    _empty_queue(workspace, turns, row_id)


def finish_ends(workspace: Workspace) -> None:
    """Who was left inside by an end that was cut off leaves."""
    for row_id in sequences.ended_with_somebody(workspace.store.read()):
        _empty(workspace, row_id)


def remove(workspace: Workspace, row_id: int, who: str) -> None:
    """Remove a draft with its messages."""
    row = _in_state(workspace, row_id, "draft")
    with workspace.store.atomic() as db:
        sequences.remove(db, row_id)
        settings.log(db, workspace.now(), who, "deleted a draft sequence", row.name)


def take_out(workspace: Workspace, row_id: int, enrolment: int, who: str) -> None:
    """One person leaves by hand."""
    _enrolment(workspace, row_id, enrolment)
    with workspace.store.atomic() as db:
        enrolments.leave(db, [(enrolment, workspace.now(), f"removed by {who}")])
        settings.log(db, workspace.now(), who, "removed a person from", row_of(workspace, row_id).name, 1)


def move_on(workspace: Workspace, row_id: int, enrolment: int, who: str) -> None:
    """One person's wait is over now."""
    t = _enrolment(workspace, row_id, enrolment)
    if t.due_at is None:
        raise Refused("Their message is already being sent.")
    with workspace.store.atomic() as db:
        enrolments.move_due(db, [(workspace.now(), enrolment)])
        settings.log(db, workspace.now(), who, "moved a person on in", row_of(workspace, row_id).name, 1)


def _enrolment(workspace: Workspace, row_id: int, enrolment: int) -> EnrolledPerson:
    t = sequences.enrolment(workspace.store.read(), enrolment)
    if t is None or t.sequence != row_id or t.left_at is not None:
        raise Refused("They have left the sequence already.")
    return t


def _in_state(workspace: Workspace, row_id: int, state: str) -> Sequence:
    row = row_of(workspace, row_id)
    if row.state != state:
        raise Refused(f"“{row.name}” is {row.state}, so this is not possible.")
    return row


def copy(workspace: Workspace, row_id: SequenceId, name: str, who: str) -> int:
    """A draft with the same steps and messages."""
    row = row_of(workspace, row_id)
    definition = definition_of(row)
    fresh = add(workspace, name, who, replace(definition))
    with workspace.store.atomic() as db:
        sequences.update(
            db, fresh, {"purpose": row.purpose, "from_address": row.from_address, "from_name": row.from_name}
        )
    _tie_mails(workspace, fresh, who)
    old = sequences.mails(workspace.store.read(), row_id)
    for key, mail in sequences.mails(workspace.store.read(), fresh).items():
        if key in old:
            templates.begin_from(workspace, mail.id, other=old[key].id)
    return fresh
