"""Lots, batches, variants, intervals, lift, the gate."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from openmeadow.core.delivery.batches import BatchPlan, assign, variants
from openmeadow.core.delivery.randomise import draw
from openmeadow.core.delivery.uplift import VariantCount, in_words, lift
from openmeadow.core.statistics import newcombe, wilson


@given(
    st.integers(0, 400),
    st.floats(0, 0.5),
    st.integers(1, 12),
    st.sampled_from(["most engaged first", "at random"]),
    st.integers(0, 2**48),
)
def test_everybody_has_one_batch(people: int, share: float, batches: int, order: str, seed: int) -> None:
    who = np.arange(1, people + 1) * 7
    band = (who % 6).astype(np.int8)
    score = (who % 101).astype(np.float64)
    plan = BatchPlan(seed, 1000, share, batches, 600, order)
    batch = assign(plan, who, band, score)
    assert len(batch) == people and (batch >= 0).all() and (batch <= batches).all()
    for b in range(6):
        assert int(((batch == 0) & (band == b)).sum()) == (round(share * int((band == b).sum())) if share else 0)
    sizes = np.bincount(batch[batch > 0], minlength=batches + 1)[1:]
    assert sizes.max(initial=0) - sizes.min() <= 1, "the others are of one size"
    if order == "most engaged first":
        for i in range(1, batches):
            here, after = score[batch == i], score[batch == i + 1]
            assert not len(here) or not len(after) or here.min() >= after.max()
    again = np.random.default_rng(seed % 1000).permutation(people)
    assert (assign(plan, who[again], band[again], score[again])[np.argsort(again)] == batch).all()


@given(st.integers(0, 2**40), st.floats(0, 0.5), st.integers(1, 4))
def test_arms_are_even_and_held_back_as_said(seed: int, held: float, names: int) -> None:
    variant = variants(seed, np.arange(1, 301), held, names)
    assert int((variant == -1).sum()) == round(held * 300)
    sizes = np.bincount(variant[variant >= 0], minlength=names)
    assert len(sizes) == names and sizes.max() - sizes.min() <= 1


def test_the_lot_is_fair_and_the_same_everywhere() -> None:
    who = np.arange(1, 20_001)
    lot = draw(42, who)
    assert abs(lot.mean() - 0.5) < 0.01 and lot.min() >= 0 and lot.max() < 1
    assert abs(np.corrcoef(lot, draw(43, who))[0, 1]) < 0.03
    assert abs(np.corrcoef(lot, draw(42, who, 1))[0, 1]) < 0.03
    assert draw(42, np.array([1, 2, 3])).tolist() == pytest.approx([0.6977363416, 0.4160553602, 0.2300749250])
    assert draw(42, who[5:6])[0] == lot[5], "a person's lot does not hang on who else is drawn"


@pytest.mark.parametrize(
    ("k1", "n1", "k2", "n2", "low", "high"),
    [  # Newcombe 1998, table II, method 10
        (56, 70, 48, 80, 0.0524, 0.3339),
        (9, 10, 3, 10, 0.1705, 0.8090),
        (10, 10, 0, 20, 0.6791, 1.0),
        (5, 56, 0, 29, -0.0381, 0.1926),
        (0, 10, 0, 20, -0.1611, 0.2775),
    ],
)
def test_newcombe_as_published(k1: int, n1: int, k2: int, n2: int, low: float, high: float) -> None:
    found = newcombe(k1, n1, k2, n2)
    assert (found.low, found.high) == (pytest.approx(low, abs=6e-5), pytest.approx(high, abs=6e-5))


def test_wilson_without_anybody_says_nothing() -> None:
    assert wilson(0, 0) == (0, 0, 1)
    assert wilson(81, 263).low == pytest.approx(0.2553, abs=5e-5)  # Newcombe 1998, one-sample example


@pytest.mark.parametrize(
    ("answered", "holdout_people", "held", "begins"),
    [
        (160, 100, 2, "Yes. 140 additional people engaged"),
        (22, 100, 2, "Not significant."),
        (0, 100, 20, "Negative effect."),
        (160, 0, 0, "There was no holdout group"),
    ],
)
def test_the_verdict_in_words(answered: int, holdout_people: int, held: int, begins: str) -> None:
    back = VariantCount("Holdout", holdout_people, held)
    text = in_words([lift(VariantCount("Same subject", 1000, answered, 3), back)], back)
    assert text.startswith(begins)
    assert text.endswith("3 people unsubscribed and no one complained after the resend.")
