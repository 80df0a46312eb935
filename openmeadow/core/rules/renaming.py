"""A rule whose names follow what was renamed."""

from __future__ import annotations

from dataclasses import fields, replace

from openmeadow.core.errors import RuleMistake
from openmeadow.core.rules.conditions import Rule
from openmeadow.core.rules.parser import parse
from openmeadow.core.rules.people_clauses import (
    ConsentAge,
    ConsentFrom,
    ConsentIs,
    Field,
    InSegment,
    InSnapshot,
    Permitted,
    ProviderIs,
)

# what a kind of name is called by: the clause and its part
PARTS: dict[str, tuple[tuple[type[Rule], str], ...]] = {
    "purpose": ((Permitted, "name"), (ConsentIs, "purpose"), (ConsentAge, "purpose"), (ConsentFrom, "purpose")),
    "provider": ((ProviderIs, "name"),),
    "field": ((Field, "name"),),
    "segment": ((InSegment, "name"), (InSnapshot, "name")),
}


def renamed(rule: Rule, kind: str, before: str, after: str) -> Rule:
    """The rule with one name changed wherever it stands."""
    changes: dict[str, object] = {}
    for part in fields(rule):
        value = getattr(rule, part.name)
        if isinstance(value, Rule):
            changes[part.name] = renamed(value, kind, before, after)
        elif isinstance(value, tuple) and value and isinstance(value[0], Rule):
            changes[part.name] = tuple(renamed(v, kind, before, after) for v in value)
    for clause, name in PARTS[kind]:
        if isinstance(rule, clause) and getattr(rule, name).lower() == before.lower():
            changes[name] = after
    return replace(rule, **changes)  # type: ignore[arg-type]


def renamed_text(text: str, kind: str, before: str, after: str) -> str:
    """The same for a rule as it is written; one that cannot be read, or does not name it, stays as it is."""
    if before.lower() not in text.lower().replace('""', '"'):
        return text
    try:
        rule = parse(text)
    except RuleMistake:
        return text
    new = renamed(rule, kind, before, after)
    return text if new == rule else new.text()
