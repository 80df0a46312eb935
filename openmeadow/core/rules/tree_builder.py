"""Rule text to tree, by a grammar and a parser that take a moment to load."""

from __future__ import annotations

import difflib
import re
from collections.abc import Callable, Sequence
from functools import cache

from lark import Lark, Token, Transformer, UnexpectedCharacters, UnexpectedEOF, UnexpectedToken, v_args
from lark.exceptions import LarkError

from openmeadow.core.engagement.bands import BANDS
from openmeadow.core.errors import RuleMistake
from openmeadow.core.rules import activity_clauses as a
from openmeadow.core.rules import people_clauses as p
from openmeadow.core.rules.conditions import AllOf, AnyOf, Counted, Named, Negated, OfMessages, Rule
from openmeadow.core.rules.grammar import CLAUSE_STARTS, EXAMPLE, GRAMMAR, NAMES
from openmeadow.core.rules.spans import UNITS, Bound, Span


@cache
def _parser() -> Lark:
    return Lark(GRAMMAR, parser="lalr", lexer="contextual", propagate_positions=True, maybe_placeholders=True)


def _name(token: Token) -> str:
    return str(token)[1:-1].replace('""', '"')


def _name_or_none(token: Token | None) -> str | None:
    return None if token is None else _name(token)


def _side(token: Token) -> str:
    return " ".join(token.lower().split())


def _first_word(token: Token) -> str:
    return str(token).split()[0].lower()


@v_args(inline=True)
class _Tree(Transformer[Token, Rule]):  # type: ignore[misc]
    def start(self, rule: Rule) -> Rule:
        return rule

    def NUMBER(self, token: Token) -> float:
        return float(token)

    SIGNED = NUMBER

    def span(self, n: float, unit: Token) -> Span:
        return Span(n, next(u for u in UNITS if unit.lower().rstrip("s") == u))

    def window(self, span: Span) -> Span:
        return span

    def bound(self, side: Token, value: float) -> Bound:
        return Bound(_side(side), value)


Maker = Callable[..., Rule]


def _make(build: Maker) -> Callable[..., Rule]:
    """A transformer's method from a function of the place and the clause's parts."""

    @v_args(meta=True, inline=True)  # type: ignore[untyped-decorator]
    def make(_: _Tree, meta: object, *parts: object) -> Rule:
        return build(getattr(meta, "start_pos", 0), *parts)

    made: Callable[..., Rule] = make
    return made


def _group(kind: type[AllOf] | type[AnyOf]) -> Maker:
    return lambda at, *parts: kind(parts, place=at)


def _counted(kind: type[Counted]) -> Maker:
    def build(at: int, bound: Bound) -> Rule:
        _can_hold(kind, bound, at)
        return kind(bound, place=at)

    return build


def _of(kind: type[OfMessages]) -> Maker:
    def build(at: int, bound: Bound, of: Token | None, window: Span | None) -> Rule:
        _can_hold(kind, bound, at)
        return kind(bound, window, _name_or_none(of), place=at)

    return build


def _can_hold(kind: type[Counted], bound: Bound, at: int) -> None:
    """RuleMistake for a figure that no one can ever have."""
    low, high = kind.limits
    if not bound.can_hold(low, high):
        top = "" if high == float("inf") else f" and at most {high:g}"
        raise RuleMistake(
            f"At character {at + 1}: “{kind.word} {bound.text()}” can never be true; the figure is at least {low:g}{top}.",
            at,
        )


def _opened(at: int, anyone: Token | None, *parts: object) -> Rule:
    return _of(a.OpenedByAnyone if anyone else a.Opened)(at, *parts)


def _named(kind: type[Named]) -> Maker:
    return lambda at, name: kind(_name(name), place=at)


def _ago(kind: type[a.LastEngaged] | type[a.Joined]) -> Maker:
    return lambda at, side, span: kind(_first_word(side), span, place=at)


def _several(words: Token, known: Sequence[str]) -> tuple[str, ...]:
    """``Strong or Steady`` as the known words, once each, in their usual order."""
    chosen = {" ".join(w.split()) for w in re.split(r"\s+or\s+", str(words).lower())}
    return tuple(k for k in known if k.lower() in chosen)


def _finished(at: int, name: Token, side: Token | None = None, span: Span | None = None) -> Rule:
    return p.FinishedSequence(_name(name), None if side is None else _first_word(side), span, place=at)


def _consent(at: int, name: Token, channel: Token | None, state: Token) -> Rule:
    return p.ConsentIs(_name(name), None if channel is None else channel.split()[-1].lower(), state.lower(), place=at)


_MAKERS: dict[str, Maker] = {
    "all_of": _group(AllOf),
    "any_of": _group(AnyOf),
    "negated": lambda at, part: Negated(part, place=at),
    "opened": _opened,
    "clicked": _of(a.Clicked),
    "received": _of(a.Received),
    "engaged": _of(a.Engaged),
    "replied": _of(a.Replied),
    "booked": _of(a.Booked),
    "worth": _of(a.BookedWorth),
    "engaged_within": lambda at, span: a.EngagedWithin(span, place=at),
    "ignored": lambda at, name: a.Ignored(_name(name), place=at),
    "ignored_in_a_row": _counted(a.IgnoredInARow),
    "never_engaged": lambda at: a.NeverEngaged(place=at),
    "not_engaged": lambda at, span: a.NotEngaged(span, place=at),
    "last_engaged": _ago(a.LastEngaged),
    "joined": _ago(a.Joined),
    "soft_bounced": _counted(a.SoftBounced),
    "band": lambda at, words: a.BandIs(_several(words, BANDS), place=at),
    "score": _counted(a.ScoreIs),
    "likely_active": _counted(a.LikelyActive),
    "rejoined": lambda at: a.Rejoined(place=at),
    "permitted": _named(p.Permitted),
    "in_list": _named(p.InList),
    "has_label": _named(p.HasLabel),
    "in_segment": _named(p.InSegment),
    "in_snapshot": lambda at, name, day: p.InSnapshot(_name(name), str(day), place=at),
    "consent": _consent,
    "consent_age": lambda at, name, side, span: p.ConsentAge(_first_word(side), span, _name(name), place=at),
    "consent_from": lambda at, name, source: p.ConsentFrom(_name(name), _name(source), place=at),
    "address": lambda at, words: p.AddressIs(_several(words, p.ADDRESS_STATES), place=at),
    "language": _named(p.LanguageIs),
    "country": _named(p.CountryIs),
    "suppressed": lambda at, reason=None: p.Suppressed(_name_or_none(reason), place=at),
    "in_sequence": lambda at, name, step=None: p.InSequence(_name(name), _name_or_none(step), place=at),
    "finished_sequence": _finished,
    "field_is": lambda at, name, value: p.FieldIs(_name(name), _name(value), place=at),
    "field_is_not": lambda at, name, value: p.FieldIsNot(_name(name), _name(value), place=at),
    "field_contains": lambda at, name, value: p.FieldContains(_name(name), _name(value), place=at),
    "field_empty": lambda at, name: p.FieldEmpty(_name(name), place=at),
    "field_number": lambda at, name, side, value: p.FieldNumber(_name(name), Bound(_side(side), value), place=at),
    "field_day": lambda at, name, side, day: p.FieldDay(_name(name), side.lower(), str(day), place=at),
    "field_one_of": lambda at, name, *values: p.FieldOneOf(_name(name), tuple(_name(v) for v in values), place=at),
    "field_falls": lambda at, name, span: p.FieldFalls(_name(name), span, place=at),
    "provider": _named(p.ProviderIs),
    "source": _named(p.SourceIs),
}
for _rule_name, _maker in _MAKERS.items():
    setattr(_Tree, _rule_name, _make(_maker))


def _fits(expected: set[str]) -> tuple[str, ...]:
    """Every word that fits, as it is written."""
    words = {NAMES.get(e, e.strip("_").lower()) for e in expected}
    return tuple(sorted(words, key=lambda w: (w.startswith("a "), w)))


def _nearest(word: str, expected: set[str]) -> str:
    """A word of the language that was probably meant, or ""."""
    words = [e.strip("_").lower() for e in expected if e.startswith("_")]
    return next(iter(difflib.get_close_matches(word.lower(), words, 1, 0.75)), "")


def _sentence(text: str, place: int, expected: set[str]) -> str:
    """What is wrong there, and what fits; an example where every condition would."""
    fits = _fits(expected)
    if expected >= CLAUSE_STARTS:
        fits = (EXAMPLE, *(w for e, w in (("_NOT", "not"), ("LPAR", "(")) if e in expected))
    found = re.match(r"\s*([\w\"().]+)", text[place:])
    if found and found.group(1).lower() in ("and", "or") and {"_AND", "_OR"} & expected:
        return f"At character {place + 1}: “and” and “or” cannot be mixed. Put brackets around one side."
    shown = fits[0] if len(fits) == 1 else f"{', '.join(fits[:-1])} or {fits[-1]}" if fits else "something else"
    if found is None:
        return f"The rule ends too early. What fits next: {shown}."
    meant = _nearest(found.group(1), expected)
    hint = f" Did you mean “{meant}”?" if meant else ""
    return f"At character {place + 1}: “{found.group(1)}” does not fit here.{hint} What fits: {shown}."


def build(text: str) -> Rule:
    """The tree of a text; RuleMistake where it is no rule."""
    try:
        rule: Rule = _Tree().transform(_parser().parse(text))
    except UnexpectedToken as e:
        place = len(text.rstrip()) if e.token.type == "$END" else (e.token.start_pos or 0)
        expected = set(e.accepts or e.expected)
    except UnexpectedCharacters as e:
        place, expected = e.pos_in_stream, set(e.allowed or ())
    except UnexpectedEOF as e:
        place, expected = len(text), set(e.expected)
    except LarkError as e:
        if isinstance(mistake := getattr(e, "orig_exc", None), RuleMistake):
            raise mistake from None
        raise RuleMistake("This rule cannot be read. Check its brackets and quotes.", 0) from e
    else:
        return rule
    raise RuleMistake(_sentence(text, place, expected), place, _fits(expected))
