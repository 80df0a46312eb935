"""When people answer: the best three hours with how sure that is, and one person's own hour where enough is known."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from openmeadow.core.delivery.hours import ENOUGH, ENOUGH_OF_ONE, WINDOW, best, own_hours
from openmeadow.core.delivery.time_zones import NO_HOUR


def counts(**at: int) -> np.ndarray:
    out = np.zeros(24, np.int64)
    for hour, n in at.items():
        out[int(hour[1:])] = n
    return out


@pytest.mark.parametrize(
    ("answers", "begin", "sure"),
    [
        (counts(h9=10, h10=500, h11=20), 9, True),
        (counts(h23=300, h0=300, h1=300), 23, True),  # round midnight
        (counts(h8=110, h20=100), 7, False),  # two hours that chance cannot tell apart
        (counts(h8=1080, h20=1000), 7, False),  # apart only if an answer could fall into both
        (counts(h8=11_000, h20=10_000), 7, True),  # the same ratio, and enough to tell
    ],
)
def test_the_best_hours_and_whether_chance_can_make_them(answers: np.ndarray, begin: int, sure: bool) -> None:
    found = best(answers)
    assert found is not None and (found.begin, found.sure) == (begin, sure)
    together = sum(int(answers[(begin + i) % 24]) for i in range(WINDOW))
    assert found.share.point == pytest.approx(together / answers.sum())
    assert found.share.low < found.share.point < found.share.high or together == answers.sum()


def test_too_few_answers_say_nothing() -> None:
    assert best(counts(h9=ENOUGH - 1)) is None
    assert best(counts(h9=ENOUGH)) is not None


@given(st.lists(st.integers(0, 400), min_size=24, max_size=24), st.integers(0, 23))
def test_best_hours_are_the_most_and_turn_with_the_clock(answers: list[int], turn: int) -> None:
    """No three hours hold more; and what holds by one clock holds by another that is some hours ahead."""
    told = np.array(answers, np.int64)
    found = best(told)
    if found is None:
        assert told.sum() < ENOUGH
        return
    sums = [sum(int(told[(h + i) % 24]) for i in range(WINDOW)) for h in range(24)]
    assert sums[found.begin] == max(sums)
    other = best(np.roll(told, turn))
    assert other is not None and other.sure == found.sure
    assert other.share.point == pytest.approx(found.share.point)


@given(st.lists(st.tuples(st.integers(0, 4), st.integers(0, 23)), max_size=120))
def test_one_s_own_hour_needs_enough_and_lies_amid_their_answers(acts: list[tuple[int, int]]) -> None:
    person = np.array([p for p, _ in acts], np.int64)
    hour = np.array([h for _, h in acts], np.int64)
    own = own_hours(person, hour, 5)
    for p in range(5):
        mine = hour[person == p]
        if len(mine) < ENOUGH_OF_ONE:
            assert own[p] == NO_HOUR
            continue
        around = [sum((mine == (h + i) % 24).sum() for i in (-1, 0, 1)) for h in range(24)]
        assert around[own[p]] == max(around), "no hour has more answers within an hour of it"
        same = [h for h in range(24) if around[h] == max(around)]
        assert (mine == own[p]).sum() == max((mine == h).sum() for h in same), "of equals the fullest itself"
