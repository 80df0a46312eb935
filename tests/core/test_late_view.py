"""People with news beside everybody else: every answer is that of columns in which all stand together; and every rule about
what people did finds the same ones as when it was last looked at."""

from __future__ import annotations

from dataclasses import dataclass, fields, replace

import numpy as np
import pytest

from openmeadow.core.arrays import I64, Mask
from openmeadow.core.columns import Columns, Trouble, build
from openmeadow.core.engagement.bands import cadence
from openmeadow.core.engagement.score import Basis, score
from openmeadow.core.engagement.subset import subset
from openmeadow.core.moments import DAY
from openmeadow.core.rules.activity_index import Streams
from openmeadow.core.rules.breakdown import breakdown
from openmeadow.core.rules.conditions import Facts, Rule, View
from openmeadow.core.rules.late_view import FactsOf, Late, LateView, MergedColumns, later, with_people
from openmeadow.core.rules.parser import parse
from tests.core.test_kept import Lines, in_lines, kept
from tests.core.test_kept_figures import EVERYBODY, TOLD, TROUBLES
from tests.core.test_kept_sql import BOUNDS, rules
from tests.making import LINKS, NOW, raw

BEGIN, THEN = NOW - 40 * DAY, NOW - 20 * DAY
NEWS = [e for e in TOLD if NOW - e.ago <= BEGIN or e.person % 3 == 0]  # of the last weeks every third person has any
COLUMNS = build(EVERYBODY, raw(NEWS), LINKS.repeat(10))
SOFT = TROUBLES.what == Trouble.SOFT
COUNTED = [
    r for r in rules() if not any(word in r for word in ("consent", "sequence", "segment", "label", "list", "field"))
]
COUNTED = [r for r in COUNTED if not any(word in r for word in ("address", "language", "country", "source", "provider"))]
COUNTED = [r for r in COUNTED if "permitted" not in r and "suppressed" not in r]
COUNTED += [f'{what} {bound} of "3"' for what in ("opened", "received", "clicked") for bound in BOUNDS]
COUNTED += ["engaged within 400 days of joining", "engaged within 1 year of joining", "not engaged in 100 days"]


@dataclass
class Few:
    """The facts that rules about acts ask for."""

    def message_ids(self, name: str) -> list[int]:
        return [int(name)] if name.isdigit() else [5, 6]

    def segment(self, name: str) -> Rule:
        return parse(name)

    def soft_failures(self) -> tuple[np.ndarray, I64]:
        return TROUBLES.person[SOFT], TROUBLES.at[SOFT]


BASIS = Basis(cadence(COLUMNS, NOW))


def seen(columns: Columns, facts: Facts, now: int = NOW) -> View:
    alive = np.arange(len(columns.people)) % 40 != 39
    return View(columns, Streams(columns), lambda: score(columns, now, BASIS), facts, alive, now)


def known_before(moment: int) -> Columns:
    return build(EVERYBODY, raw([e for e in NEWS if NOW - e.ago <= moment]), LINKS.repeat(10))


def touched(first: int, last: int) -> I64:
    return np.unique(np.array([e.person for e in NEWS if first < NOW - e.ago <= last], np.int64))


def late() -> LateView:
    """What was known 40 days ago, with the news of two later looks beside it."""
    base, first = known_before(BEGIN), touched(BEGIN, THEN)[::2]
    news = later(None, subset(known_before(THEN), first), first, 1)
    second = touched(BEGIN, NOW)
    news = later(news, subset(COLUMNS, second), second, 2)
    older = Late(second[:9], subset(known_before(THEN), second[:9]), news.streams, 1)
    third = later(older, subset(COLUMNS, second[5:]), second[5:], 3)
    assert (third.seen, third.at.tolist()) == (3, second.tolist()) and news.seen == 2
    few = third.columns.people.id.tolist()
    assert few == (second + 1).tolist() and len(third.columns.start) == len(few) + 1
    everybody, facts = seen(base, Few()), FactsOf(Few(), second)  # type: ignore[arg-type]
    small = replace(seen(news.columns, facts), alive=everybody.alive[second])  # type: ignore[arg-type]
    merged = MergedColumns(EVERYBODY, lambda: COLUMNS)
    alive = everybody.alive
    view = LateView(
        merged, Streams(merged), WHOLE.scored, everybody.facts, alive, NOW, base=everybody, small=small, at=second
    )
    assert 20 < len(second) < len(EVERYBODY)
    return view


WHOLE = seen(COLUMNS, Few())  # type: ignore[arg-type]
LATE = late()


def matches(view: View, rule: Rule) -> Mask:
    """Who matches, of those who exist."""
    return view.mask(rule) & view.alive


@pytest.mark.parametrize("text", COUNTED)
def test_a_rule_finds_the_same_people_beside_the_news(text: str) -> None:
    rule = parse(text)
    assert matches(LATE, rule).tolist() == matches(WHOLE, rule).tolist()


def test_what_is_asked_of_one_message_or_person_is_the_same() -> None:
    for message in (3, 44, 49, 50):
        for name in ("rows_of", "acts_of"):
            a, b = getattr(LATE, name)(message), getattr(WHOLE, name)(message)
            assert len(a.person) and all(np.array_equal(getattr(a, f.name), getattr(b, f.name)) for f in fields(a))
    assert (LATE.last_engaged == WHOLE.last_engaged).all()
    for person in range(len(EVERYBODY)):
        columns, place = LATE.of_person(person)
        mine, there = columns.rows.person == place, COLUMNS.rows.person == person
        assert columns.rows.first_at[mine].tolist() == COLUMNS.rows.first_at[there].tolist()
    rows = [p.everybodys(p.columns.rows.person[p.counts(p.columns.rows.person)]) for p in LATE.parts()]
    assert np.array_equal(np.sort(np.concatenate(rows)), COLUMNS.rows.person)
    assert (LATE.columns.start == COLUMNS.start).all() and len(LATE.columns.acts) == len(COLUMNS.acts)
    twice = {f.name: np.tile(getattr(EVERYBODY, f.name), 2) for f in fields(EVERYBODY)}
    start, before = with_people(COLUMNS, replace(EVERYBODY, **twice)).start, len(COLUMNS.start)
    assert start[:before].tolist() == COLUMNS.start.tolist()
    assert set(start[before:].tolist()) == {len(COLUMNS.rows)} and len(start) == 2 * len(EVERYBODY) + 1


def test_streams_with_news_spliced_in_are_those_arranged_anew() -> None:
    before, at = known_before(BEGIN), touched(BEGIN, NOW)
    old, fresh = Streams(before), Streams(COLUMNS)
    for name in Streams.NAMES:
        old.stream(name)
    found = old.spliced(COLUMNS, at)
    for name in Streams.NAMES:
        a, b = found.stream(name), fresh.stream(name)
        assert all(np.array_equal(getattr(a, f.name), getattr(b, f.name)) for f in fields(a)), name


def counted() -> Lines:
    for text in COUNTED:
        mask = matches(WHOLE, parse(text))
        yield text, int(mask.sum()), int((np.flatnonzero(mask) * 7 % 1009).sum())
    for text in ("opened at least 2 in 90 days and not (clicked at least 1)", "rejoined or never engaged"):
        yield [(r.text, r.remaining, r.alone) for r in breakdown(parse(text), WHOLE)]


def test_every_rule_about_acts_finds_whom_it_found() -> None:
    kept("who_matches", in_lines(counted()))
