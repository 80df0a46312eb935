"""Text to tree. Mistakes name the place and what would fit there."""

from __future__ import annotations

import re
from collections.abc import Sequence
from functools import cache
from typing import Any

from lark import Lark, Token, Transformer, UnexpectedCharacters, UnexpectedEOF, UnexpectedToken, v_args
from lark.exceptions import LarkError

from openmeadow.core.addresses.verdicts import VERDICTS
from openmeadow.core.engagement.score import BANDS
from openmeadow.core.errors import RuleMistake
from openmeadow.core.rules import tree as t
from openmeadow.core.rules.grammar import GRAMMAR, NAMES

DEEPEST, MOST_CLAUSES, LONGEST_RULE = 50, 10_000, 200_000


@cache
def _parser() -> Lark:
    return Lark(GRAMMAR, parser="lalr", lexer="contextual", propagate_positions=True, maybe_placeholders=True)


def _name(token: Token) -> str:
    return str(token)[1:-1].replace('""', '"')


@v_args(inline=True)
class _Tree(Transformer[Token, Any]):  # type: ignore[misc]
    def start(self, rule: t.Rule) -> t.Rule:
        return rule

    def NUMBER(self, token: Token) -> float:
        return float(token)

    def days(self, value: float) -> float:
        return value

    window = days

    def bound(self, side: Token, value: float) -> tuple[str, float]:
        return side.split()[-1].lower(), value


def _group(kind: type[t.AllOf] | type[t.AnyOf]) -> Any:
    @v_args(meta=True, inline=True)  # type: ignore[untyped-decorator]
    def make(_: _Tree, meta: Any, *parts: t.Rule) -> t.Rule:
        return kind(parts, place=meta.start_pos)

    return make


def _clause(build: Any) -> Any:
    @v_args(meta=True, inline=True)  # type: ignore[untyped-decorator]
    def make(_: _Tree, meta: Any, *args: Any) -> t.Rule:
        return build(getattr(meta, "start_pos", 0), *args)  # type: ignore[no-any-return]

    return make


def _counted(kind: type[t.Counted]) -> Any:
    return _clause(lambda at, b, days=None: kind(side=b[0], value=b[1], days=days, place=at))


def _of(kind: type[t.OfMessages]) -> Any:
    return _clause(
        lambda at, b, of, days: kind(side=b[0], value=b[1], days=days, of=None if of is None else _name(of), place=at)
    )


def _named(kind: type[t.Named]) -> Any:
    return _clause(lambda at, name: kind(_name(name), place=at))


def _several(words: Token, known: Sequence[str]) -> tuple[str, ...]:
    """``Strong or Steady`` as the known words, once each, in their usual order."""
    chosen = set(str(words).lower().split()) - {"or"}
    return tuple(k for k in known if k.lower() in chosen)


_MAKERS = {
    "all_of": _group(t.AllOf),
    "any_of": _group(t.AnyOf),
    "negated": _clause(lambda at, part: t.Negated(part, place=at)),
    "opened": _clause(
        lambda at, anyone, b, of, days: (t.OpenedByAnyone if anyone else t.Opened)(
            side=b[0], value=b[1], days=days, of=None if of is None else _name(of), place=at
        )
    ),
    "clicked": _of(t.Clicked),
    "got": _of(t.Got),
    "replied": _counted(t.Replied),
    "booked": _counted(t.Booked),
    "worth": _counted(t.Worth),
    "unanswered": _counted(t.Unanswered),
    "score": _counted(t.ScoreIs),
    "left": _clause(lambda at, name: t.Left(_name(name), place=at)),
    "never_answered": _clause(lambda at: t.NeverAnswered(place=at)),
    "no_answer": _clause(lambda at, days: t.NoAnswer(days, place=at)),
    "last_answer": _clause(lambda at, side, days: t.LastAnswer(side.split()[0].lower(), days, place=at)),
    "joined": _clause(lambda at, side, days: t.Joined(side.split()[0].lower(), days, place=at)),
    "band": _clause(lambda at, words: t.BandIs(_several(words, BANDS), place=at)),
    "address": _clause(lambda at, words: t.AddressIs(_several(words, VERDICTS), place=at)),
    "suppressed": _clause(lambda at, reason=None: t.Suppressed(None if reason is None else _name(reason), place=at)),
    "consent_age": _clause(
        lambda at, name, side, days: t.ConsentAge(side.split()[0].lower(), days, _name(name), place=at)
    ),
    "consent_from": _clause(lambda at, name, source: t.ConsentFrom(_name(name), _name(source), place=at)),
    "soft_bounced": _counted(t.SoftBounced),
    "language": _named(t.LanguageIs),
    "country": _named(t.CountryIs),
    "inside_sequence": _clause(
        lambda at, name, step=None: t.InsideSequence(_name(name), None if step is None else _name(step), place=at)
    ),
    "finished_sequence": _clause(
        lambda at, name, side=None, days=None: t.FinishedSequence(
            _name(name), None if side is None else side.split()[0].lower(), days, place=at
        )
    ),
    "rejoined": _clause(lambda at: t.Rejoined(place=at)),
    "permitted": _named(t.Permitted),
    "in_list": _named(t.InList),
    "has_label": _named(t.HasLabel),
    "in_segment": _named(t.InSegment),
    "in_frozen": _clause(lambda at, name, day: t.InFrozen(_name(name), str(day), place=at)),
    "provider": _named(t.ProviderIs),
    "came_by": _named(t.CameBy),
    "field": _clause(lambda at, name, value: t.FieldIs(_name(name), _name(value), place=at)),
    "consent": _clause(
        lambda at, name, channel, state: t.ConsentIs(_name(name), channel.split()[-1].lower(), state.lower(), place=at)
    ),
}
for _rule_name, _maker in _MAKERS.items():
    setattr(_Tree, _rule_name, _maker)


def _fits(expected: set[str]) -> tuple[str, ...]:
    words = {NAMES.get(e, e.strip("_").lower()) for e in expected}
    return tuple(sorted(words, key=lambda w: (w.startswith("a "), w)))


def _sentence(text: str, place: int, fits: tuple[str, ...]) -> str:
    found = re.match(r"\s*([\w\"().]+)", text[place:])
    what = f"“{found.group(1)}”" if found else "the end"
    if found and found.group(1).lower() in ("and", "or"):
        return (
            f"At character {place + 1}, “and” and “or” meet: put one side in brackets, "
            "so that it is clear which goes first."
        )
    shown = ", ".join(fits[:8]) + (" and more" if len(fits) > 8 else "")
    return f"At character {place + 1}, {what} does not fit here; what would fit: {shown}."


def parse(text: str) -> t.Rule:
    """The tree of a rule sentence, or ``RuleMistake`` with the place."""
    if not text.strip():
        raise RuleMistake("The rule is empty; begin with a clause such as opened at least 1 in 90 days.", 0)
    depth = deepest = 0
    if len(text) > LONGEST_RULE:
        raise RuleMistake(f"A rule has at most {LONGEST_RULE:,} characters; this one has {len(text):,}.", 0)
    bare = re.sub(r'"[^"]*"', lambda m: " " * len(m.group()), text)  # a doubled quote is two quoted stretches
    for char in bare:
        depth += (char == "(") - (char == ")")
        deepest = max(deepest, depth)
    if deepest > DEEPEST:
        raise RuleMistake(f"Brackets may be nested {DEEPEST} deep; this rule goes {deepest} deep.", 0)
    if len(re.findall(r"\b(?:and|or)\b", bare, re.I)) >= MOST_CLAUSES:
        raise RuleMistake(f"A rule may hold {MOST_CLAUSES:,} clauses; this one holds more.", 0)
    try:
        return _Tree().transform(_parser().parse(text))  # type: ignore[no-any-return]
    except UnexpectedToken as e:
        place = len(text.rstrip()) if e.token.type == "$END" else (e.token.start_pos or 0)
        fits = _fits(e.accepts or e.expected)
    except UnexpectedCharacters as e:
        place, fits = e.pos_in_stream, _fits(set(e.allowed or ()))
    except UnexpectedEOF as e:
        place, fits = len(text), _fits(set(e.expected))
    except LarkError as e:
        raise RuleMistake("This rule cannot be read; check its brackets and quotes.", 0) from e
    raise RuleMistake(_sentence(text, place, fits), place, fits)
