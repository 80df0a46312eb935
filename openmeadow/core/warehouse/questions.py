"""What is asked of exported tables besides segments: where everybody stands, the map, and expected engagement by provider."""

from __future__ import annotations

from collections.abc import Sequence
from enum import StrEnum

from sqlglot import exp

from openmeadow.core.engagement.map import DAY_EDGES, DAY_WORDS, LEFT_EDGES, LEFT_WORDS
from openmeadow.core.moments import DAY
from openmeadow.core.rules.conditions import Rule
from openmeadow.core.warehouse.moment import Moment, Names
from openmeadow.core.warehouse.rule_sql import P, RuleSql, col, number, text
from openmeadow.core.warehouse.standing_sql import STANDING


class Question(StrEnum):
    """What can be asked."""

    STANDING = "standing"  # (x, t, n), chance, score and band of each
    MAP = "map"  # how many stand in each cell of the map
    EXPECTED = "expected"  # expected engagement with the next message, by provider


def _cell(value: exp.Expr, edges: Sequence[int], words: Sequence[str]) -> exp.Case:
    """The words of the cell that a whole number falls into."""
    case = exp.Case()
    for edge, word in zip(reversed(edges), reversed(words[: len(edges)]), strict=True):
        case = case.when(value.copy() >= number(edge), text(word))
    return case


def ask(question: Question, moment: Moment, names: Names, rule: Rule) -> exp.Select:
    """The SELECT of a question about the people who match a rule."""
    made = RuleSql(moment, names)
    made.stand()
    chance, score = col("chance", STANDING), exp.Literal.number("100.0") * col("chance", STANDING)
    people = exp.Count(this=exp.Star()).as_("people")
    if question is Question.STANDING:
        counted = [col(c, STANDING) for c in ("x", "t", "n", "active", "chance")]
        return made.of(rule, [col("person", P), col("email", P), *counted, score.as_("score"), col("band", STANDING)])
    if question is Question.EXPECTED:
        total = exp.Sum(this=chance).as_("expected")
        return made.of(rule, [col("provider", P), people, total]).group_by(col("provider", P))
    last = col("last_ever", STANDING)
    age = exp.func("FLOOR", (number(moment.now) - last) / number(DAY))
    never = exp.Case().when(exp.Is(this=last.copy(), expression=exp.null()), text(DAY_WORDS[-1]))
    since = never.else_(_cell(age, DAY_EDGES, DAY_WORDS[:-1]))
    left = _cell(col("ignored", STANDING), LEFT_EDGES, LEFT_WORDS)
    shown = [since.as_("days_since_engaged"), left.as_("ignored_since"), col("band", STANDING), people]
    return made.of(rule, shown).group_by(since.copy(), left.copy(), col("band", STANDING))
