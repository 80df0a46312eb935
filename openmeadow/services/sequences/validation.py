"""What a sequence lacks before it can run, and what keeps a change from one that runs."""

from __future__ import annotations

from openmeadow.core.errors import MeadowError
from openmeadow.core.ids import SequenceId
from openmeadow.core.sequences.definition import MAILS, Definition, Lack, lacks
from openmeadow.services import models
from openmeadow.services.campaigns import findings, preflight
from openmeadow.services.sequences.loading import choices, definition_of, row_of
from openmeadow.services.workspace import Workspace
from openmeadow.store.campaigns.records import Campaign
from openmeadow.store.sequences import sequences

BEGINS_WITH = {  # what a beginning names: among which choices, and its word
    "joins a list": ("lists", "list"),
    "enters a segment": ("segments", "segment"),
    "confirms": ("purposes", "purpose"),
    "sign-up pending": ("purposes", "purpose"),
    "a date": ("fields", "field"),
}
OF_ALL = ("Purpose", "From", "Sender", "Postal address", "Consent wording")


def missing(workspace: Workspace, row_id: SequenceId) -> list[Lack]:
    """Everything that keeps it from running, with the step; what the messages lack as well."""
    row, db = row_of(workspace, row_id), workspace.store.read()
    definition, mails = definition_of(row), sequences.mails(db, row_id)
    titles = definition.titles()
    out = list(lacks(definition))
    if not row.purpose:
        out.append(Lack(0, "Choose a purpose."))
    if not row.from_address:
        out.append(Lack(0, "Choose a from address."))
    for step in definition.steps:
        if step.kind not in MAILS or step.kind == "resend" or step.key not in mails:
            continue
        if mails[step.key].state != "draft":
            continue  # it goes out: it was whole, and each change of it is looked at
        for f in _stops(workspace, mails[step.key]):
            if f.check in OF_ALL:  # the same for every message: said once
                if row.purpose and row.from_address and all(f.finding != x.sentence for x in out):
                    out.append(Lack(0, f.finding))
            else:
                out.append(Lack(step.key, f"{titles[step.key]}: {f.finding}"))
    return out + _named(workspace, definition) + _rules(workspace, definition)


def while_running(workspace: Workspace, row_id: SequenceId, after: Definition) -> list[Lack]:
    """What keeps a definition from being the one of a sequence that runs. A step that is switched off may lack something:
    people pass it until it is switched on, and then it has to be whole, its message too."""
    mails, titles = sequences.mails(workspace.store.read(), row_id), after.titles()
    off = {s.key for s in after.steps if s.off}
    out = [x for x in (*lacks(after), *_named(workspace, after), *_rules(workspace, after)) if x.step not in off]
    for step in after.steps:
        if step.kind not in MAILS or step.kind == "resend" or step.off:
            continue
        mail = mails.get(step.key)
        if mail is None:
            out.append(Lack(step.key, "A new message stays disabled until it is written."))
        elif mail.state == "draft":
            late = "Keep it disabled until this is fixed."
            out += [Lack(step.key, f"{titles[step.key]}: {f.finding} {late}") for f in _stops(workspace, mail)]
    return out


def _stops(workspace: Workspace, mail: Campaign) -> list[models.Check]:
    return findings.stops(preflight.checks(workspace, mail))


def _named(workspace: Workspace, definition: Definition) -> list[Lack]:
    """A beginning that names what is not there: nobody would ever enter. (A label comes into being when it is put on.)"""
    among, word = BEGINS_WITH.get(definition.begin.on, ("", ""))
    what = definition.begin.what
    if not among or not what or what.lower() in (n.lower() for n in getattr(choices(workspace), among)):
        return []
    return [Lack(0, f"The {word} “{what}” of its trigger does not exist.")]


def _rules(workspace: Workspace, definition: Definition) -> list[Lack]:
    """Rules of questions and of leaving that cannot be read."""
    view = workspace.view()
    rules = [(s.key, s.rule) for s in definition.steps if s.kind == "condition" and s.asks == "rule"]
    out = []
    for key, rule in [*rules, (0, definition.leave.rule)]:
        try:
            if rule.strip():
                workspace.checked_rule(rule, view)
        except MeadowError as e:
            out.append(Lack(key, f"The rule “{rule}” has a mistake: {e}"))
    return out
