"""Conditions in a message: parts shown only to those whom a rule holds for. A wrong one is named with its block."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass

from openmeadow.core.errors import MeadowError
from openmeadow.core.message.blocks import Block, several
from openmeadow.core.message.personalisation import rules_in
from openmeadow.services import models
from openmeadow.services.campaigns import recipients
from openmeadow.services.workspace import Workspace
from openmeadow.store.campaigns.records import Campaign, Version

TEXTS = ("subject", "html", "plain")


@dataclass(frozen=True)
class ConditionProblem:
    """``block`` counts from 1, 0 where the message is not written in blocks; ``sentence`` says what is wrong."""

    condition: str
    block: int
    sentence: str

    @property
    def finding(self) -> str:
        """The problem as a sentence of the checks."""
        where = f"Block {self.block}" if self.block else "A part of the message"
        return f"{where} is shown only if “{self.condition[:120]}”, and that rule has a mistake: {self.sentence}"


def _blocks(blocks: Sequence[Block]) -> list[tuple[int, str]]:
    """(number of the block, condition) of each block that has one, those inside columns too."""
    out = []
    for n, block in enumerate(blocks, start=1):
        inside = [*several(block.get("left")), *several(block.get("right"))]
        out += [(n, str(b.get("rule") or "").strip()) for b in (block, *inside) if str(b.get("rule") or "").strip()]
    return out


def problems(workspace: Workspace, texts: Campaign | Version) -> list[ConditionProblem]:
    """What is wrong with the conditions of a message (its row, or one of its versions), in order."""
    blocks = dict.fromkeys(_blocks(json.loads(texts.blocks) if texts.blocks else []))
    rules = list(dict.fromkeys(r for t in TEXTS for r in rules_in(getattr(texts, t))))
    if not rules and not blocks:
        return []
    places = [*blocks, *((0, r) for r in rules if r not in {rule for _, rule in blocks})]
    view, out = workspace.view(), []
    for block, rule in places:
        try:
            workspace.checked_rule(rule, view)
        except MeadowError as e:
            out.append(ConditionProblem(rule, block, str(e)))
    return out


def shown_to(workspace: Workspace, row: Campaign, rule: str) -> models.ShownTo:
    """How many of a campaign's recipients, as they are now, see a part with this rule. RuleMistake for a rule that cannot
    be read."""
    who = recipients.work_out(workspace, row)
    mask = who.view.mask(workspace.checked_rule(rule, who.view))
    return models.ShownTo(people=int(mask[who.index].sum()), recipients=len(who.index))
