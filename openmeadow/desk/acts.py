"""Acts on many people at once: each shows its numbers first, is one line of the activity log, and can be undone."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import asdict, dataclass
from typing import Any

import numpy as np

from openmeadow.core.addresses.verdicts import VERDICTS, judge
from openmeadow.core.consent.gate import SUPPRESSION_REASONS
from openmeadow.core.errors import Missing, Refused
from openmeadow.desk.desk import Desk
from openmeadow.desk.marked import Choice, chosen
from openmeadow.store import addresses as address_table
from openmeadow.store import deeds, people_sets, subscribers, workspace

LARGE = 2_000  # people; more than that goes to the worker
CHUNK = 5_000
LET_GO = 1 + SUPPRESSION_REASONS.index("let go")
Progress = Callable[[int, int], None]


@dataclass(frozen=True)
class Act:
    """``argument`` says what the act needs besides people; ``undo`` names the way back ("" where nothing changes)."""

    words: str
    argument: str
    undo: str


ACTS = {
    "label": Act("put the label on", "a label", "rows"),
    "unlabel": Act("took the label off", "a label", "labels"),
    "list": Act("added to the list", "a list", "rows"),
    "let go": Act("let go", "a reason", "rows"),
    "check": Act("checked addresses", "", ""),
}


def _people(desk: Desk, choice: Choice) -> list[int]:
    view = desk.view()
    ids: list[int] = view.columns.people.id[np.flatnonzero(chosen(desk, view, choice))].tolist()
    return ids


def _act(name: str, argument: str) -> Act:
    act = ACTS.get(name)
    if act is None:
        raise Refused(f"“{name}” is not an act; use one of {', '.join(ACTS)}.")
    if act.argument and not argument.strip():
        raise Refused(f"This needs {act.argument}.")
    return act


def preview(desk: Desk, name: str, argument: str, choice: Choice) -> dict[str, Any]:
    """What would happen, in numbers: {"people", "changes", "sentence"}."""
    _act(name, argument or "-")
    ids, db = _people(desk, choice), desk.store.read()
    there = people_sets.already(db, name, argument.strip(), ids)
    changes = len(there) if name == "unlabel" else len(ids) if name == "check" else len(ids) - len(there)
    rest = len(ids) - changes
    sentence = {
        "label": f"{changes:,} people get the label; {rest:,} have it already.",
        "unlabel": f"The label is taken off {changes:,} people; {rest:,} do not have it.",
        "list": f"{changes:,} people are added to the list; {rest:,} are in it already.",
        "let go": f"{changes:,} people are never mailed again, for any purpose, until that is taken back; "
        f"{rest:,} are suppressed already.",
        "check": f"{changes:,} addresses are looked at for mistakes, slips, throw-away and role addresses. "
        "Nobody is mailed or asked.",
    }[name]
    return {"people": len(ids), "changes": changes, "sentence": sentence}


def start(desk: Desk, name: str, argument: str, choice: Choice, who: str, large: int = LARGE) -> dict[str, Any]:
    """Do it now, or as a job when it concerns more than ``large`` people: {"deed", "job", "people"}, one of the
    first two being 0."""
    _act(name, argument)
    people = len(_people(desk, choice))
    if people > large:
        with desk.store.atomic() as db:
            arguments = {
                "act": name,
                "argument": argument,
                "choice": asdict(choice),
                "name": f"{name} {argument}".strip(),
            }
            return {"deed": 0, "job": workspace.add_job(db, "act", arguments, who, desk.now()), "people": people}
    deed, changed = do(desk, name, argument, choice, who)
    return {"deed": deed, "job": 0, "people": changed}


def do(
    desk: Desk, name: str, argument: str, choice: Choice, who: str, progress: Progress | None = None
) -> tuple[int, int]:
    """The act itself, in one transaction; its line in the activity log and how many it changed."""
    act, argument = _act(name, argument), argument.strip()
    ids, now = _people(desk, choice), desk.now()
    changed = 0
    known = _well_known(desk) if name == "check" else []
    with desk.store.atomic() as db:
        deed = deeds.begin(db, now, who, act.words, argument, 0, act.undo or None)
        for i in range(0, len(ids), CHUNK):
            part = ids[i : i + CHUNK]
            if name == "label":
                label, _ = subscribers.named(db, "labels", argument)
                changed += subscribers.add_labels(db, [(label, id, deed) for id in part])
            elif name == "list":
                place, _ = subscribers.named(db, "lists", argument)
                changed += subscribers.add_members(db, [(place, id, now, deed) for id in part])
            elif name == "let go":
                free = set(part) - people_sets.already(db, name, "", part)
                changed += subscribers.add_suppressions(db, [(id, LET_GO, now, argument, deed) for id in sorted(free)])
            elif name == "unlabel":
                changed += people_sets.take_label_off(db, argument, part, deed)
            else:
                changed += _check(desk, part, known, now)
            if progress:
                progress(min(i + CHUNK, len(ids)), len(ids))
        deeds.counted(db, deed, changed)
    return deed, changed


def _well_known(desk: Desk) -> list[str]:
    """The well-known domains and those frequent here, by falling frequency."""
    return people_sets.frequent_domains(desk.store.read())


def _check(desk: Desk, ids: list[int], known: list[str], now: int) -> int:
    db, rows = desk.store.writer, []
    bounced = people_sets.bounced_keys(db, ids)
    for id, row in subscribers.by_ids(db, ids).items():
        verdict = judge(row["email"], known, bounced)
        rows.append((id, VERDICTS.index(verdict.verdict), json.dumps(verdict.reasons), verdict.suggestion, now))
    people_sets.keep_verdicts(db, rows)
    return len(rows)


def undo(desk: Desk, deed: int, who: str) -> str:
    """Take a deed back as far as the world allows; the sentence says how far that was."""
    db = desk.store.read()
    row = deeds.one(db, deed)
    if row is None:
        raise Missing("There is no such entry in the activity log.")
    if row["undone_at"]:
        raise Refused("This was taken back already.")
    way = _WAYS_BACK.get(row["undo"] or "")
    if way is None:
        raise Refused(f"“{row['act']}” cannot be taken back.")
    with desk.store.atomic() as db:
        sentence = way(db, deed)
        deeds.undone(db, deed, desk.now())
        deeds.begin(db, desk.now(), who, f"took back: {row['act']}", row["what"], row["people"], None)
    return sentence


def _rows_back(db: Any, deed: int) -> str:
    return f"{deeds.take_back_rows(db, deed):,} entries are taken back."


def _labels_back(db: Any, deed: int) -> str:
    rows = [(label, id, first) for id, (label, first) in deeds.before(db, deed, "label")]
    return f"{subscribers.add_labels(db, rows):,} people have the label again."


def _person_back(db: Any, deed: int) -> str:
    deeds.restore_people(db, deed)
    deeds.take_back_rows(db, deed)
    _labels_back(db, deed)
    return "It stands as it was."


def _subscribers_back(db: Any, deed: int) -> str:
    deeds.take_back_rows(db, deed)
    restored = deeds.restore_people(db, deed)
    gone, stayed = deeds.remove_people(db, deed)
    kept = f" {stayed:,} stay, because things have happened to them since." if stayed else ""
    return f"{gone:,} people are taken out again and {restored:,} are as they were.{kept}"


def _events_back(db: Any, deed: int) -> str:
    gone = deeds.remove_events(db, deed)
    deeds.take_back_rows(db, deed)
    return f"{gone:,} events are taken out again; scores follow."


def _lifted_back(db: Any, deed: int) -> str:
    rows = [(id, reason, at, source, None) for id, (reason, at, source) in deeds.before(db, deed, "suppression")]
    return f"{subscribers.add_suppressions(db, rows):,} people are suppressed again."


def _addresses_back(db: Any, deed: int) -> str:
    rows = deeds.before(db, deed, "address")
    for id, (email, key, provider) in rows:
        address_table.change_address(db, id, email, key, provider)
    subscribers.people_changed(db)
    return f"{len(rows):,} addresses are as they were."


_WAYS_BACK: dict[str, Callable[[Any, int], str]] = {
    "rows": _rows_back,
    "labels": _labels_back,
    "person": _person_back,
    "subscribers": _subscribers_back,
    "events": _events_back,
    "lifted": _lifted_back,
    "addresses": _addresses_back,
}
