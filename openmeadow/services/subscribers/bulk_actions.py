"""Acts on many people at once: each shows its numbers first, is one line of the activity log, and can be undone."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Callable
from dataclasses import asdict, dataclass

import numpy as np

from openmeadow.core.addresses.verdicts import VERDICTS, judge
from openmeadow.core.consent.eligibility import SUPPRESSION_REASONS
from openmeadow.core.errors import Missing, Refused
from openmeadow.core.ids import SubscriberId
from openmeadow.core.states import JobKind
from openmeadow.services import models
from openmeadow.services.subscribers.selection import Choice, chosen
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings, undo_log
from openmeadow.store.subscribers import addresses as address_table
from openmeadow.store.subscribers import selections, subscribers

LARGE = 2_000  # people; more than that goes to the worker
CHUNK = 5_000
SUPPRESSED_INACTIVE = 1 + SUPPRESSION_REASONS.index("inactive")
Progress = Callable[[int, int], None]


@dataclass(frozen=True)
class Act:
    """``argument`` says what the act needs besides people; ``undo`` names how it is undone ("" where nothing changes)."""

    words: str
    argument: str
    undo: str


ACTS = {
    "label": Act("added label", "a label", "rows"),
    "unlabel": Act("removed label", "a label", "labels"),
    "list": Act("added to list", "a list", "rows"),
    "suppress": Act("suppress", "a reason", "rows"),
    "check": Act("checked addresses", "", ""),
}


def _people(workspace: Workspace, choice: Choice) -> list[int]:
    view = workspace.view()
    ids: list[int] = view.columns.people.id[np.flatnonzero(chosen(workspace, view, choice))].tolist()
    return ids


def _act(name: str, argument: str) -> Act:
    act = ACTS.get(name)
    if act is None:
        raise Refused(f"“{name}” is not an action; use one of {', '.join(ACTS)}.")
    if act.argument and not argument.strip():
        raise Refused(f"This needs {act.argument}.")
    return act


def preview(workspace: Workspace, name: str, argument: str, choice: Choice) -> models.ActionPreview:
    """What would happen, in numbers: {"people", "changes", "sentence"}."""
    _act(name, argument or "-")
    ids, db = _people(workspace, choice), workspace.store.read()
    there = selections.already(db, name, argument.strip(), ids)
    changes = len(there) if name == "unlabel" else len(ids) if name == "check" else len(ids) - len(there)
    rest = len(ids) - changes
    sentence = {
        "label": f"Adds the label to {changes:,} subscribers; {rest:,} already have it.",
        "unlabel": f"Removes the label from {changes:,} subscribers; {rest:,} do not have it.",
        "list": f"Adds {changes:,} subscribers to the list; {rest:,} are already in it.",
        "suppress": f"Suppresses {changes:,} subscribers for all purposes until undone; {rest:,} are already suppressed.",
        "check": f"Checks {changes:,} addresses for syntax, typos, disposable and role addresses. Nothing is sent or queried.",
    }[name]
    return models.ActionPreview(people=len(ids), changes=changes, sentence=sentence)


def start(
    workspace: Workspace, name: str, argument: str, choice: Choice, who: str, large: int = LARGE
) -> models.ActionDone:
    """Do it now, or as a job when it concerns more than ``large`` people: {"action", "job", "people"}, one of the
    first two being 0."""
    _act(name, argument)
    people = len(_people(workspace, choice))
    if people > large:
        with workspace.store.atomic() as db:
            job = models.ActionJob(
                act=name, argument=argument, choice=models.JobChoice(**asdict(choice)), name=f"{name} {argument}".strip()
            )
            row_id = settings.add_job(db, JobKind.ACT, job.model_dump_json(), who, workspace.now())
        return models.ActionDone(action=0, job=row_id, people=people)
    action, changed = do(workspace, name, argument, choice, who)
    return models.ActionDone(action=action, job=0, people=changed)


def do(
    workspace: Workspace, name: str, argument: str, choice: Choice, who: str, progress: Progress | None = None
) -> tuple[int, int]:
    """The act itself, in one transaction; its line in the activity log and how many it changed."""
    act, argument = _act(name, argument), argument.strip()
    ids, now = _people(workspace, choice), workspace.now()
    changed = 0
    known = _well_known(workspace) if name == "check" else []
    with workspace.store.atomic() as db:
        action = undo_log.begin(db, now, who, act.words, argument, 0, act.undo or None)
        for i in range(0, len(ids), CHUNK):
            part = ids[i : i + CHUNK]
            if name == "label":
                label, _ = subscribers.named(db, "labels", argument)
                changed += subscribers.add_labels(db, [(label, row_id, action) for row_id in part])
            elif name == "list":
                place, _ = subscribers.named(db, "lists", argument)
                changed += subscribers.add_members(db, [(place, row_id, now, action) for row_id in part])
            elif name == "suppress":
                free = set(part) - selections.already(db, name, "", part)
                changed += subscribers.add_suppressions(
                    db, [(row_id, SUPPRESSED_INACTIVE, now, argument, action) for row_id in sorted(free)]
                )
            elif name == "unlabel":
                changed += selections.take_label_off(db, argument, part, action)
            else:
                changed += _check(workspace, part, known, now)
            if progress:
                progress(min(i + CHUNK, len(ids)), len(ids))
        undo_log.counted(db, action, changed)
    return action, changed


def _well_known(workspace: Workspace) -> list[str]:
    """The well-known domains and those frequent here, by falling frequency."""
    return selections.frequent_domains(workspace.store.read())


def _check(workspace: Workspace, ids: list[int], known: list[str], now: int) -> int:
    db, rows = workspace.store.writer, []
    bounced = selections.bounced_keys(db, ids)
    for row_id, row in subscribers.by_ids(db, ids).items():
        verdict = judge(row.email, known, bounced)
        rows.append((row_id, VERDICTS.index(verdict.verdict), json.dumps(verdict.reasons), verdict.suggestion, now))
    selections.save_verdicts(db, rows)
    return len(rows)


def undo(workspace: Workspace, action: int, who: str) -> str:
    """Take an action back as far as the world allows; the sentence says how far that was."""
    db = workspace.store.read()
    row = undo_log.one(db, action)
    if row is None:
        raise Missing("This entry of the activity log does not exist.")
    if row.undone_at:
        raise Refused("This was already undone.")
    way = _WAYS_BACK.get(row.undo or "")
    if way is None:
        raise Refused(f"“{row.act}” cannot be undone.")
    with workspace.store.atomic() as db:
        sentence = way(db, action)
        undo_log.undone(db, action, workspace.now())
        undo_log.begin(db, workspace.now(), who, f"undid: {row.act}", row.what, row.people, None)
    return sentence


def _rows_back(db: sqlite3.Connection, action: int) -> str:
    return f"{undo_log.take_back_rows(db, action):,} entries removed."


def _labels_back(db: sqlite3.Connection, action: int) -> str:
    rows = [(label, row_id, first) for row_id, (label, first) in undo_log.before(db, action, "label")]
    return f"{subscribers.add_labels(db, rows):,} subscribers have the label again."


def _person_back(db: sqlite3.Connection, action: int) -> str:
    undo_log.restore_people(db, action)
    undo_log.take_back_rows(db, action)
    _labels_back(db, action)
    return "Restored."


def _subscribers_back(db: sqlite3.Connection, action: int) -> str:
    undo_log.take_back_rows(db, action)
    restored = undo_log.restore_people(db, action)
    gone, stayed = undo_log.remove_people(db, action)
    kept = f" {stayed:,} kept because of newer activity." if stayed else ""
    return f"{gone:,} subscribers removed, {restored:,} restored.{kept}"


def _events_back(db: sqlite3.Connection, action: int) -> str:
    gone = undo_log.remove_events(db, action)
    undo_log.take_back_rows(db, action)
    return f"{gone:,} events removed; scores are updated."


def _lifted_back(db: sqlite3.Connection, action: int) -> str:
    rows = [
        (row_id, reason, at, source, None) for row_id, (reason, at, source) in undo_log.before(db, action, "suppression")
    ]
    return f"{subscribers.add_suppressions(db, rows):,} subscribers are suppressed again."


def _addresses_back(db: sqlite3.Connection, action: int) -> str:
    rows = undo_log.before(db, action, "address")
    for row_id, (email, key, provider) in rows:
        address_table.change_address(db, SubscriberId(row_id), email, key, provider)
    subscribers.people_changed(db)
    return f"{len(rows):,} addresses restored."


_WAYS_BACK: dict[str, Callable[[sqlite3.Connection, int], str]] = {
    "rows": _rows_back,
    "labels": _labels_back,
    "person": _person_back,
    "subscribers": _subscribers_back,
    "events": _events_back,
    "lifted": _lifted_back,
    "addresses": _addresses_back,
}
