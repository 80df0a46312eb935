"""Expected beside observed: the curve of engagement, intervals that hold, the check against what came, the spam folder."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from openmeadow.core.engagement.bands import Cadence
from openmeadow.core.engagement.expected import Curve, Level, Mailed, forecast, student, usual_level
from openmeadow.core.engagement.placement import Group, dispersion, evidence
from openmeadow.core.engagement.score import Basis
from openmeadow.core.engagement.score_check import Answers, Mailing, answers, auc, check, mailings
from openmeadow.core.events import Kind
from openmeadow.core.moments import DAY
from tests.making import NOW, E, columns

S, O = Kind.SENT, Kind.OPENED


def test_how_engagement_comes_in() -> None:
    told = Curve.of(np.arange(1, 1001) * 60)
    assert told.come(np.array([-5, 0, 30_000, 10**9])) == pytest.approx([0, 0, 0.5, 1], abs=0.01)
    assert told.within(0.5) == pytest.approx(30_000, rel=0.01)
    usual = Curve.of(np.arange(50))
    assert usual.delays is None and float(usual.come(np.array([usual.within(0.5)]))[0]) == pytest.approx(0.5, abs=1e-4)


def test_student_s_quantiles() -> None:
    for freedom, known in ((4, 2.776), (9, 2.262), (19, 2.093), (120, 1.980)):
        assert student(freedom) == pytest.approx(known, abs=0.012)


@pytest.mark.parametrize("spread", [0.0, 0.1, 0.25])
def test_nineteen_of_twenty_campaigns_fall_within(spread: float) -> None:
    """Each with a level of its own about the workspace's; the interval is told from the 20 before it."""
    r = np.random.default_rng(7)
    inside, runs = 0, 500
    for _ in range(runs):
        past = []
        for _ in range(21):
            chance = r.beta(0.8, 1.6, 600)
            true = np.minimum(chance * 0.9 * max(0.05, r.normal(1, spread)), 1)
            past.append(
                Mailed(int((r.random(600) < true).sum()), float(chance.sum()), float((chance * (1 - chance)).sum()))
            )
            last = chance
        told = forecast(last, usual_level(past[:20]))
        inside += told.low <= past[20].observed <= told.high
    assert 0.93 <= inside / runs <= 0.98
    few = usual_level(past[:3])
    assert few == Level(mailings=3) and forecast(np.full(10, 1.0), few).high == 10


@given(st.lists(st.tuples(st.integers(0, 5), st.booleans()), min_size=1, max_size=40))
def test_auc_is_the_share_of_pairs_in_order(found: list[tuple[int, bool]]) -> None:
    value, yes = np.array([v for v, _ in found]), np.array([y for _, y in found])
    pairs = [(a > b) + (a == b) / 2 for a in value[yes] for b in value[~yes]]
    assert auc(value, yes) == (pytest.approx(np.mean(pairs)) if pairs else None)


def test_a_check_does_not_peek() -> None:
    """What came after a mailing began changes what was observed, and never what was expected."""
    people = 40
    before = [e for p in range(people) for w in (9, 5) for e in (E(p, S, w * 7 * DAY, w), E(p, O, w * 7 * DAY - 900, w))]
    mailed = [E(p, S, 7 * DAY - p, 1) for p in range(people)]
    after = [E(p, O, 6 * DAY, 1) for p in range(0, people, 2)]
    late = [E(p, O, 2 * DAY, 9) for p in range(people)]
    basis = Basis(Cadence(7, 90, 3 * DAY))
    found = []
    for events in (before + mailed, before + mailed + after + late):
        c = columns(events, people)
        last = mailings(c, NOW, 3 * DAY)
        assert [(m.message, m.people) for m in last] == [(9, people), (5, people), (1, people)]
        found.append(answers(c, last[-1], NOW, basis))
    assert np.array_equal(found[0].chance, found[1].chance)
    assert (found[0].engaged.sum(), found[1].engaged.sum()) == (0, people // 2)
    told = check([found[1]])
    assert told.people == people and sum(t.people for t in told.tenths) == people
    assert sum(t.observed * t.people for t in told.tenths) == pytest.approx(people / 2)


def test_nothing_to_check() -> None:
    none, no = np.zeros(0, np.int64), np.zeros(0, bool)
    assert check([]).auc is None
    assert check([Answers(Mailing(1, NOW, 0), none, none, none.astype(float), no, no, no, no, none)]).people == 0


def group(r: np.random.Generator, people: int, factor: float) -> Group:
    chance = 0.5 * r.beta(1.0, 1.6, people)
    return Group(chance, r.random(people) < chance * factor)


@pytest.mark.parametrize(("season", "people"), [(1.0, 300), (0.5, 300), (0.5, 2_000)])
def test_the_spam_folder_and_the_low_season_are_told_apart(season: float, people: int) -> None:
    r = np.random.default_rng(5)
    usual, false = Level(1.0, 0.1, 20), 0
    for _ in range(40):
        groups = {0: group(r, people, 0.05 * season), 1: group(r, 900, season), 2: group(r, 500, season)}
        spam = evidence(groups, 0, usual, 0.04)
        assert spam.is_spam and spam.could_show and spam.observed < spam.expected
        groups[0] = group(r, people, season)
        false += evidence(groups, 0, usual, 0.04).is_spam
    assert false <= 2


def test_a_few_people_show_nothing() -> None:
    r = np.random.default_rng(5)
    few = {0: group(r, 4, 0.0), 1: group(r, 900, 1.0)}
    told = evidence(few, 0, Level(1.0, 0.1, 20), 0.04)
    assert not told.could_show and not told.is_spam
    alone = evidence({0: group(r, 400, 0.0)}, 0, Level(1.0, 0.1, 20), 0.04)
    assert alone.others == 1.0, "without others the usual level stands"


def test_the_spread_between_providers() -> None:
    r = np.random.default_rng(1)
    noise = r.uniform(0.001, 0.006, 400)
    for true in (0.0, 0.05, 0.1):
        ratios = r.normal(0, np.sqrt(noise + true**2))
        ratios[:20] = -3.0  # mailings in the spam folder do not hide the next one
        assert dispersion(ratios, noise) == pytest.approx(true, abs=0.03)
    assert dispersion(ratios[:3], noise[:3]) == 0.05
