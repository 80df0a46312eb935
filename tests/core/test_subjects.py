"""Subject lines by the workspace's own past: a real difference is shown, chance alone hardly ever."""

from __future__ import annotations

import numpy as np
import pytest

from openmeadow.core.message.subjects import FEW, TRAITS, Mailed, compared


def past(r: np.random.Generator, n: int, effect: float) -> list[Mailed]:
    """Every second one asks; ratios vary by 15% from one mailing to another."""
    return [
        Mailed("Will you come?" if i % 2 else "Come", float(np.exp(r.normal(0, 0.15)) * (effect if i % 2 else 1)))
        for i in range(n)
    ]


def test_a_difference_is_shown_where_there_is_one_and_hardly_ever_else() -> None:
    r = np.random.default_rng(7)
    by_chance = [compared("Why?", past(r, 24, 1.0))[0] for _ in range(2_000)]
    assert sum(c.shown for c in by_chance) / 2_000 < 0.02
    assert np.mean([c.low <= 1 <= c.high for c in by_chance]) > 0.98
    strong = [compared("Why?", past(r, 24, 1.5))[0] for _ in range(200)]
    assert np.mean([c.shown and c.times > 1 for c in strong]) > 0.9
    assert abs(np.mean([c.times for c in strong]) - 1.5) < 0.03


@pytest.mark.parametrize(
    ("subject", "traits"),
    [
        ("Why?", ["a question"]),
        ("9 evenings, {{ first_name }}!", ["a number", "the reader's name", "an exclamation mark"]),
        ("x" * 46, ["more than 45 characters"]),
        ("x" * 45, []),
    ],
)
def test_only_traits_that_a_subject_has_are_compared(subject: str, traits: list[str]) -> None:
    both = [Mailed("Is it 9? {{ first_name }}!" + "x" * 40, 1.1), Mailed("Plain", 1.0)]
    assert [c.trait for c in compared(subject, both * FEW)] == traits
    assert compared(subject, both * (FEW - 1)) == [], "too few to tell"
    assert set(traits) <= set(TRAITS)
