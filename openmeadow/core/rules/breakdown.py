"""The condition breakdown: what remains after each clause, and what each alone removes (or adds)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from openmeadow.core.rules.conditions import AllOf, AnyOf, Rule, View, bracketed


@dataclass(frozen=True)
class BreakdownRow:
    """One clause. In an ``and``: ``remaining`` after it and how many it ``alone`` removes; in an ``or`` (``adds``): how
    many it matches and how many it ``alone`` adds. The first row is everyone, with ``alone`` None."""

    text: str
    remaining: int
    alone: int | None
    adds: bool = False

    def json(self) -> dict[str, str | int]:
        """As the command line and the API write it."""
        if self.alone is None:
            return {"clause": self.text, "remaining": self.remaining}
        if self.adds:
            return {"clause": self.text, "adds": self.remaining, "added_only_by_this": self.alone}
        return {"clause": self.text, "remaining": self.remaining, "removed_only_by_this": self.alone}


def breakdown(rule: Rule, view: View) -> list[BreakdownRow]:
    """First everyone, then one row a clause of the topmost group (a lone clause is a group of one)."""
    rows = [BreakdownRow("everyone", int(view.alive.sum()), None)]
    if isinstance(rule, AnyOf):
        masks = [view.mask(p) for p in rule.parts]
        hits = np.sum(masks, axis=0, dtype=np.int32)
        return rows + [
            BreakdownRow(bracketed(p), int(m.sum()), int((m & (hits == 1)).sum()), True)
            for p, m in zip(rule.parts, masks, strict=True)
        ]
    parts = rule.parts if isinstance(rule, AllOf) else (rule,)
    masks = [view.mask(p) for p in parts]
    fails = np.sum([~m for m in masks], axis=0, dtype=np.int32)
    left = view.alive.copy()
    for part, mask in zip(parts, masks, strict=True):
        left &= mask
        alone = int((view.alive & ~mask & (fails == 1)).sum())
        rows.append(BreakdownRow(bracketed(part), int(left.sum()), alone))
    return rows
