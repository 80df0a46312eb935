"""The permission gate, over every combination of where somebody may stand, against the rules read out one by one."""

from itertools import product

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from openmeadow.core.consent.eligibility import (
    GIVEN,
    KINDS,
    MOST_A_DAY,
    MOST_IN_7_DAYS,
    NONE,
    PENDING,
    SUPPRESSION_REASONS,
    WITHDRAWN,
    Standing,
    ask,
    next_allowed,
)
from openmeadow.core.moments import DAY

HARD, COMPLAINT, LEFT, SUPPRESSED_INACTIVE, BAD, OTHER = range(1, 1 + len(SUPPRESSION_REASONS))
YES_NO = (False, True)
COUNTS = ((0, 0), (1, 1), (0, 2), (0, 3))  # sent in the last day and in the last 7 days
WAYS = (YES_NO, range(7), (NONE, GIVEN, WITHDRAWN, PENDING), YES_NO, YES_NO, COUNTS, YES_NO, YES_NO, YES_NO, YES_NO)
EVERY = list(product(*WAYS))
BULK = ("campaign", "sequence")


def reasons(kind: str, way: tuple) -> list[str]:  # type: ignore[type-arg]
    """The rules, one sentence a line."""
    erased, suppressed, consent, paused, inside, (day, week), filled, related, asked, unchecked = way
    out = []
    if erased:
        out.append("erased")
    if kind == "service":
        out += ["hard bounced"] if suppressed in (HARD, BAD) else []
        return out + ([] if related else ["no contract or booking"])
    if suppressed and not (kind == "confirmation" and suppressed in (COMPLAINT, LEFT, SUPPRESSED_INACTIVE)):
        out.append("suppressed")
    if consent == WITHDRAWN:
        out.append("consent withdrawn")
    if consent == NONE and kind != "consent request":
        out.append("no consent")
    if consent == PENDING and kind != "confirmation":
        out.append("confirmation pending")
    if kind == "consent request":
        out += [] if related else ["no existing relationship"]
        out += ["already asked for consent"] if asked else []
    if kind != "confirmation":
        out += ["paused by the subscriber"] if paused else []
        out += ["address not checked"] if unchecked else []
    if kind == "campaign" and inside:
        out.append("active in a sequence")
    if kind != "confirmation" and (day >= 1 or week >= 3 or filled):
        out.append("frequency limit")
    return out


@pytest.mark.parametrize("kind", KINDS)
def test_every_combination(kind: str) -> None:
    erased, suppressed, consent, paused, inside, counts, filled, related, asked, unchecked = (
        np.array(column) for column in zip(*EVERY, strict=True)
    )
    answer = ask(
        Standing(
            erased,
            suppressed.astype(np.int8),
            consent.astype(np.int8),
            paused,
            inside,
            counts[:, 0].astype(np.int32),
            counts[:, 1].astype(np.int32),
            filled,
            related,
            asked,
            unchecked,
        ),
        kind,
    )
    expected = [reasons(kind, way) for way in EVERY]
    assert [answer.why_not(i) for i in range(len(EVERY))] == expected
    assert answer.permitted.tolist() == [not e for e in expected]
    first = [e[0] for e in expected if e]
    assert dict(answer.exclusions(np.ones(len(EVERY), bool))) == {r: first.count(r) for r in first}


@given(st.lists(st.integers(-8 * 86_400, 3600), max_size=12))
def test_the_next_allowed_moment_is_the_first_that_is_not_too_many(ages: list[int]) -> None:
    """At it one more is allowed, and a second before it was not."""
    now = 1_773_308_520
    sent = [now + a for a in ages]

    def too_many(at: int) -> bool:
        past = [t for t in sent if t <= now]
        day, week = (sum(t > at - s for t in past) for s in (DAY, 7 * DAY))
        return day >= MOST_A_DAY or week >= MOST_IN_7_DAYS

    at = next_allowed(sent, now)
    assert at >= now and not too_many(at)
    assert at == now or too_many(at - 1)
