"""Rules: text and tree are one; the fast evaluation equals a slow one per person; mistakes point."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from openmeadow.core.columns import DAY, FAR, I32, I64, NEVER, Kind, Mask
from openmeadow.core.engagement.score import BANDS, Cadence, score
from openmeadow.core.engagement.who import MACHINE
from openmeadow.core.errors import RuleMistake
from openmeadow.core.rules import tree as t
from openmeadow.core.rules.sentence import parse
from openmeadow.core.rules.sieve import sieve
from openmeadow.core.rules.streams import Streams
from tests.core.slow import judge, messages_of
from tests.making import NOW, PEOPLE, E, columns, histories


@dataclass
class Known:
    """Facts about four people, by hand."""

    def in_list(self, name: str) -> Mask:
        return np.array([True, True, False, False])

    def has_label(self, name: str) -> Mask:
        return np.array([True, False, True, False])

    def field_is(self, name: str, value: str) -> Mask:
        return np.array([value == "Saltmere", False, False, True])

    def message_ids(self, name: str) -> list[int]:
        return [int(name)]

    def segment(self, name: str) -> t.Rule:
        return parse("unanswered at least 1")

    def frozen(self, name: str, day: str) -> Mask:
        return np.array([day == "2026-03-12", False, True, False])

    permitted = provider_is = came_by = language_is = country_is = has_label

    def inside_sequence(self, name: str, step: str | None) -> Mask:
        return np.array([step is None, True, False, step is not None])

    def consent_is(self, purpose: str, channel: str, state: str) -> Mask:
        return np.array([state == ("given" if channel == "email" else "none")] * PEOPLE)

    def address_is(self, verdicts: tuple[str, ...]) -> Mask:
        return np.array(["good" in verdicts, "bad" in verdicts, False, False])

    def suppressed_mask(self, reason: str | None) -> Mask:
        return np.array([False, False, True, reason is None])

    def consent_given_at(self, purpose: str) -> I64:
        return np.array([NOW - 900 * DAY, NOW - 20 * DAY, NEVER, NOW - 730 * DAY])

    def consent_came_from(self, purpose: str, source: str) -> Mask:
        return np.array([source == "x", True, False, False])

    def finished_sequence(self, name: str) -> I64:
        return np.array([NEVER, NOW - 40 * DAY, NOW, NEVER])

    def soft_failures(self) -> tuple[I32, I64]:
        return np.array([p for p, _ in SOFT], np.int32), np.array([at for _, at in SOFT])


SOFT = [(0, NOW - 50 * DAY), (0, NOW - 20 * DAY), (2, NOW - 300 * DAY)]


def view_of(events: list[E]) -> t.View:
    c = columns(events)
    scores = score(c, NOW, Cadence(7, 60, 90))
    return t.View(c, Streams(c), lambda: scores, Known(), np.ones(PEOPLE, bool), NOW)


names = st.text(st.sampled_from('ab "c'), min_size=1, max_size=5)
days = st.one_of(st.none(), st.sampled_from([1.0, 30.0, 90.0, 120.0, 400.0]))
side = st.sampled_from(["least", "most"])
small = st.sampled_from([0.0, 1.0, 2.0, 4.0])
message = st.one_of(st.none(), st.sampled_from([str(i) for i in range(1, 10)]))
of_messages = [st.builds(k, side, small, days, of=message) for k in (t.Opened, t.OpenedByAnyone, t.Clicked, t.Got)]
leaves = st.one_of(
    *of_messages,
    st.builds(t.Replied, side, small, days),
    st.builds(t.Booked, side, small, days),
    st.builds(t.Worth, side, st.sampled_from([30.0, 50.5]), days),
    st.builds(t.Unanswered, side, small, st.none()),
    st.builds(t.ScoreIs, side, st.sampled_from([8.0, 40.0]), st.none()),
    st.builds(t.Left, st.sampled_from([str(i) for i in range(1, 10)])),
    st.just(t.NeverAnswered()),
    st.builds(t.NoAnswer, st.sampled_from([30.0, 150.0])),
    st.builds(t.LastAnswer, st.sampled_from(["more", "less"]), st.sampled_from([30.0, 150.0])),
    st.builds(t.Joined, st.sampled_from(["more", "less"]), st.sampled_from([30.0, 1000.0])),
    st.builds(
        t.BandIs,
        st.lists(st.sampled_from(BANDS), min_size=1, max_size=3, unique=True).map(
            lambda b: tuple(sorted(b, key=BANDS.index))
        ),
    ),
    *(
        st.builds(k, names)
        for k in (t.InList, t.HasLabel, t.Permitted, t.InSegment, t.ProviderIs, t.CameBy, t.LanguageIs)
    ),
    st.builds(t.CountryIs, names),
    st.builds(t.InsideSequence, names, st.one_of(st.none(), names)),
    st.builds(t.FinishedSequence, names),
    st.builds(t.FinishedSequence, names, st.sampled_from(["more", "less"]), st.sampled_from([10.0, 30.0])),
    st.builds(t.SoftBounced, side, small, st.none()),
    st.builds(t.Suppressed, st.sampled_from([None, "let go"])),
    st.builds(t.ConsentAge, st.sampled_from(["more", "less"]), st.sampled_from([30.0, 730.0]), names),
    st.builds(t.ConsentFrom, names, st.sampled_from(["x", "fair"])),
    st.builds(t.InFrozen, names, st.sampled_from(["2026-03-12", "2025-01-01"])),
    st.builds(t.AddressIs, st.sampled_from([("good",), ("good", "bad"), ("risky", "unknown")])),
    st.builds(t.FieldIs, names, st.sampled_from(["Saltmere", "x"])),
    st.builds(t.ConsentIs, names, st.sampled_from(["email", "post"]), st.sampled_from(["given", "none"])),
    st.just(t.Rejoined()),
)
rules = st.recursive(
    leaves,
    lambda inner: st.one_of(
        st.builds(t.Negated, inner),
        st.lists(inner, min_size=2, max_size=3).map(tuple).map(t.AllOf),
        st.lists(inner, min_size=2, max_size=3).map(tuple).map(t.AnyOf),
    ),
    max_leaves=6,
)


@settings(max_examples=200, deadline=None)
@given(rules)
def test_text_to_tree_to_text_is_the_identity(rule: t.Rule) -> None:
    assert parse(rule.text()) == rule
    assert parse(rule.text()).text() == rule.text()
    assert parse(rule.text().replace(" and ", "\n AND  ").replace("at least", "At  Least")) is not None


def holds(rule: t.Rule, p: int, events: list[E]) -> bool:
    """The slow evaluation: one person, one clause at a time."""
    match rule:
        case t.AllOf(parts):
            return all(holds(r, p, events) for r in parts)
        case t.AnyOf(parts):
            return any(holds(r, p, events) for r in parts)
        case t.Negated(part):
            return not holds(part, p, events)
    found, acts = messages_of(p, events)
    acts = [a for a in acts if a[0] <= NOW]
    person = judge(p, events, 60, 90)

    def within(at: int, window: float | None) -> bool:
        return at <= NOW and (window is None or at > NOW - window * DAY)

    def bound(value: float, r: t.Counted) -> bool:
        return value >= r.value if r.side == "least" else value <= r.value

    def acted(r: t.OfMessages, kinds: tuple[Kind, ...], machines: bool) -> int:
        return len(
            {
                a[2]
                for a in acts
                if a[1] in kinds
                and (machines or a[3] != MACHINE)
                and within(a[0], r.days)
                and (r.of is None or a[2] == int(r.of))
            }
        )

    match rule:
        case t.OpenedByAnyone():
            return bound(acted(rule, (Kind.OPENED, Kind.CLICKED), True), rule)
        case t.Clicked():
            return bound(acted(rule, (Kind.CLICKED,), False), rule)
        case t.Opened():
            return bound(acted(rule, (Kind.OPENED, Kind.CLICKED), False), rule)
        case t.Got():
            return bound(
                sum(
                    within(m.first, rule.days)
                    and (m.failed is None or m.failed > NOW)
                    and (rule.of is None or number == int(rule.of))
                    for number, m in found.items()
                ),
                rule,
            )
        case t.Replied():
            return bound(len({a[2] for a in acts if a[1] == Kind.REPLIED and within(a[0], rule.days)}), rule)
        case t.Worth():
            return bound(
                sum(
                    e.value for e in events if e.person == p and e.kind == Kind.BOOKED and within(NOW - e.ago, rule.days)
                ),
                rule,
            )
        case t.Booked():
            return bound(sum(a[1] == Kind.BOOKED and within(a[0], rule.days) for a in acts), rule)
        case t.Unanswered():
            return bound(person.unanswered, rule)
        case t.ScoreIs():
            return bound(person.score, rule)
        case t.Left(name):
            m = found.get(int(name))
            return bool(
                m
                and m.first <= NOW
                and (m.failed is None or m.failed > NOW)
                and not any(a[2] != MACHINE and a[0] <= NOW for a in m.acts)
            )
        case t.NeverAnswered():
            return person.last is None
        case t.NoAnswer(d):
            return person.last is None or person.last <= NOW - d * DAY
        case t.LastAnswer(which, d):
            return person.last is not None and (
                person.last < NOW - d * DAY if which == "more" else person.last > NOW - d * DAY
            )
        case t.Joined(which, d):
            return (d < 900) if which == "more" else (d > 900)
        case t.BandIs(bands):
            return person.band in bands
        case t.InSegment():
            return person.unanswered >= 1
        case t.InList():
            return bool(Known().in_list("")[p])
        case t.FieldIs(_, value):
            return bool(Known().field_is("", value)[p])
        case t.ConsentIs(_, channel, state):
            return state == ("given" if channel == "email" else "none")
        case t.AddressIs(verdicts):
            return bool(Known().address_is(verdicts)[p])
        case t.Suppressed(reason):
            return p == 2 or (p == 3 and reason is None)
        case t.ConsentAge(which, d):
            given_days = {0: 900, 1: 20, 3: 730}.get(p)
            return given_days is not None and (given_days > d if which == "more" else given_days < d)
        case t.ConsentFrom(_, source):
            return p == 1 or (p == 0 and source == "x")
        case t.InFrozen(name, day):
            return bool(Known().frozen(name, day)[p])
        case t.InsideSequence(name, step):
            return bool(Known().inside_sequence(name, step)[p])
        case t.FinishedSequence(_, which, d):
            at = {1: NOW - 40 * DAY, 2: NOW}.get(p)
            edge = NOW - (d or 0) * DAY
            return at is not None and (which is None or (at < edge if which == "more" else at > edge))
        case t.SoftBounced():
            got = [m.first for m in found.values() if m.first <= NOW and (m.failed is None or m.failed > NOW)]
            return bound(sum(who == p and at > max(got, default=-(2**62)) for who, at in SOFT), rule)
        case t.Rejoined():
            return False
    return bool(Known().has_label("")[p])


@settings(max_examples=250, deadline=None)
@given(rules, histories())
def test_columns_equal_the_slow_evaluation(rule: t.Rule, events: list[E]) -> None:
    fast = rule.mask(view_of(events))
    assert fast.tolist() == [holds(rule, p, events) for p in range(PEOPLE)], rule.text()


@settings(max_examples=80, deadline=None)
@given(rules, histories())
def test_the_sieve_adds_up(rule: t.Rule, events: list[E]) -> None:
    view = view_of(events)
    rows = sieve(rule, view)
    total = int(rule.mask(view).sum())
    assert rows[0].left == PEOPLE
    if isinstance(rule, t.AnyOf):
        for i, (row, part) in enumerate(zip(rows[1:], rule.parts, strict=True)):
            others = [r.mask(view) for k, r in enumerate(rule.parts) if k != i]
            assert row.alone == int((part.mask(view) & ~np.any(others, axis=0)).sum())
        return
    assert rows[-1].left == total
    parts = rule.parts if isinstance(rule, t.AllOf) else (rule,)
    for i, row in enumerate(rows[1:]):
        without = view.alive.copy()
        for j, part in enumerate(parts):
            without &= part.mask(view) if i != j else True
        assert row.alone == int(without.sum()) - total, "what comes back when this clause alone is switched off"


@pytest.mark.parametrize(
    ("text", "place", "words"),
    [
        ("", 0, "The rule is empty"),
        ("opened at least", 15, "what would fit: a number"),
        ("foo", 0, "“foo” does not fit here"),
        ("rejoined and never answered or rejoined", 28, "put one side in brackets"),
        ("band is Blue", 8, "Strong, Steady, Fading"),
        ('in lists "a"', 3, "what would fit: list, segment"),
        ("(rejoined", 9, "what would fit: )"),
        ("(" * 51 + "rejoined" + ")" * 51, 0, "nested 50 deep"),
        (" and ".join(["rejoined"] * 10_001), 0, "10,000 clauses"),
    ],
)
def test_mistakes_name_the_place(text: str, place: int, words: str) -> None:
    with pytest.raises(RuleMistake) as caught:
        parse(text)
    assert caught.value.place == place
    assert words in str(caught.value)


def test_limits_are_reached_and_not_passed() -> None:
    assert parse("(" * 50 + "rejoined" + ")" * 50) == t.Rejoined()
    assert len(parse(" or ".join(["rejoined"] * 10_000)).parts) == 10_000  # type: ignore[attr-defined]


def test_windows_are_open_at_their_far_end() -> None:
    at_edge = [
        E(0, Kind.SENT, 121 * DAY),
        E(0, Kind.OPENED, 120 * DAY),
        E(1, Kind.SENT, 121 * DAY),
        E(1, Kind.OPENED, 120 * DAY - 1),
    ]
    assert parse("opened at least 1 in 120 days").mask(view_of(at_edge)).tolist() == [False, True, False, False]
    assert int(view_of([]).columns.rows.first_at.sum()) == 0 and FAR > NOW
