"""Acts on many people at once: each shows its numbers first, is one line of the activity log, and can be undone."""

from __future__ import annotations

import json
import sqlite3
from bisect import bisect_right
from collections.abc import Callable, Sequence
from dataclasses import asdict, dataclass

import numpy as np

from openmeadow.core.addresses.verdicts import VERDICTS, judge
from openmeadow.core.arrays import Mask
from openmeadow.core.consent.eligibility import SUPPRESSION_REASONS
from openmeadow.core.consent.sunset import spared
from openmeadow.core.errors import Refused
from openmeadow.core.moments import DAY
from openmeadow.core.rules.conditions import View
from openmeadow.core.states import JobKind
from openmeadow.services import models
from openmeadow.services.subscribers.selection import Choice, chosen
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings, undo_log
from openmeadow.store.subscribers import selections, subscribers
from openmeadow.store.turns import Turns

LARGE = 2_000  # people; more than that goes to the worker
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
    "unlist": Act("removed from list", "a list", "lists"),
    "suppress": Act("suppress", "a reason", "rows"),
    "check": Act("checked addresses", "", ""),
}


STOPS_MAILING = ("suppress",)
TAKES_AWAY = ("unlabel", "unlist")


def _spared(view: View) -> dict[str, Mask]:
    return spared(view, view.now - view.scores.cadence.window * DAY)


def _people(workspace: Workspace, name: str, choice: Choice) -> list[int]:
    """Whom an act concerns."""
    view = workspace.view()
    mask = chosen(workspace, view, choice)
    if name in STOPS_MAILING:
        for group, people in _spared(view).items():
            if group not in choice.also:
                mask &= ~people
    ids: list[int] = view.columns.people.id[np.flatnonzero(mask)].tolist()
    return ids


def _left_out(workspace: Workspace, choice: Choice) -> list[models.Spared]:
    """Of a choice, whom an act that stops mailing takes only where they are ticked in."""
    view = workspace.view()
    mask, window = chosen(workspace, view, choice), view.scores.cadence.window
    words = {
        "Unproven": "Unproven: too few messages to judge",
        "Masked": "Masked: opens hidden by a proxy",
        "booked": f"booked in the last {window} days",
    }
    found = {g: int((people & mask).sum()) for g, people in _spared(view).items()}
    return [models.Spared.model_validate({"group": g, "people": n, "words": words[g]}) for g, n in found.items() if n]


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
    ids, db = _people(workspace, name, choice), workspace.store.read()
    there = selections.already(db, name, argument.strip(), ids)
    changes = len(there) if name in TAKES_AWAY else len(ids) if name == "check" else len(ids) - len(there)
    rest = len(ids) - changes
    sentence = {
        "label": f"Adds the label to {changes:,} subscribers; {rest:,} already have it.",
        "unlabel": f"Removes the label from {changes:,} subscribers; {rest:,} do not have it.",
        "unlist": f"Removes {changes:,} subscribers from the list; {rest:,} are not in it.",
        "list": f"Adds {changes:,} subscribers to the list; {rest:,} are already in it.",
        "suppress": f"Suppresses {changes:,} subscribers for all purposes until undone; {rest:,} are already suppressed.",
        "check": f"Checks {changes:,} addresses for syntax, typos, disposable and role addresses. Nothing is sent or queried.",
    }[name]
    left_out = _left_out(workspace, choice) if name in STOPS_MAILING else []
    return models.ActionPreview(people=len(ids), changes=changes, sentence=sentence, spared=left_out)


def start(
    workspace: Workspace, name: str, argument: str, choice: Choice, who: str, large: int = LARGE
) -> models.ActionDone:
    """Do it now, or as a job when it concerns more than ``large`` people: {"action", "job", "people"}, one of the
    first two being 0."""
    _act(name, argument)
    people = len(_people(workspace, name, choice))
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
    """The act itself, some people at a time; its line in the activity log and how many it changed."""
    act, argument = _act(name, argument), argument.strip()
    ids, now = _people(workspace, name, choice), workspace.now()
    changed = 0
    known = _well_known(workspace) if name == "check" else []
    with workspace.store.atomic() as db:
        action = undo_log.begin(db, now, who, act.words, argument, 0, act.undo or None)
    turns = Turns(workspace.store)
    for part in turns.over(ids):
        with turns.part(part) as db:
            changed += _done(workspace, db, name, argument, part, action, known)
            undo_log.counted(db, action, changed)
        if progress:
            progress(bisect_right(ids, part[-1]), len(ids))
    return action, changed


def _done(
    workspace: Workspace,
    db: sqlite3.Connection,
    name: str,
    argument: str,
    part: Sequence[int],
    action: int,
    known: list[str],
) -> int:
    """The act on some people; how many it changed."""
    now = workspace.now()
    if name == "label":
        label, _ = subscribers.named(db, "labels", argument)
        return subscribers.add_labels(db, [(label, row_id, action) for row_id in part])
    if name == "list":
        place, _ = subscribers.named(db, "lists", argument)
        return subscribers.add_members(db, [(place, row_id, now, action) for row_id in part])
    if name == "suppress":
        free = set(part) - selections.already(db, name, "", part)
        return subscribers.add_suppressions(
            db, [(row_id, SUPPRESSED_INACTIVE, now, argument, action) for row_id in sorted(free)]
        )
    if name == "unlabel":
        return selections.take_label_off(db, argument, part, action)
    if name == "unlist":
        return selections.take_off_list(db, argument, part, action)
    return _check(workspace, part, known, now)


def _well_known(workspace: Workspace) -> list[str]:
    """The well-known domains and those frequent here, by falling frequency."""
    return selections.frequent_domains(workspace.store.read())


def _check(workspace: Workspace, ids: Sequence[int], known: list[str], now: int) -> int:
    db, rows = workspace.store.writer, []
    bounced = selections.bounced_keys(db, ids)
    for row_id, row in subscribers.by_ids(db, ids).items():
        verdict = judge(row.email, known, bounced)
        rows.append((row_id, VERDICTS.index(verdict.verdict), json.dumps(verdict.reasons), verdict.suggestion, now))
    selections.save_verdicts(db, rows)
    return len(rows)
