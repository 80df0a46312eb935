"""The chance to engage: the closed form against its terms and against the process itself, monotone, and its fit."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from openmeadow.core.arrays import I32, NEVER
from openmeadow.core.columns import Acts, Columns, People, Rows, starts
from openmeadow.core.engagement.bands import Cadence
from openmeadow.core.engagement.chance import AS_IT_IS, MOST, ChanceModel, lattice, log_likelihood, place, with_one_more
from openmeadow.core.engagement.chance_fit import DEFAULT, fit, fit_source
from openmeadow.core.engagement.chance_models import ChanceModels
from openmeadow.core.engagement.fitting import fit_all
from openmeadow.core.engagement.score import Basis, score
from openmeadow.core.moments import DAY
from tests.core.slow import chance
from tests.making import NOW

positive = st.floats(0.05, 30.0)
parameters = st.tuples(positive, positive, positive, st.floats(0.2, 400.0))
histories = st.integers(0, MOST).flatmap(
    lambda n: st.integers(0, n).flatmap(lambda t: st.tuples(st.integers(min(1, t), t), st.just(t), st.just(n)))
)


def one(value: int) -> I32:
    return np.array([value], np.int32)


@given(histories, parameters)
def test_the_closed_form_equals_its_terms(h: tuple[int, int, int], of: tuple[float, float, float, float]) -> None:
    model = ChanceModel(*of)
    active, likely = chance(*h, of)
    got = [one(k) for k in h]
    assert float(model.active(*got)[0]) == pytest.approx(active, rel=1e-8)
    assert float(model.chance(*got)[0]) == pytest.approx(likely, rel=1e-8)
    assert 0 < likely <= active <= 1


def test_a_place_for_every_history() -> None:
    x, t, n = lattice()
    assert np.array_equal(place(x, t, n), np.arange(len(x))) and int(n.max()) == MOST


@given(parameters)
def test_all_histories_of_some_messages_are_one_certainty(of: tuple[float, float, float, float]) -> None:
    """A likelihood is of one row of answers; those of all 2^n rows sum to 1."""
    rows = (np.arange(2**9)[:, None] >> np.arange(9)) & 1
    x, t = rows.sum(1), (rows * np.arange(1, 10)).max(1)
    each = log_likelihood(of, x.astype(np.int32), t.astype(np.int32), np.full(len(x), 9, np.int32))
    assert np.exp(each).sum() == pytest.approx(1.0)


@given(histories, parameters, st.booleans())
def test_an_engagement_never_lowers_it_and_an_ignored_message_never_raises_it(
    h: tuple[int, int, int], of: tuple[float, float, float, float], oldest: bool
) -> None:
    model, (x, t, n) = ChanceModel(*of), h
    oldest = x > 0 and (x == t or (oldest and x > 1))  # as it can be
    after = [with_one_more(x, t, n, engaged=e, oldest_engaged=oldest) for e in (False, True)]
    ignored, before, engaged = (float(model.chance(*(one(k) for k in state))[0]) for state in (after[0], h, after[1]))
    slack = 1e-9 if n < MOST else 0.005  # where the oldest message drops out, that may weigh a little more
    assert ignored <= before + slack
    assert engaged >= before - slack or (n == MOST and oldest)


def simulated(of: tuple[float, float, float, float], people: int, most: int, seed: int = 3) -> tuple[I32, I32, I32, I32]:
    """(x, t, n) of people who were sent up to ``most`` messages, and whether they engage with the next one."""
    r = np.random.default_rng(seed)
    p, leaves = r.beta(of[0], of[1], people), r.beta(of[2], of[3], people)
    n = r.integers(1, most + 1, people)
    there = np.ones(people, bool)
    x, t, nxt = (np.zeros(people, np.int32) for _ in range(3))
    for i in range(1, most + 2):
        there &= r.random(people) >= leaves
        engages = there & (r.random(people) < p)
        seen = engages & (i <= n)
        x[seen] += 1
        t[seen] = i
        nxt[(i == n + 1) & engages] = 1
    return x, t, n.astype(np.int32), nxt


@pytest.mark.parametrize("of", [(0.6, 1.2, 1.0, 40.0), (1.5, 3.0, 0.5, 12.0), (0.4, 0.7, 2.0, 60.0)])
def test_the_process_itself(of: tuple[float, float, float, float]) -> None:
    """Planted parameters are found, and of people with a chance so many engage."""
    x, t, n, nxt = simulated(of, 60_000, 40)
    model = fit(x, t, n)
    assert model.people == 60_000 and model.messages == int(n.sum())
    assert model.parameters[:2] == pytest.approx(of[:2], rel=0.05)
    assert model.gamma / (model.gamma + model.delta) == pytest.approx(of[2] / (of[2] + of[3]), rel=0.1)
    likely = ChanceModel(*of).chance(x, t, n)
    for part in np.array_split(np.argsort(likely), 10):
        assert likely[part].mean() == pytest.approx(nxt[part].mean(), abs=0.02)


def test_too_little_history_leaves_the_defaults() -> None:
    x, t, n, _ = simulated((0.6, 1.2, 1.0, 40.0), 199, 40)
    assert fit(x, t, n) == DEFAULT and not DEFAULT.is_own
    whole = fit(*simulated((0.6, 1.2, 1.0, 40.0), 5_000, 20)[:3])
    assert fit_source(whole, x, t, n) is None
    keen = fit_source(whole, *simulated((3.0, 1.0, 1.0, 40.0), 1_000, 20)[:3])
    assert keen is not None and keen.alpha / keen.beta > whole.alpha / whole.beta
    assert (keen.gamma, keen.delta) == (whole.gamma, whole.delta)


def history_of(people: int, gap: int, source: I32, fading: float = 0.0) -> Columns:
    """Weekly messages, all settled; people of source 1 engage with most of them, others with few. Everybody's rate
    fades by a share each week."""
    r = np.random.default_rng(1)
    weeks = 30
    person = np.repeat(np.arange(people, dtype=np.int32), weeks)
    week = np.tile(np.arange(weeks), people)
    first = NOW - (weeks - week) * gap * DAY
    rate = np.where(source == 1, r.beta(5, 2, people), r.beta(1, 5, people))
    far = np.full(len(person), 2**62, np.int64)
    engaged = r.random(len(person)) < rate[person] * (1 - fading) ** week
    opened = np.where(engaged, first + 3600, far)
    rows = Rows(person, (week + 1).astype(np.int32), first, far, opened, far, far, far)
    everybody = People(np.arange(1, people + 1), np.full(people, NOW - 900 * DAY), np.full(people, NEVER), source)
    none = np.zeros(0, np.int64)
    acts = Acts(none, none.astype(np.int32), none.astype(np.int32), *(none.astype(np.int8),) * 3, none.astype(float))  # type: ignore[arg-type]
    return Columns(everybody, rows, acts, starts(person, people))


def test_chances_are_moved_to_what_the_last_mailings_showed() -> None:
    """Where everybody engages less from week to week; where nothing changes they stand as they are."""
    who = np.full(3_000, 2, np.int32)
    who[:1_000] = 1
    pace, one_more = Cadence(7, 90, 3 * DAY), 0.94**30
    for fading, true in ((0.0, 1.0), (0.06, one_more)):
        c = history_of(len(who), 7, who, fading)
        models = fit_all(c, NOW, np.ones(len(who), bool), pace)
        assert (models.reading.adjustment != AS_IT_IS) == (fading > 0)
        rate = np.where(who == 1, 5 / 7, 1 / 6) * true
        chance = score(c, NOW, Basis(pace, models)).chance
        for kind in (1, 2):
            assert chance[who == kind].mean() == pytest.approx(rate[who == kind].mean(), abs=0.03), (fading, kind)


def test_a_source_is_judged_by_its_own_people() -> None:
    source = np.repeat(np.array([1, 2, 3], np.int32), (600, 2_000, 100))
    c = history_of(len(source), 7, source)
    models = fit_all(c, NOW, np.ones(len(source), bool), Cadence(7, 90, 3 * DAY))
    assert sorted(models.sources) == [1, 2], "the third has too few people"
    newcomer = [float(models.model_of(s, hidden=False).chance(one(0), one(0), one(0))[0]) for s in (1, 2, 3)]
    assert (
        newcomer[0] > 0.55
        and newcomer[1] < 0.25
        and newcomer[2] == pytest.approx(float(models.reading.chance(one(0), one(0), one(0))[0]))
    )
    assert ChanceModels().reading == DEFAULT
