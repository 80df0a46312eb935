"""The replay against the obvious one: each message placed by what was known when it was first sent."""

from __future__ import annotations

import random

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from openmeadow.core.columns import Columns, Trouble, Troubles
from openmeadow.core.engagement import replay as module
from openmeadow.core.engagement.bot_detection import MACHINE
from openmeadow.core.engagement.replay import FINE_DAYS, FINE_LEFT, MEASURES, replay
from openmeadow.core.events import Kind
from openmeadow.core.moments import DAY
from tests.core.slow import messages_of
from tests.making import NOW, PEOPLE, E, columns, histories

SINCE = NOW - 300 * DAY


def troubles_of(told: list[tuple[int, int, int, int]]) -> Troubles:
    at, person, message, what = (list(c) for c in zip(*told, strict=True)) if told else ([], [], [], [])
    return Troubles(
        np.array(at, np.int64), np.array(person, np.int32), np.array(message, np.int32), np.array(what, np.int8)
    )


def brute(
    events: list[E],
    told: list[tuple[int, int, int, int]],
    days: int,
    left: int,
    since_of: dict[int, int],
    *,
    for_good: bool = True,
) -> dict[str, float]:
    """The totals without the people beyond the cut-off, message by message; ``for_good``: they get none after it."""
    out = dict.fromkeys(MEASURES, 0.0)
    for p in range(PEOPLE):
        found, acts = messages_of(p, events)
        answers = [(a[0], a[2]) for a in acts if a[3] != MACHINE]
        gone = False
        for number, m in sorted(found.items(), key=lambda x: (x[1].first, x[0])):
            if not SINCE < m.first <= NOW:
                continue
            last = max((at for at, _ in answers if at < m.first), default=None)
            since = since_of.get(p, NOW)
            barrier = max((x for x in (last, since if since < m.first else None) if x is not None), default=-(2**62))
            ignored = sum(
                barrier < other.first < m.first and (other.failed is None or other.failed > m.first)
                for other in found.values()
            )
            beyond = (last is None or (m.first - last) // DAY >= days) and ignored >= left
            gone = for_good and (gone or beyond)
            if gone or beyond:
                continue
            mine = [a for a in m.acts if a[0] <= NOW and a[2] != MACHINE]
            kinds = {a[1] for a in mine}
            out["messages"] += 1
            out["delivered"] += m.failed is None or m.failed > NOW
            out["engagements"] += bool(mine)
            out["opens"] += bool(kinds & {Kind.OPENED, Kind.CLICKED})
            out["clicks"] += Kind.CLICKED in kinds
            booked = [a for a in acts if a[1] == Kind.BOOKED and a[2] == number and a[0] <= NOW]
            out["bookings"] += len(booked)
            for what, name in ((Trouble.COMPLAINED, "complaints"), (Trouble.HARD, "hard bounces")):
                out[name] += any(t[1:] == (p, number, what) for t in told)
    return out


told = st.lists(
    st.tuples(
        st.just(NOW - DAY),
        st.integers(0, PEOPLE - 1),
        st.integers(1, 9),
        st.sampled_from([int(Trouble.COMPLAINED), int(Trouble.HARD)]),
    ),
    max_size=5,
)


@given(
    histories(),
    told,
    st.sampled_from(FINE_DAYS),
    st.sampled_from([*FINE_LEFT[:7], 21]),
    st.dictionaries(st.integers(0, PEOPLE - 1), st.integers(0, 500).map(lambda d: NOW - d * DAY), max_size=2),
)
def test_replay_equals_the_obvious_one(
    events: list[E], told: list[tuple[int, int, int, int]], days: int, left: int, since_of: dict[int, int]
) -> None:
    found = replay(columns(events, since=since_of), troubles_of(told), SINCE, NOW)
    column = FINE_DAYS.index(days)
    here = {name: float(s.sum() - s[column:, left:].sum()) for name, s in found.sums.items()}
    for got, slow in (
        (here, brute(events, told, days, left, since_of, for_good=False)),
        (found.without(days, left), brute(events, told, days, left, since_of)),
    ):
        assert {k: v for k, v in got.items() if k not in ("worth", "unsubscribes")} == {
            k: v for k, v in slow.items() if k not in ("worth", "unsubscribes")
        }


def test_who_was_beyond_once_stays_beyond_through_many_silences() -> None:
    """Long and short silences in turn: no single message of theirs was the furthest in both ways."""
    events: list[E] = []
    for p in range(PEOPLE):
        ago, message = 290 * DAY, 0
        for days, letters in ((30, 3), (10, 7), (20, 5), (5, 9), (15, 6), (3, 2)):
            for _ in range(letters + p):
                message += 1
                ago -= days * DAY // (letters + p)
                events.append(E(p, Kind.SENT, ago, message))
            events.append(E(p, Kind.OPENED, ago - 60, message))
    found = replay(columns(events), troubles_of([]), SINCE, NOW)
    for days in (0, 5, 10, 15, 20, 30, 60):
        for left in range(9):
            assert found.without(days, left)["messages"] == brute(events, [], days, left, {})["messages"], (days, left)


def weekly(lot: random.Random, people: int, letters: int) -> Columns:
    """People who engage more or less with a letter a week."""
    events: list[E] = []
    for p in range(people):
        rate = lot.random()
        for n in range(letters):
            ago = (letters - n) * 7 * DAY
            events.append(E(p, Kind.SENT, ago, n + 1))
            if lot.random() < rate:
                events.append(E(p, Kind.OPENED, ago - 600, n + 1))
    return columns(events, people)


SEEDS = 24


def test_an_estimate_is_as_good_as_it_says(monkeypatch: pytest.MonkeyPatch) -> None:
    """Over many populations, 95 of 100 estimates lie within what they say they may be off."""
    monkeypatch.setattr(module, "CHUNK", 36)
    within = 0
    for seed in range(SEEDS):
        made = weekly(random.Random(seed), 260, 12)
        found = module.rough(made, troubles_of([]), SINCE, NOW)
        assert found is not None and found[1] < 0.5
        estimate, off = found
        share = float(estimate.sums["engagements"].sum() / estimate.sums["messages"].sum())
        within += abs(share / float((made.rows.opened_at <= NOW).mean()) - 1) <= off
    assert within >= 0.85 * SEEDS
    whole = replay(made, troubles_of([]), SINCE, NOW)
    assert estimate.sums["messages"].sum() == pytest.approx(whole.sums["messages"].sum())
    assert estimate.without(30, 1)["messages"] / whole.without(30, 1)["messages"] == pytest.approx(1, abs=0.3)
    monkeypatch.setattr(module, "CHUNK", 1 << 16)
    assert module.rough(made, troubles_of([]), SINCE, NOW) is None, "few are replayed at once"


def test_an_outcome_never_moves_its_own_message() -> None:
    """Opened within the second it was sent, a message still stands where it stood before."""
    sends = [E(0, Kind.SENT, (200 - 20 * i) * DAY, i + 1) for i in range(6)]
    quiet = replay(columns(sends), troubles_of([]), SINCE, NOW)
    answered = replay(columns([*sends, E(0, Kind.OPENED, 100 * DAY, 6)]), troubles_of([]), SINCE, NOW)
    assert (quiet.sums["messages"] == answered.sums["messages"]).all()
    assert answered.without(0, 0) == dict.fromkeys(MEASURES, 0.0), "everybody is beyond the nearest cut-off"
    assert answered.without(365, 5)["messages"] == 5 and answered.without(365, 5)["opens"] == 0
