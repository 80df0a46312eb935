"""Rule text to tree. A mistake names its place and what fits there."""

from __future__ import annotations

import re

from openmeadow.core.errors import RuleMistake
from openmeadow.core.rules.conditions import Rule
from openmeadow.core.rules.grammar import EXAMPLE

DEEPEST, MOST_CLAUSES, LONGEST_RULE = 50, 10_000, 200_000


def _check_size(text: str) -> None:
    if not text.strip():
        raise RuleMistake(f"The rule is empty. Start with {EXAMPLE}.", 0)
    if len(text) > LONGEST_RULE:
        raise RuleMistake(f"A rule has at most {LONGEST_RULE:,} characters; this one has {len(text):,}.", 0)
    depth = deepest = 0
    bare = re.sub(r'"[^"]*"', lambda m: " " * len(m.group()), text)  # a doubled quote is two quoted stretches
    for char in bare:
        depth += (char == "(") - (char == ")")
        deepest = max(deepest, depth)
    if deepest > DEEPEST:
        raise RuleMistake(f"Brackets can be nested {DEEPEST} deep; this rule goes {deepest} deep.", 0)
    if len(re.findall(r"\b(?:and|or)\b", bare, re.I)) >= 2 * MOST_CLAUSES:
        raise RuleMistake(f"A rule can have {MOST_CLAUSES:,} conditions; this one has more.", 0)


def parse(text: str) -> Rule:
    """The tree of a rule. RuleMistake, with the place as a 0-based character, where the text is no rule."""
    from openmeadow.core.rules import tree_builder  # heavy, and not every command reads a rule

    _check_size(text)
    rule = tree_builder.build(text)
    if rule.size() > MOST_CLAUSES:
        raise RuleMistake(f"A rule can have {MOST_CLAUSES:,} conditions; this one has {rule.size():,}.", 0)
    return rule
