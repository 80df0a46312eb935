"""What a sequence lacks before it can run, and what keeps a change from one that runs."""

from __future__ import annotations

from typing import Any

from openmeadow.core.errors import MeadowError
from openmeadow.core.sequences.ladder import MAILS, Lack, Ladder, lacks
from openmeadow.desk import checking
from openmeadow.desk.desk import Desk
from openmeadow.desk.sequences.reading import choices, ladder_of, row_of
from openmeadow.store import campaigns, sequences

BEGINS_WITH = {  # what a beginning names: among which choices, and its word
    "joins a list": ("lists", "list"),
    "enters a segment": ("segments", "segment"),
    "confirms": ("purposes", "purpose"),
    "awaits confirmation": ("purposes", "purpose"),
    "a date": ("fields", "field"),
}
OF_ALL = ("Purpose", "From", "Sender", "Postal address", "Consent wording")


def missing(desk: Desk, id: int) -> list[Lack]:
    """Everything that keeps it from running, with the step; what the messages lack as well."""
    row, db = row_of(desk, id), desk.store.read()
    ladder, mails = ladder_of(row), sequences.mails(db, id)
    titles = ladder.titles()
    out = list(lacks(ladder))
    if not row["purpose"]:
        out.append(Lack(0, "Say what its mail is about: choose a purpose."))
    if not row["from_address"]:
        out.append(Lack(0, "Choose the address it is sent from."))
    for step in ladder.steps:
        if step.kind not in MAILS or step.kind == "repeat" or step.key not in mails:
            continue
        if mails[step.key]["state"] != "draft":
            continue  # it goes out: it was whole, and each change of it is looked at
        for f in _stops(desk, mails[step.key]):
            if f["check"] in OF_ALL:  # the same for every message: said once
                if row["purpose"] and row["from_address"] and all(f["finding"] != x.sentence for x in out):
                    out.append(Lack(0, f["finding"]))
            else:
                out.append(Lack(step.key, f"{titles[step.key]}: {f['finding']}"))
    return out + _named(desk, ladder) + _rules(desk, ladder)


def while_running(desk: Desk, id: int, after: Ladder) -> list[Lack]:
    """What keeps a ladder from being the one of a sequence that runs. A step that is switched off may lack something:
    people pass it until it is switched on, and then it has to be whole, its message too."""
    mails, titles = sequences.mails(desk.store.read(), id), after.titles()
    off = {s.key for s in after.steps if s.off}
    out = [x for x in (*lacks(after), *_named(desk, after), *_rules(desk, after)) if x.step not in off]
    for step in after.steps:
        if step.kind not in MAILS or step.kind == "repeat" or step.off:
            continue
        mail = mails.get(step.key)
        if mail is None:
            out.append(Lack(step.key, "A new message is switched off until what it says is written."))
        elif mail["state"] == "draft":
            late = "Leave it switched off until that is mended."
            out += [Lack(step.key, f"{titles[step.key]}: {f['finding']} {late}") for f in _stops(desk, mail)]
    return out


def _stops(desk: Desk, mail: Any) -> list[dict[str, Any]]:
    return checking.stops(checking.checks(desk, campaigns.one(desk.store.read(), mail["id"])))


def _named(desk: Desk, ladder: Ladder) -> list[Lack]:
    """A beginning that names what is not there: nobody would ever enter. (A label comes into being when it is put on.)"""
    among, word = BEGINS_WITH.get(ladder.begin.on, ("", ""))
    what = ladder.begin.what
    if not among or not what or what.lower() in (n.lower() for n in choices(desk)[among]):
        return []
    return [Lack(0, f"It begins with the {word} “{what}”, which is not there.")]


def _rules(desk: Desk, ladder: Ladder) -> list[Lack]:
    """Rules of questions and of leaving that cannot be read."""
    view = desk.view()
    rules = [(s.key, s.rule) for s in ladder.steps if s.kind == "question" and s.asks == "rule"]
    out = []
    for key, rule in [*rules, (0, ladder.leave.rule)]:
        try:
            if rule.strip():
                desk.checked_rule(rule, view)
        except MeadowError as e:
            out.append(Lack(key, f"The rule “{rule}” cannot be read: {e}"))
    return out
