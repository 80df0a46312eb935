"""Fields of the workspace's own: what they are called, what they hold, where they are used; renamed and deleted."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable, Sequence

from openmeadow.core.errors import Missing, Refused
from openmeadow.core.fields import FieldType, checked_name, kept
from openmeadow.core.imports.dates import STYLES, styles_of
from openmeadow.core.imports.subscribers import KNOWN
from openmeadow.core.message.personalisation import MATCHES, UNSUBSCRIBE, undeclared
from openmeadow.core.rules.conditions import Rule
from openmeadow.core.rules.people_clauses import Field
from openmeadow.services import models
from openmeadow.services.campaigns.preflight import PAGES, PERSONAL
from openmeadow.services.segments import used
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings, undo_log
from openmeadow.store.segments.renaming import rules_renamed
from openmeadow.store.subscribers import fields as table
from openmeadow.store.turns import Turns

TAKEN = frozenset({*KNOWN, *PERSONAL, *PAGES, UNSUBSCRIBE, MATCHES})
EXAMPLES = 3


def every(workspace: Workspace) -> list[models.OwnField]:
    """All fields with how many people have a value in each, and where they are used."""
    db = workspace.store.read()
    counts = table.counts(db)
    return [
        models.OwnField(
            name=name,
            type=kind.value,
            people=counts.get(name, 0),
            examples=table.sample(db, name, EXAMPLES),
            used_by=_used_by(workspace, name),
        )
        for name, kind in table.types(db).items()
    ]


def _used_by(workspace: Workspace, name: str) -> list[str]:
    def clause(rule: Rule) -> bool:
        return isinstance(rule, Field) and rule.name.lower() == name.lower()

    def text(said: str) -> bool:
        return name in undeclared(said)

    return used.by(workspace, clause, text, [("a date", name)], ("field", name))


def _one(workspace: Workspace, name: str) -> FieldType:
    found = table.types(workspace.store.read()).get(name)
    if found is None:
        raise Missing(f"There is no field “{name}”.")
    return found


def _free(workspace: Workspace, name: str, but: str = "") -> str:
    """A name that no other field has. Refused where one does."""
    name = checked_name(name, TAKEN)
    for other in table.names(workspace.store.read()):
        if other != but and other.lower() == name.lower():
            raise Refused(f"There is already a field “{other}”.")
    return name


def add(workspace: Workspace, given: models.FieldIn, who: str) -> None:
    """A field without values yet, which imports can fill."""
    name = _free(workspace, given.name)
    with workspace.store.atomic() as db:
        table.add(db, [name], FieldType(given.type))
        settings.log(db, workspace.now(), who, "added field", name)


def trial(workspace: Workspace, given: models.FieldTrialIn) -> models.FieldTrial:
    """What a type would make of the values: how many it fits, how many it writes anew, some that it does not fit."""
    _one(workspace, given.name)
    db, kind = workspace.store.read(), FieldType(given.type)
    found = table.values(db, given.name, table.holders(db, given.name))
    style = _checked_style(given.style) or (_style_of(table.sample(db, given.name)) if kind == FieldType.DATE else "")
    typed = [(value, kept(value, kind, style)) for _, value in found]
    unfit = [value for value, new in typed if new is None]
    return models.FieldTrial(
        values=len(typed),
        unfit=len(unfit),
        rewritten=sum(new is not None and new != value for value, new in typed),
        examples=list(dict.fromkeys(unfit))[:EXAMPLES],
        style=style,
        styles={s: example for s, (example, _) in STYLES.items()} if kind == FieldType.DATE else {},
    )


def _checked_style(style: str) -> str:
    if style and style not in STYLES:
        raise Refused(f"“{style}” is not a date format; use one of {', '.join(STYLES)}.")
    return style


def _style_of(values: list[str]) -> str:
    found = styles_of(values) if values else []
    return found[0] if found else "year first"


def set_type(workspace: Workspace, given: models.FieldTrialIn, who: str) -> int:
    """Give a field another type: values that fit are written as it keeps them, all others stay as they are. The action by
    which it is undone."""
    name, kind = given.name, FieldType(given.type)
    before, style = _one(workspace, name), _checked_style(given.style)

    def convert(db: sqlite3.Connection, ids: Sequence[int], action: int) -> int:
        had = table.values(db, name, ids)
        new = [(i, v, kept(v, kind, style)) for i, v in had]
        changed = [(i, v, n) for i, v, n in new if n is not None and n != v]
        undo_log.put_away(db, action, "field", [(i, (v, n)) for i, v, n in changed])
        return table.put(db, name, [(i, n) for i, _, n in changed])

    with workspace.store.atomic() as db:
        action = undo_log.begin(db, workspace.now(), who, f"made field a {kind}", name, 0, f"{before} values")
        table.set_type(db, name, kind)
    _each_holder(workspace, name, action, convert)
    return action


def _each_holder(
    workspace: Workspace, name: str, action: int, do: Callable[[sqlite3.Connection, Sequence[int], int], int]
) -> None:
    """``do`` with everybody who has the field, some at a time; the action's line says how many it changed."""
    turns, ids = Turns(workspace.store), table.holders(workspace.store.read(), name)
    changed = turns.each(ids, lambda db, part: do(db, part, action))
    with workspace.store.atomic() as db:
        undo_log.counted(db, action, changed)


def rename(workspace: Workspace, given: models.FieldRename, who: str) -> None:
    """Give a field another name: values, rules, messages and sequences follow. Refused where a message uses it and the
    name cannot stand in one."""
    before = given.name
    _one(workspace, before)
    after = _free(workspace, given.to, but=before)
    if after == before:
        return
    if not after.isidentifier() and (said := used.texts(workspace, lambda text: before in undeclared(text))):
        raise Refused(
            f"“{before}” is a merge field of {', '.join(said)}: its name can have letters, digits and _ only, "
            "and begins with a letter."
        )
    turns, now = Turns(workspace.store), workspace.now()
    ids = table.holders(workspace.store.read(), before)
    # under both names while rules change from one to the other: cut off in between, every rule still finds its values
    changed = turns.each(ids, lambda db, part: table.put(db, after, table.values(db, before, part)))
    with workspace.store.atomic() as db:
        table.rename(db, before, after)
        rules_renamed(db, "field", before, after)
        settings.log(db, now, who, "renamed field", f"{before} to {after}", changed)
    turns.each(ids, lambda db, part: table.take(db, before, part))
    for action in undo_log.that_changed_people(workspace.store.read()):
        changed_by = undo_log.changed_people(workspace.store.read(), action)
        turns.each(changed_by, lambda db, part, action=action: undo_log.rename_field(db, action, part, before, after))  # type: ignore[misc]


def remove(workspace: Workspace, name: str, who: str) -> int:
    """Delete a field and everybody's value in it. Refused while it is used. The action by which it is undone."""
    kind = _one(workspace, name)
    if found := _used_by(workspace, name):
        raise Refused(f"“{name}” is used by {', '.join(found)}. Remove it there first.")

    def take(db: sqlite3.Connection, ids: Sequence[int], action: int) -> int:
        undo_log.put_away(db, action, "field", table.values(db, name, ids))
        return table.take(db, name, ids)

    with workspace.store.atomic() as db:
        action = undo_log.begin(db, workspace.now(), who, "deleted field", name, 0, f"{kind} field")
        table.remove(db, name)
    _each_holder(workspace, name, action, take)
    return action
