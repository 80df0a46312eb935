"""Rules: text and tree are one; the fast evaluation equals a slow one per person; mistakes point."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from openmeadow.core.arrays import FAR, I32, I64, NEVER, Mask
from openmeadow.core.engagement.bands import BANDS, Cadence
from openmeadow.core.engagement.bot_detection import MACHINE
from openmeadow.core.engagement.score import Basis, score
from openmeadow.core.errors import RuleMistake
from openmeadow.core.events import Kind
from openmeadow.core.moments import DAY
from openmeadow.core.rules import activity_clauses as a
from openmeadow.core.rules import conditions as t
from openmeadow.core.rules import people_clauses as p
from openmeadow.core.rules.activity_index import Streams
from openmeadow.core.rules.breakdown import breakdown
from openmeadow.core.rules.parser import parse
from openmeadow.core.rules.spans import SIDES, UNITS, Bound, Span
from openmeadow.store.upgrade import rule_in_new_words
from tests.core.slow import Person, judge, messages_of
from tests.making import NOW, PEOPLE, E, columns, histories


@dataclass
class Known:
    """Facts about four people, by hand."""

    def in_list(self, name: str) -> Mask:
        return np.array([True, True, False, False])

    def has_label(self, name: str) -> Mask:
        return np.array([True, False, True, False])

    def field(self, name: str, test: str, *values: str | float) -> Mask:
        return np.array([values[:1] == ("Saltmere",), test == "is empty", test in SIDES, True])

    def message_ids(self, name: str) -> list[int]:
        return [int(name)]

    def segment(self, name: str) -> t.Rule:
        return parse("ignored at least 1 in a row")

    def snapshot(self, name: str, day: str) -> Mask:
        return np.array([day == "2026-03-12", False, True, False])

    permitted = provider_is = source_is = language_is = country_is = has_label

    def in_sequence(self, name: str, step: str | None) -> Mask:
        return np.array([step is None, True, False, step is not None])

    def consent_is(self, purpose: str, channel: str, state: str) -> Mask:
        return np.array([state == ("given" if channel == "email" else "none")] * PEOPLE)

    def address_is(self, verdicts: tuple[str, ...]) -> Mask:
        return np.array(["deliverable" in verdicts, "undeliverable" in verdicts, False, False])

    def suppressed_mask(self, reason: str | None) -> Mask:
        return np.array([False, False, True, reason is None])

    def consent_given_at(self, purpose: str) -> I64:
        return np.array([NOW - 900 * DAY, NOW - 20 * DAY, NEVER, NOW - 730 * DAY])

    def consent_from(self, purpose: str, source: str) -> Mask:
        return np.array([source == "x", True, False, False])

    def finished_sequence(self, name: str) -> I64:
        return np.array([NEVER, NOW - 40 * DAY, NOW, NEVER])

    def soft_failures(self) -> tuple[I32, I64]:
        return np.array([p for p, _ in SOFT], np.int32), np.array([at for _, at in SOFT])


SOFT = [(0, NOW - 50 * DAY), (0, NOW - 20 * DAY), (2, NOW - 300 * DAY)]


def view_of(events: list[E]) -> t.View:
    c = columns(events)
    scores = score(c, NOW, Basis(Cadence(7, 90)))
    return t.View(c, Streams(c), lambda: scores, Known(), np.ones(PEOPLE, bool), NOW)


names = st.text(st.sampled_from('ab "c'), min_size=1, max_size=5)
sides = st.sampled_from(SIDES)
spans = st.builds(Span, st.sampled_from([1.0, 3.0, 30.0, 120.0]), st.sampled_from(list(UNITS)))
windows = st.one_of(st.none(), spans)
bounds = st.builds(Bound, sides, st.sampled_from([1.0, 2.0, 4.0]))
message = st.one_of(st.none(), st.sampled_from([str(i) for i in range(1, 10)]))
ago = st.sampled_from(["more", "less"])
days = st.sampled_from(["2026-03-12", "2025-01-01"])
OF_MESSAGES = (a.Opened, a.OpenedByAnyone, a.Clicked, a.Received, a.Engaged, a.Replied, a.Booked)
NAMED = (p.InList, p.HasLabel, p.Permitted, p.InSegment, p.ProviderIs, p.SourceIs, p.LanguageIs, p.CountryIs)
leaves = st.one_of(
    *(st.builds(k, bounds, windows, message) for k in OF_MESSAGES),
    st.builds(a.BookedWorth, st.builds(Bound, sides, st.sampled_from([30.0, 50.5])), windows),
    st.builds(a.IgnoredInARow, bounds),
    st.builds(a.SoftBounced, bounds),
    st.builds(a.ScoreIs, st.builds(Bound, sides, st.sampled_from([8.0, 40.0]))),
    st.builds(a.LikelyActive, st.builds(Bound, sides, st.sampled_from([90.0, 97.5]))),
    st.builds(a.Ignored, st.sampled_from([str(i) for i in range(1, 10)])),
    st.just(a.NeverEngaged()),
    st.builds(a.NotEngaged, spans),
    st.builds(a.EngagedWithin, spans),
    st.builds(a.LastEngaged, ago, spans),
    st.builds(a.Joined, ago, st.sampled_from([Span(30), Span(1000), Span(2, "year")])),
    st.builds(
        a.BandIs,
        st.lists(st.sampled_from(BANDS), min_size=1, max_size=3, unique=True).map(
            lambda b: tuple(sorted(b, key=BANDS.index))
        ),
    ),
    *(st.builds(k, names) for k in NAMED),
    st.builds(p.InSequence, names, st.one_of(st.none(), names)),
    st.builds(p.FinishedSequence, names),
    st.builds(p.FinishedSequence, names, ago, st.sampled_from([Span(10), Span(1, "month")])),
    st.builds(p.Suppressed, st.sampled_from([None, "inactive"])),
    st.builds(p.ConsentAge, ago, st.sampled_from([Span(30), Span(730)]), names),
    st.builds(p.ConsentFrom, names, st.sampled_from(["x", "fair"])),
    st.builds(p.InSnapshot, names, days),
    st.builds(
        p.AddressIs,
        st.sampled_from([("deliverable",), ("deliverable", "undeliverable"), ("risky", "unknown", "not checked")]),
    ),
    st.builds(p.FieldIs, names, st.sampled_from(["Saltmere", "x"])),
    st.builds(p.FieldIsNot, names, names),
    st.builds(p.FieldContains, names, names),
    st.builds(p.FieldEmpty, names),
    st.builds(p.FieldNumber, names, st.builds(Bound, sides, st.sampled_from([-2.5, 7.0]))),
    st.builds(p.FieldDay, names, st.sampled_from(["before", "after"]), days),
    st.builds(p.FieldOneOf, names, st.lists(names, min_size=1, max_size=3).map(tuple)),
    st.builds(p.FieldFalls, names, spans),
    st.builds(p.ConsentIs, names, st.sampled_from([None, "email", "post"]), st.sampled_from(["given", "none"])),
    st.just(a.Rejoined()),
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


@given(rules)
def test_text_to_tree_to_text_is_the_identity(rule: t.Rule) -> None:
    assert parse(rule.text()) == rule
    assert parse(rule.text()).text() == rule.text()
    assert parse(rule.text().replace(" and ", "\n AND  ").replace("at least", "At  Least")) is not None
    text = f"not ( {rule.text()}) or rejoined"
    for clause in clauses_of(parse(text)):
        assert text.startswith(clause.text(), clause.place)


def clauses_of(rule: t.Rule) -> list[t.Rule]:
    below = list(rule.parts_below())
    return [c for part in below for c in clauses_of(part)] if below else [rule]


def holds(rule: t.Rule, i: int, events: list[E]) -> bool:
    """The slow evaluation: one person, one clause at a time."""
    match rule:
        case t.AllOf(parts):
            return all(holds(r, i, events) for r in parts)
        case t.AnyOf(parts):
            return any(holds(r, i, events) for r in parts)
        case t.Negated(part):
            return not holds(part, i, events)
    found, acts = messages_of(i, events)
    acts = [act for act in acts if act[0] <= NOW]
    person = judge(i, events, 90, 3 * DAY)

    def within(at: int, window: Span | None) -> bool:
        return at <= NOW and (window is None or at > NOW - window.seconds)

    def meets(value: float, r: t.Counted) -> bool:
        b = r.bound.value
        return {"at least": value >= b, "at most": value <= b, "more than": value > b, "fewer than": value < b}[
            r.bound.side
        ]

    def chosen(r: t.OfMessages, kinds: tuple[Kind, ...], machines: bool = False) -> list[tuple[int, Kind, int, int]]:
        return [
            act
            for act in acts
            if act[1] in kinds
            and (machines or act[3] != MACHINE)
            and within(act[0], r.window)
            and (r.of is None or act[2] == int(r.of))
        ]

    def messages(r: t.OfMessages, kinds: tuple[Kind, ...], machines: bool = False) -> int:
        found = chosen(r, kinds, machines)
        return len({act[2] for act in found if act[2]}) + sum(not act[2] for act in found)

    looked = (Kind.OPENED, Kind.CLICKED)
    match rule:
        case a.OpenedByAnyone():
            return meets(messages(rule, looked, True), rule)
        case a.Clicked():
            return meets(messages(rule, (Kind.CLICKED,)), rule)
        case a.Opened():
            return meets(messages(rule, looked), rule)
        case a.Replied():
            return meets(messages(rule, (Kind.REPLIED,)), rule)
        case a.Engaged():
            return meets(messages(rule, (*looked, Kind.REPLIED, Kind.BOOKED)), rule)
        case a.Received():
            got = (
                within(m.first, rule.window)
                and (m.failed is None or m.failed > NOW)
                and (rule.of is None or number == int(rule.of))
                for number, m in found.items()
            )
            return meets(sum(got), rule)
        case a.BookedWorth():
            mine = (e for e in events if e.person == i and e.kind == Kind.BOOKED)
            return meets(sum(e.value for e in mine if within(NOW - e.ago, rule.window)), rule)
        case a.Booked():
            return meets(len(chosen(rule, (Kind.BOOKED,))), rule)
        case a.IgnoredInARow():
            return meets(person.ignored, rule)
        case a.ScoreIs():
            return meets(person.score, rule)
        case a.LikelyActive():
            return meets(100 * person.active, rule)
        case a.Ignored(name):
            m = found.get(int(name))
            return bool(
                m
                and m.first <= NOW
                and (m.failed is None or m.failed > NOW)
                and not any(act[2] != MACHINE and act[0] <= NOW for act in m.acts)
            )
        case a.NeverEngaged():
            return person.last is None
        case a.NotEngaged(span):
            return person.last is None or person.last <= NOW - span.seconds
        case a.EngagedWithin(span):
            joined = NOW - 900 * DAY
            return any(act[3] != MACHINE and 0 <= act[0] - joined <= span.seconds for act in acts)
        case a.LastEngaged(side, span):
            edge = NOW - span.seconds
            return person.last is not None and (person.last < edge if side == "more" else person.last > edge)
        case a.Joined(side, span):
            return (span.days < 900) if side == "more" else (span.days > 900)
        case a.BandIs(bands):
            return person.band in bands
        case a.SoftBounced():
            got = [m.first for m in found.values() if m.first <= NOW and (m.failed is None or m.failed > NOW)]
            return meets(sum(who == i and at > max(got, default=-(2**62)) for who, at in SOFT), rule)
        case a.Rejoined():
            return False
    return holds_of_facts(rule, i, person)


def holds_of_facts(rule: t.Rule, i: int, person: Person) -> bool:
    """The same for clauses that ask the facts."""
    known = Known()
    match rule:
        case p.InSegment():
            return person.ignored >= 1
        case p.InList():
            return bool(known.in_list("")[i])
        case p.Field(name):
            return bool(known.field(name, *rule.test())[i])
        case p.ConsentIs(_, channel, state):
            return state == ("given" if channel in (None, "email") else "none")
        case p.AddressIs(states):
            return bool(known.address_is(states)[i])
        case p.Suppressed(reason):
            return i == 2 or (i == 3 and reason is None)
        case p.ConsentAge(side, span):
            given_days = {0: 900, 1: 20, 3: 730}.get(i)
            return given_days is not None and (given_days > span.days if side == "more" else given_days < span.days)
        case p.ConsentFrom(_, source):
            return i == 1 or (i == 0 and source == "x")
        case p.InSnapshot(name, day):
            return bool(known.snapshot(name, day)[i])
        case p.InSequence(name, step):
            return bool(known.in_sequence(name, step)[i])
        case p.FinishedSequence(_, side, span):
            at = {1: NOW - 40 * DAY, 2: NOW}.get(i)
            edge = NOW - (span.seconds if span else 0)
            return at is not None and (side is None or (at < edge if side == "more" else at > edge))
    return bool(known.has_label("")[i])


@given(rules, histories())
def test_columns_equal_the_slow_evaluation(rule: t.Rule, events: list[E]) -> None:
    fast = rule.mask(view_of(events))
    assert fast.tolist() == [holds(rule, i, events) for i in range(PEOPLE)], rule.text()


@given(rules, histories())
def test_the_sieve_adds_up(rule: t.Rule, events: list[E]) -> None:
    view = view_of(events)
    rows = breakdown(rule, view)
    total = int(rule.mask(view).sum())
    assert rows[0].remaining == PEOPLE
    if isinstance(rule, t.AnyOf):
        for i, (row, part) in enumerate(zip(rows[1:], rule.parts, strict=True)):
            others = [r.mask(view) for k, r in enumerate(rule.parts) if k != i]
            assert row.alone == int((part.mask(view) & ~np.any(others, axis=0)).sum())
        return
    assert rows[-1].remaining == total
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
        ("opened at least", 15, "What fits next: a number"),
        ("foo", 0, "“foo” does not fit here. What fits: a condition, such as opened at least 1 in 90 days"),
        ("openned at least 1", 0, "Did you mean “opened”?"),
        ("rejoined and never engaged or rejoined", 27, "Put brackets around one side"),
        ("band is Blue", 8, "Strong, Steady, Fading, Inactive, Unproven or Masked"),
        ("band is Silent", 8, "“Silent” does not fit here"),
        ('in lists "a"', 3, "What fits: list, segment or sequence"),
        ("opened at least 1 in 3 moons", 23, "days, weeks, months or years"),
        ('consent to "P" is awaiting', 18, "given, withdrawn, pending or none"),
        ("(rejoined", 9, "What fits next: )"),
        ("score at least 101", 0, "can never be true; the figure is at least 0 and at most 100"),
        ("score more than 100", 0, "can never be true"),
        ("opened fewer than 0", 0, "can never be true"),
        ("(" * 51 + "rejoined" + ")" * 51, 0, "nested 50 deep"),
        (" and ".join(["rejoined"] * 10_001), 0, "10,000 conditions"),
    ],
)
def test_mistakes_name_the_place(text: str, place: int, words: str) -> None:
    with pytest.raises(RuleMistake) as caught:
        parse(text)
    assert caught.value.place == place
    assert words in str(caught.value)


def test_limits_are_reached_and_not_passed() -> None:
    assert parse("(" * 50 + "rejoined" + ")" * 50) == a.Rejoined()
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


@pytest.mark.parametrize(
    ("text", "written"),
    [
        ('NOT in list "A" AND  not engaged in 90 DAYS', 'not (in list "A") and not engaged in 90 days'),
        ('opened fewer than 3 of "a""b" in 3 months', 'opened fewer than 3 of "a""b" in 3 months'),
        ("not engaged at least 1 in 1 year", "not (engaged at least 1 in 1 year)"),
        ("engaged within 2 weeks of joining", "engaged within 2 weeks of joining"),
        ("band is Steady or strong or Steady", "band is Strong or Steady"),
        ("address is not  checked or deliverable", "address is deliverable or not checked"),
        ('field "a" is not "b" or field "a" is at least -2.50', 'field "a" is not "b" or field "a" is at least -2.5'),
        ('field "a" is one of("x" ,"y")', 'field "a" is one of ("x", "y")'),
        ('field "born" falls within 1 week', 'field "born" falls within 1 week'),
        ('consent to "P" is none or consent to "P" by post is given', None),
        ('suppressed for "inactive" or in sequence "S" at "at least one"', None),
    ],
)
def test_rules_are_written_back_in_one_way(text: str, written: str | None) -> None:
    assert parse(text).text() == (written or text)
    assert parse(parse(text).text()) == parse(text)


@pytest.mark.parametrize(
    ("before", "now"),
    [
        ("unanswered at least 3 and never answered", "ignored at least 3 in a row and never engaged"),
        ('left "unanswered at least 3" unanswered', 'ignored "unanswered at least 3"'),
        ('got at most 2 of "got at" in 30 days', 'received at most 2 of "got at" in 30 days'),
        (
            "last answer more than 9 days ago or no answer in 9 days",
            "last engaged more than 9 days ago or not engaged in 9 days",
        ),
        ("not (no answer in 9 days)", "not (not engaged in 9 days)"),
        ("band is Silent or Veiled or Strong", "band is Inactive or Masked or Strong"),
        ("address is bad or unknown", "address is undeliverable or unknown or not checked"),
        ('came by "A" and in list "came by"', 'source is "A" and in list "came by"'),
        ('consent to "P" came from "let go"', 'consent to "P" from source "let go"'),
        ('consent to "P" by email is awaiting', 'consent to "P" by email is pending'),
        ('inside sequence "S" at "x" or suppressed for "let go"', 'in sequence "S" at "x" or suppressed for "inactive"'),
    ],
)
def test_rules_of_the_version_before_are_rewritten(before: str, now: str) -> None:
    assert rule_in_new_words(before) == now
    assert parse(now).text()
