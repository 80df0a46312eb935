"""An action is undone as far as the world allows, some rows at a time. Cut off in between, it is asked for again and
goes on."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable, Sequence
from functools import partial

from openmeadow.core.errors import Missing, Refused
from openmeadow.core.fields import FieldType
from openmeadow.core.ids import SubscriberId
from openmeadow.core.states import JobKind
from openmeadow.services import models
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings, undo_log
from openmeadow.store.records import Activity
from openmeadow.store.subscribers import addresses as address_table
from openmeadow.store.subscribers import fields, subscribers
from openmeadow.store.turns import Turns

LARGE = 50_000  # entries; more than that is undone by the worker
UNDO = "undo"  # the act of a job that takes an action back


def start(workspace: Workspace, action: int, who: str, large: int = LARGE) -> models.Undone:
    """Take an action back now, or as a job where it made more than ``large`` entries."""
    row = _one(workspace, action)
    if row.people <= large:
        return models.Undone(sentence=undo(workspace, action, who), job=0)
    name = f"undo: {row.act} {row.what}".strip()
    job = models.ActionJob(act=UNDO, argument=str(action), choice=models.JobChoice(), name=name)
    with workspace.store.atomic() as db:
        row_id = settings.add_job(db, JobKind.ACT, job.model_dump_json(), who, workspace.now())
    return models.Undone(sentence=f"“{row.act}” is being undone; see Jobs.", job=row_id)


def _one(workspace: Workspace, action: int) -> Activity:
    """An entry that can be undone."""
    row = undo_log.one(workspace.store.read(), action)
    if row is None:
        raise Missing("This entry of the activity log does not exist.")
    if row.undone_at:
        raise Refused("This was already undone.")
    if (row.undo or "") not in _WAYS_BACK:
        raise Refused(f"“{row.act}” cannot be undone.")
    return row


def undo(workspace: Workspace, action: int, who: str) -> str:
    """Take an action back; the sentence says how far that was."""
    row = _one(workspace, action)
    sentence = _WAYS_BACK[row.undo or ""](Turns(workspace.store), action)
    with workspace.store.atomic() as db:
        undo_log.undone(db, action, workspace.now())
        undo_log.begin(db, workspace.now(), who, f"undid: {row.act}", row.what, row.people, None)
    return sentence


def _rows(turns: Turns, action: int) -> int:
    """Remove the list places, labels, suppressions and consents that the action made; how many."""
    gone, db = 0, turns.store.read()
    for table in undo_log.MADE_BY:
        gone += turns.each(
            undo_log.made_rows(db, table, action),
            lambda w, keys, table=table: undo_log.take_back(w, table, keys, action),  # type: ignore[misc]
        )
    return gone + turns.each(undo_log.claims(db, action), undo_log.void_claims)


def _people(turns: Turns, action: int) -> int:
    """People's own fields as they stood before the action; how many."""
    ids = undo_log.changed_people(turns.store.read(), action)
    return turns.each(ids, lambda db, part: undo_log.restore_people(db, action, part))


def _rows_back(turns: Turns, action: int) -> str:
    return f"{_rows(turns, action):,} entries removed."


def _labels(turns: Turns, action: int) -> int:
    put_away = undo_log.before(turns.store.read(), action, "label")
    rows = [(label, row_id, first) for row_id, (label, first) in put_away]
    return turns.each(rows, subscribers.add_labels)


def _labels_back(turns: Turns, action: int) -> str:
    return f"{_labels(turns, action):,} subscribers have the label again."


def _lists_back(turns: Turns, action: int) -> str:
    put_away = undo_log.before(turns.store.read(), action, "list")
    rows = [(place, row_id, at, first) for row_id, (place, at, first) in put_away]
    return f"{turns.each(rows, subscribers.add_members):,} subscribers are in the list again."


def _person_back(turns: Turns, action: int) -> str:
    _people(turns, action)
    _rows(turns, action)
    _labels(turns, action)
    return "Restored."


def _subscribers_back(turns: Turns, action: int) -> str:
    _rows(turns, action)
    restored = _people(turns, action)
    made = undo_log.made_people(turns.store.read(), action)
    gone = turns.each(made, undo_log.remove_people)
    stayed = len(made) - gone
    kept = f" {stayed:,} kept because of newer activity." if stayed else ""
    return f"{gone:,} subscribers removed, {restored:,} restored.{kept}"


def _events_back(turns: Turns, action: int) -> str:
    gone = 0
    while True:
        rows = range(turns.rows)
        with turns.part(rows) as db:
            some = undo_log.remove_events(db, action, len(rows))
        if not some:
            break
        gone += some
    _rows(turns, action)
    return f"{gone:,} events removed; scores are updated."


def _lifted_back(turns: Turns, action: int) -> str:
    put_away = undo_log.before(turns.store.read(), action, "suppression")
    rows = [(row_id, reason, at, source, None) for row_id, (reason, at, source) in put_away]
    return f"{turns.each(rows, subscribers.add_suppressions):,} subscribers are suppressed again."


def _addresses_back(turns: Turns, action: int) -> str:
    rows = undo_log.before(turns.store.read(), action, "address")

    def back(db: sqlite3.Connection, part: Sequence[tuple[int, undo_log.Kept]]) -> int:
        for row_id, (email, key, provider) in part:
            address_table.change_address(db, SubscriberId(row_id), email, key, provider)
        subscribers.people_changed(db)
        return len(part)

    return f"{turns.each(rows, back):,} addresses restored."


_HOLDS = {FieldType.TEXT: "text", FieldType.NUMBER: "numbers", FieldType.DATE: "dates"}


def _field_back(kind: FieldType, turns: Turns, action: int) -> str:
    """A field that was deleted, with the values of all who have been given none since."""
    name = _one_of(turns, action)

    def back(db: sqlite3.Connection, part: Sequence[tuple[int, undo_log.Kept]]) -> int:
        have = {i for i, _ in fields.values(db, name, [i for i, _ in part])}
        return fields.put(db, name, [(i, value) for i, value in part if i not in have])

    with turns.store.atomic() as db:
        fields.add(db, [name], kind)
    n = turns.each(undo_log.before(turns.store.read(), action, "field"), back)
    return f"“{name}” is there again; values restored: {n:,}."


def _values_back(kind: FieldType, turns: Turns, action: int) -> str:
    """A field's type as it was, with the values as they were written before, where they have not changed since."""
    name = _one_of(turns, action)
    if name not in fields.types(turns.store.read()):
        raise Refused(f"“{name}” is not a field any more: it was renamed or deleted.")

    def back(db: sqlite3.Connection, part: Sequence[tuple[int, undo_log.Kept]]) -> int:
        have = dict(fields.values(db, name, [i for i, _ in part]))
        return fields.put(db, name, [(i, before) for i, (before, after) in part if have.get(i) == after])

    with turns.store.atomic() as db:
        fields.set_type(db, name, kind)
    n = turns.each(undo_log.before(turns.store.read(), action, "field"), back)
    return f"“{name}” holds {_HOLDS[kind]} again; values written as before: {n:,}."


def _one_of(turns: Turns, action: int) -> str:
    """What an action was about."""
    row = undo_log.one(turns.store.read(), action)
    return row.what if row else ""


_WAYS_BACK: dict[str, Callable[[Turns, int], str]] = {
    "rows": _rows_back,
    "labels": _labels_back,
    "lists": _lists_back,
    "person": _person_back,
    "subscribers": _subscribers_back,
    "events": _events_back,
    "lifted": _lifted_back,
    "addresses": _addresses_back,
    **{f"{kind} field": partial(_field_back, kind) for kind in FieldType},
    **{f"{kind} values": partial(_values_back, kind) for kind in FieldType},
}
