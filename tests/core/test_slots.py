"""Hours, weekdays, changes of clocks, caps, capacity; and the guardrails by simulation."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from itertools import pairwise
from zoneinfo import ZoneInfo

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from openmeadow.core.delivery import guardrails as g
from openmeadow.core.delivery.batches import BatchPlan
from openmeadow.core.delivery.schedule import Windows, after_wait, allowed_from, capacity_batch, ramp, schedule, slots
from openmeadow.core.delivery.time_zones import NO_HOUR, offsets, spread, within_caps

LISBON = ZoneInfo("Europe/Lisbon")
DAY = 86_400


def at(text: str, zone: ZoneInfo = LISBON) -> int:
    return int(datetime.fromisoformat(text).replace(tzinfo=zone).timestamp())


def local(moment: int) -> str:
    return datetime.fromtimestamp(moment, UTC).astimezone(LISBON).strftime("%a %d %b %H:%M")


@pytest.mark.parametrize(
    ("begins", "hours", "weekdays", "expected"),
    [
        ("2026-03-12T10:00", (9, 18), range(7), "Thu 12 Mar 10:00"),
        ("2026-03-12T07:00", (9, 18), range(7), "Thu 12 Mar 09:00"),
        ("2026-03-12T18:00", (9, 18), range(7), "Fri 13 Mar 09:00"),
        ("2026-03-13T18:30", (9, 18), range(5), "Mon 16 Mar 09:00"),
        ("2026-03-12T10:00", (9, 18), [6], "Sun 15 Mar 09:00"),
        ("2026-03-12T23:30", (0, 24), [3], "Thu 12 Mar 23:30"),
        # Lisbon: 29 March 01:00 becomes 02:00; 25 October 02:00 becomes 01:00 again
        ("2026-03-29T00:10", (1, 2), range(7), "Sun 29 Mar 02:00"),
        ("2026-10-25T00:10", (1, 2), range(7), "Sun 25 Oct 01:00"),
    ],
)
def test_allowed_hours(begins: str, hours: tuple[int, int], weekdays: list[int], expected: str) -> None:
    windows = Windows(hours, frozenset(weekdays))
    assert local(allowed_from(at(begins), windows, LISBON)) == expected


def test_an_hour_that_exists_twice_is_used_once() -> None:
    plan = BatchPlan(1, at("2026-10-25T00:00"), 0.0, 3, 1800)
    assert next(local(m) for m in slots(plan, 3, Windows((1, 2)), LISBON)) == "Sun 25 Oct 01:00"
    found = [datetime.fromtimestamp(m, UTC) for m in slots(plan, 3, Windows((0, 2)), LISBON)]
    assert [f"{m:%d %H:%M}" for m in found] == ["24 23:00", "24 23:30", "25 00:00"]
    again = allowed_from(int(datetime(2026, 10, 25, 1, 10, tzinfo=UTC).timestamp()), Windows((0, 2)), LISBON)
    assert local(again) == "Mon 26 Oct 00:00", "the repeated hour is not a second window"


@given(
    st.integers(0, 300),
    st.sampled_from([0.0, 0.1]),
    st.integers(1, 6),
    st.dictionaries(st.integers(0, 3), st.integers(1, 60), max_size=3),
    st.integers(0, 23),
    st.one_of(st.none(), st.integers(0, 12)),
)
def test_everybody_has_one_moment(
    people: int, lead: float, batches: int, caps: dict[int, int], hour: int, days: int | None
) -> None:
    who = np.arange(1, people + 1)
    band, score, provider = (who % 6).astype(np.int8), (who % 101).astype(float), (who % 4).astype(np.int16)
    windows = Windows((hour, min(24, hour + 3)), frozenset({0, 2, 4}))
    plan = BatchPlan(7, at("2026-03-12T08:00"), lead, batches, 3600)
    last = None if days is None else plan.start + days * DAY
    s = schedule(plan, who, band, score, provider, windows, LISBON, caps, last)
    assert len(s.batch) == people and int((s.batch >= 0).sum()) + int(s.late.sum()) == people
    assert s.moments == sorted(s.moments) and (s.batch < max(len(s.moments), 1)).all()
    assert last is None or all(m <= last for m in s.moments)
    for m in s.moments:
        here = datetime.fromtimestamp(m, UTC).astimezone(LISBON)
        assert here.weekday() in (0, 2, 4) and hour <= here.hour < max(hour + 3, 24 if hour > 21 else 0)
    day = np.array([datetime.fromtimestamp(m, UTC).astimezone(LISBON).toordinal() for m in s.moments])
    for p, cap in caps.items():
        mine = s.batch[(provider == p) & (s.batch >= 0)]
        counts = np.bincount(day[mine] - day.min()) if len(mine) else np.zeros(1)
        assert counts.max(initial=0) <= cap, "no day goes over the cap"


ZONES = [LISBON, ZoneInfo("America/New_York"), ZoneInfo("Asia/Tokyo"), ZoneInfo("Australia/Lord_Howe")]


@given(
    st.integers(1, 200),
    st.sampled_from([0.0, 0.1]),
    st.integers(0, 20),
    st.integers(0, 400),
    st.dictionaries(st.integers(0, 1), st.integers(5, 60), max_size=2),
    st.booleans(),
)
def test_the_same_hour_everywhere(people: int, lead: float, hour: int, day: int, caps: dict[int, int], own: bool) -> None:
    who = np.arange(1, people + 1)
    zone, provider = (who % 4).astype(np.int32), (who % 2).astype(np.int16)
    hours = np.where(own & (who % 3 == 0), hour, NO_HOUR).astype(np.int8)
    windows = Windows((hour, hour + 4), frozenset(range(7)))
    plan = BatchPlan(7, at("2026-01-12T08:00") + day * DAY, lead, 3, 3600)
    base = schedule(plan, who, (who % 6).astype(np.int8), who * 1.0, provider, windows, LISBON, {})
    s = within_caps(
        spread(base, plan.start, LISBON, ZONES, zone, hours, windows), provider, caps, LISBON, ZONES, zone, windows, 3600
    )
    assert (s.batch >= 0).all() and s.moments == sorted(s.moments)
    days: dict[tuple[int, int], int] = {}
    for person, b in enumerate(s.batch.tolist()):
        moment = s.moments[b]
        assert moment >= plan.start
        if b > 0 or not lead:
            there = datetime.fromtimestamp(moment, UTC).astimezone(ZONES[zone[person]])
            skipped = abs((there.utcoffset() or there.utcoffset()) - (there - timedelta(hours=5)).utcoffset())  # type: ignore[operator]
            assert hour <= there.hour < hour + 4 or skipped, (there, hour)
        key = (int(provider[person]), datetime.fromtimestamp(moment, UTC).astimezone(LISBON).toordinal())
        days[key] = days.get(key, 0) + 1
    first = int((s.batch == 0).sum()) if lead else 0
    for (p, _), n in days.items():
        assert p not in caps or n <= max(caps[p], first), "no day goes over the cap"


def test_a_batch_moved_by_hand_keeps_the_rules() -> None:
    plan = BatchPlan(1, at("2026-03-12T10:00"), 0.1, 2, 3600, first_gap=7200)
    who, one = np.arange(1, 101), np.zeros(100, np.int8)
    windows = Windows((9, 18), frozenset(range(5)))
    moved = {3: at("2026-03-14T23:00"), 2: at("2026-03-12T08:00"), 9: 5}
    s = schedule(plan, who, one, who * 1.0, one, windows, LISBON, {}, moved_to=moved)
    assert [local(m) for m in s.moments] == ["Thu 12 Mar 10:00", "Thu 12 Mar 12:00", "Mon 16 Mar 09:00"]
    assert np.bincount(s.batch).tolist() == [10, 45, 45]
    swapped = schedule(plan, who, one, who * 1.0, one, windows, LISBON, {}, moved_to={2: at("2026-03-17T10:00")})
    assert [local(m) for m in swapped.moments][1:] == ["Thu 12 Mar 13:00", "Tue 17 Mar 10:00"]
    assert int(swapped.batch[who == 100][0]) == 2 or swapped.batch[99] == 0, "the most engaged moved with their batch"


def test_order_by_zone_and_sizes() -> None:
    who, one = np.arange(1, 61), np.zeros(60, np.int8)
    ahead = offsets(ZONES, at("2026-03-12T10:00"))[who % 4]
    plan = BatchPlan(1, at("2026-03-12T10:00"), 0.0, 4, 3600, "by time zone")
    s = schedule(plan, who, one, who * 1.0, one, Windows(), LISBON, {}, ahead=ahead)
    assert [set((who % 4)[s.batch == b].tolist()) for b in range(4)] == [{3}, {2}, {0}, {1}], "the east first"
    ramped = BatchPlan(1, plan.start, 0.0, 1, DAY, sizes=tuple(ramp(60, 4)))
    s = schedule(ramped, who, one, who * 1.0, one, Windows(), LISBON, {})
    assert np.bincount(s.batch).tolist() == [4, 8, 16, 32][: len(s.moments)] and set(who[s.batch == 0]) == {
        57,
        58,
        59,
        60,
    }


@pytest.mark.parametrize(
    ("capacity", "answers", "busiest", "factor", "size"),
    [(240, 0.1, 0.2, 1 / 9, 108_000), (240, 0.05, 0.5, 1.0, 9_600), (10, 0.0, 0.5, 1.0, None), (0.1, 1.0, 1.0, 1.0, 1)],
)
def test_capacity(capacity: float, answers: float, busiest: float, factor: float, size: int | None) -> None:
    assert capacity_batch(capacity, answers, busiest, factor) == size


def test_a_ramp_at_most_doubles() -> None:
    volumes = ramp(24_000, 500)
    assert sum(volumes) == 24_000 and all(b <= 2 * a for a, b in pairwise(volumes))


def held_after(rate: float, limit: float, people: int, seed: int) -> int | None:
    """After how many sends a plan is held when looked at every 50; None if never."""
    happened = np.random.default_rng(seed).random(people) < rate
    for n in range(g.EVERY, people + 1, g.EVERY):
        if g.read("complaints", int(happened[:n].sum()), n, limit).state == "over limit":
            return n
    return None


def test_guardrails_hold_what_is_wrong_and_nothing_else() -> None:
    """The figures of the method: a true rate at the limit is held in fewer than 5 of 100 plans of 3,000, however often
    one looks; three times the limit in nearly all, after some 800."""
    wrongly = sum(held_after(0.003, 0.003, 3000, seed) is not None for seed in range(600))
    assert wrongly / 600 < 0.05
    rightly = [held_after(0.009, 0.003, 3000, seed) for seed in range(300)]
    found = [n for n in rightly if n is not None]
    assert len(found) / 300 > 0.93 and 500 <= float(np.median(found)) <= 1100
    hard = [n for n in (held_after(0.06, 0.02, 3000, seed) for seed in range(200)) if n is not None]
    assert len(hard) == 200 and float(np.median(hard)) <= 200


@pytest.mark.parametrize(
    ("k", "n", "limit", "state"),
    [
        (0, 0, 0.003, "within limit"),
        (1, 100, 0.003, "within limit"),
        (3, 2000, 0.003, "near limit"),
        (9, 300, 0.003, "over limit"),
        (50, 50, 0.02, "over limit"),
    ],
)
def test_states(k: int, n: int, limit: float, state: str) -> None:
    found = g.read("complaints", k, n, limit)
    assert found.state == state and (state != "hold" or "over the limit" in found.sentence)


def test_what_a_size_can_show() -> None:
    assert not g.could_show(200, 0.003) and g.could_show(3000, 0.003)
    assert 300 < g.enough(0.003) < 1200
    assert g.evidence(10_000, 10_000, 0.003) == float("inf")


CLOCKS = [ZoneInfo(z) for z in ("UTC", "Europe/Copenhagen", "America/New_York", "Asia/Kolkata", "Pacific/Auckland")]
QUARTER = 900


def is_allowed(at: int, windows: Windows, zone: ZoneInfo) -> bool:
    """By the clock on the wall; of an hour that exists twice only the first time counts."""
    local = datetime.fromtimestamp(at, UTC).astimezone(zone)
    return windows.hours[0] <= local.hour < windows.hours[1] and local.weekday() in windows.weekdays and not local.fold


def later(at: int, days: int, zone: ZoneInfo) -> int:
    """The same hour on the wall, days later."""
    there = datetime.fromtimestamp(at, UTC).astimezone(zone)
    return int((there + timedelta(days=days)).timestamp()) if days else at


@given(
    st.integers(1_770_000_000 // QUARTER, 1_800_000_000 // QUARTER).map(lambda q: q * QUARTER),
    st.tuples(st.integers(0, 23), st.integers(1, 24)).filter(lambda h: h[0] + 3 <= h[1]),
    st.sets(st.integers(0, 6), min_size=1),
    st.sampled_from(CLOCKS),
    st.integers(0, 5 * 24).map(lambda h: h * 3600),
)
def test_the_first_allowed_moment_is_found(
    at: int, hours: tuple[int, int], weekdays: set[int], zone: ZoneInfo, wait: int
) -> None:
    """Against walking on by quarters of an hour, over changes of clocks too."""
    windows = Windows(hours, frozenset(weekdays))
    found = allowed_from(at, windows, zone)
    if windows.always:
        assert found == at
        return
    walked = at
    while not is_allowed(walked, windows, zone):
        walked += QUARTER
        assert walked < at + 9 * 86_400
    assert found == walked, (datetime.fromtimestamp(found, zone), datetime.fromtimestamp(walked, zone))
    days, rest = divmod(wait, DAY)
    due = later(at, days, zone) + rest
    assert after_wait(at, wait, windows, zone) == allowed_from(due, windows, zone)
    by_day = after_wait(at, wait, windows, zone, by_day=True)
    same_hour = [later(at, n, zone) + rest for n in range(days, days + 8)]
    assert by_day in same_hour, "the hour is kept where only the day moves"
    assert datetime.fromtimestamp(by_day, zone).weekday() in weekdays
    assert after_wait(at, wait, windows, zone, due - 1) is None, "never after the last moment"


@pytest.mark.parametrize(
    ("zone", "at", "wait", "hour"),
    [
        ("Europe/Berlin", (2026, 3, 28, 16), 2 * DAY, 16),  # the clocks go forward in between
        ("Europe/Berlin", (2026, 10, 24, 16), 2 * DAY, 16),  # and back
        ("America/New_York", (2026, 3, 7, 10), DAY, 10),
        ("America/New_York", (2026, 10, 31, 10), 3 * DAY, 10),
        ("UTC", (2026, 3, 28, 16), 2 * DAY, 16),
        ("Europe/Berlin", (2026, 3, 28, 23), 6 * 3600, 6),  # hours are hours
    ],
)
def test_a_wait_of_days_keeps_the_hour(zone: str, at: tuple[int, int, int, int], wait: int, hour: int) -> None:
    where = ZoneInfo(zone)
    begun = int(datetime(*at, tzinfo=where).timestamp())
    for by_day in (False, True):
        found = after_wait(begun, wait, Windows((0, 24), frozenset(range(7))), where, by_day=by_day)
        assert found is not None and datetime.fromtimestamp(found, where).hour == hour
