"""Names in rules as the exported tables hold them."""

from __future__ import annotations

from collections.abc import Sequence

from openmeadow.core.rules.conditions import Rule
from openmeadow.store import warehouse
from openmeadow.store.segments.permission_facts import StoreFacts
from openmeadow.store.subscribers import fields

TABLES = {"list": "lists", "label": "labels", "provider": "providers", "source": "sources", "purpose": "purposes"}
TABLES |= {"sequence": "sequences"}


class StoreNames:
    """``Names`` over what rules ask of the store."""

    def __init__(self, facts: StoreFacts) -> None:
        self._facts, self._db = facts, facts.db

    def exact(self, kind: str, name: str) -> str:
        """A name as it is kept; Missing where there is none."""
        if kind == "field":
            found = next((k for k in fields.names(self._db) if k.lower() == name.lower()), None)
        else:
            found = warehouse.exact_name(self._db, TABLES[kind], name)
        if found is None:  # rules are checked before, so this is one that has just been removed
            raise self._facts.missing(kind, name)
        return found

    def message_ids(self, name: str) -> list[int]:
        """Messages of a name."""
        return self._facts.message_ids(name)

    def segment(self, name: str) -> Rule:
        """The rule of a segment."""
        return self._facts.segment(name)

    def snapshot_id(self, name: str, day: str) -> int:
        """The snapshot of a segment of a day."""
        return self._facts.snapshot_id(name, day)

    def step_key(self, sequence: str, step: str) -> int:
        """The key of a step by what it is called."""
        return self._facts.step_key(sequence, step)

    def coming_days(self, days: float) -> Sequence[str]:
        """MM-DD of today and the next so many days."""
        return sorted(self._facts.coming_days(days))
