"""The sieve: what each clause of a rule lets through, and what it alone removes (or lets in)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from openmeadow.core.rules.tree import AllOf, AnyOf, Rule, View, bracketed


@dataclass(frozen=True)
class SieveRow:
    """For ``and``: ``left`` after this clause and ``alone`` removed by it; for ``or``: let in, alone let in."""

    text: str
    left: int
    alone: int | None
    arm: bool = False


def sieve(rule: Rule, view: View) -> list[SieveRow]:
    """First row everyone, then one a clause of the topmost group (a lone clause is a group of one)."""
    rows = [SieveRow("everyone", int(view.alive.sum()), None)]
    if isinstance(rule, AnyOf):
        masks = [view.mask(p) for p in rule.parts]
        hits = np.sum(masks, axis=0, dtype=np.int32)
        return rows + [
            SieveRow(bracketed(p), int(m.sum()), int((m & (hits == 1)).sum()), True)
            for p, m in zip(rule.parts, masks, strict=True)
        ]
    parts = rule.parts if isinstance(rule, AllOf) else (rule,)
    masks = [view.mask(p) for p in parts]
    fails = np.sum([~m for m in masks], axis=0, dtype=np.int32)
    left = view.alive.copy()
    for part, mask in zip(parts, masks, strict=True):
        left &= mask
        rows.append(SieveRow(bracketed(part), int(left.sum()), int((view.alive & ~mask & (fails == 1)).sum())))
    return rows
