"""Who opened, the score, the six bands: against the obvious computation, and by hand."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from openmeadow.core.arrays import FAR, NEVER, inserted, narrow
from openmeadow.core.columns import build, splice
from openmeadow.core.engagement.bands import BANDS, Cadence, cadence
from openmeadow.core.engagement.bot_detection import BY_OF_REASON, WORDS, reasons
from openmeadow.core.engagement.explanation import explain
from openmeadow.core.engagement.score import OF_PEOPLE, Basis, bring_forward, score
from openmeadow.core.engagement.subset import subset
from openmeadow.core.events import Kind
from openmeadow.core.moments import DAY
from tests.core.slow import by_of, judge
from tests.making import LINKS, NOW, PEOPLE, E, columns, everybody, histories, raw

S, D, O, C, B, K = Kind.SENT, Kind.DELIVERED, Kind.OPENED, Kind.CLICKED, Kind.BOUNCED, Kind.BOOKED
SETTLED = 3 * DAY
PACE = Cadence(7, 90, SETTLED)
BASIS = Basis(PACE)


@pytest.mark.parametrize(
    ("why", "events", "expected"),
    [
        ("an hour later", [E(0, S, 7200), E(0, O, 3600)], "person"),
        ("3 s after sent", [E(0, S, 7200), E(0, O, 7197)], "machine"),
        ("4 s after sent", [E(0, S, 7200), E(0, O, 7196)], "person"),
        ("3 s after delivered, long after sent", [E(0, S, 7200), E(0, D, 7000), E(0, O, 6997)], "machine"),
        ("listed agent", [E(0, S, 7200), E(0, O, 3600, by="machine")], "machine"),
        ("neither agent nor network", [E(0, S, 7200), E(0, O, 3600, by="blind")], "unsure"),
        ("blind but at once", [E(0, S, 7200), E(0, O, 7199, by="blind")], "machine"),
        ("after a trap link", [E(0, S, 7200), E(0, C, 3605, by="trap", link=3), E(0, O, 3600)], "machine"),
        ("all three links in 10 s", [E(0, S, 7200), *(E(0, C, 3600 - 5 * i, link=1 + i) for i in range(3))], "machine"),
        (
            "all three in 11 s",
            [E(0, S, 7200), *(E(0, C, 3600 - t, link=i) for i, t in ((1, 0), (2, 5), (3, 11)))],
            "person",
        ),
        ("another's pass", [E(1, S, 3601), E(0, S, 9000), E(0, O, 3600)], "person"),
    ],
)
def test_who(why: str, events: list[E], expected: str) -> None:
    assert WORDS[BY_OF_REASON[reasons(raw(events), LINKS)[-1]]] == expected, why


@given(histories(), st.dictionaries(st.integers(0, PEOPLE - 1), st.integers(0, 300).map(lambda d: NOW - d * DAY)))
def test_score_and_band_equal_the_obvious_computation(events: list[E], since: dict[int, int]) -> None:
    c = columns(events, since=since)
    s = score(c, NOW, BASIS)
    by = BY_OF_REASON[reasons(raw(events), LINKS)]
    assert [int(b) for b in by] == [by_of(e, events) for e in events]
    for p in range(PEOPLE):
        slow = judge(p, events, 90, SETTLED, since.get(p, -(2**62)))
        assert (int(s.x[p]), int(s.t[p]), int(s.n[p])) == slow.counted
        assert (s.active[p], s.chance[p]) == (pytest.approx(slow.active), pytest.approx(slow.chance))
        assert (int(s.engaged[p]), int(s.ignored[p])) == (slow.engaged, slow.ignored)
        assert int(s.last_engaged[p]) == (NEVER if slow.last is None else slow.last)
        assert BANDS[s.band[p]] == slow.band
        told = explain(c, p, s, hidden=bool(s.hidden[p]))
        assert (told.engaged, told.last, told.counted) == slow.counted and told.chance == pytest.approx(slow.chance)
        assert told.if_ignored <= told.chance <= told.if_engaged


@given(histories(), st.integers(1, 200 * DAY), st.lists(st.integers(0, 59), max_size=8))
def test_bringing_forward_equals_scoring_anew(events: list[E], later: int, held: list[int]) -> None:
    """Some events come late: old columns, a splice of the touched people, and scores brought forward."""
    late = [e for i, e in enumerate(events) if i in held]
    early = [e for i, e in enumerate(events) if i not in held]
    old = columns(early)
    touched = np.array(sorted({e.person for e in late}), np.int64)
    mine = columns([e for e in events if e.person in touched])
    new, whole = splice(old, everybody(PEOPLE), touched, mine), columns(events)
    for table in ("rows", "acts"):
        for name, values in vars(getattr(whole, table)).items():
            assert np.array_equal(getattr(getattr(new, table), name), values), name
    forward = bring_forward(score(old, NOW, BASIS), new, touched, NOW + later, BASIS)
    full = score(whole, NOW + later, BASIS)
    for name in OF_PEOPLE:
        assert np.array_equal(getattr(forward, name), getattr(full, name)), name


_numbers = st.lists(st.one_of(st.integers(-2, 9), st.integers(-(2**31), 2**31 - 1), st.sampled_from([32_767, 32_768])))


@given(_numbers, _numbers)
def test_nothing_is_cut_where_numbers_are_kept_in_two_bytes(old: list[int], fresh: list[int]) -> None:
    kept = narrow(np.array(old, np.int32))
    assert kept.tolist() == old and (kept.dtype == np.int16) == all(-32_768 <= n <= 32_767 for n in old)
    assert inserted(kept, np.zeros(len(fresh), np.int64), np.array(fresh, np.int32)).tolist() == fresh + old


@given(histories())
def test_a_subset_scores_alike(events: list[E]) -> None:
    c = columns(events)
    s = score(c, NOW, BASIS)
    for p in range(PEOPLE):
        alone = score(subset(c, np.array([p])), NOW, BASIS)
        assert (alone.chance[0], alone.band[0]) == (s.chance[p], s.band[p])


def weekly(person: int, weeks: int, *, opened: range = range(0), by: str = "person") -> list[E]:
    out = []
    for w in range(weeks):
        out.append(E(person, S, w * 7 * DAY + 2 * DAY, message=1 + w % 9))
        if w in opened:
            out.append(E(person, O, w * 7 * DAY + 2 * DAY - 3600, message=1 + w % 9, by=by))
    return out


@pytest.mark.parametrize(
    ("events", "since", "band"),
    [
        ([], None, "Unproven"),
        (weekly(0, 4), None, "Unproven"),  # four ignored are too few
        (weekly(0, 6), None, "Unproven"),  # six, but the first only 37 days ago
        (weekly(0, 9), None, "Unproven"),  # nine, but the first only 58 days ago
        (weekly(0, 14), None, "Inactive"),  # fourteen over 93 days
        (weekly(0, 9, opened=range(9)), None, "Strong"),
        (weekly(0, 9, opened=range(2, 4)), None, "Steady"),
        (weekly(0, 9, opened=range(2)), None, "Steady"),  # two engaged messages are too few to be Strong
        (weekly(0, 9, opened=range(8, 9)), None, "Fading"),  # last answer 57 days ago
        (weekly(0, 14, opened=range(14), by="machine"), None, "Masked"),
        (weekly(0, 14, opened=range(2), by="machine"), None, "Inactive"),  # two machine opens say nothing
        (weekly(0, 9, opened=range(9)), NOW - DAY, "Unproven"),  # rejoined yesterday: starts again
        ([E(0, K, DAY, message=0)], None, "Steady"),  # a booking by telephone is an answer
    ],
)
def test_bands_by_hand(events: list[E], since: int | None, band: str) -> None:
    c = columns(events, 1, since={0: since} if since else None)
    assert BANDS[score(c, NOW, BASIS).band[0]] == band


def test_cadence() -> None:
    assert cadence(columns([]), NOW) == Cadence(7, 90, 3 * DAY)
    monthly = [E(0, S, d * DAY, message=m) for m, d in ((1, 5), (2, 35), (3, 65))]
    assert cadence(columns(monthly), NOW) == Cadence(30, 270, 3 * DAY)
    old = [E(0, S, 400 * DAY, message=1), E(0, S, 399 * DAY, message=2)]
    assert cadence(columns(old), NOW).gap == 7, "pairs older than a year do not count"
    quick = [e for p in range(100) for e in (E(p, S, 30 * DAY), E(p, O, 30 * DAY - 3600 * (1 + p // 90)))]
    assert cadence(columns(quick, 100), NOW).settled == 2 * 3600, "95 of 100 within two hours"


def test_the_latest_messages_alone_count() -> None:
    """Of 160 messages the first ten, engaged with, drop out."""
    sent = [E(0, S, (w + 4) * DAY, 1 + w) for w in range(160)]
    opened = [E(0, O, (w + 4) * DAY - 900, 1 + w) for w in range(149, 160)]
    many = build(everybody(1), raw(sent + opened), np.full(200, 3, np.int32))
    s = score(many, NOW, BASIS)
    assert (s.x[0], s.t[0], s.n[0]) == (1, 1, 150) and s.engaged[0] == 11


def test_a_message_is_delivered_while_any_pass_is() -> None:
    c = columns([E(0, S, 9 * DAY), E(0, B, 8 * DAY), E(0, S, 7 * DAY), E(1, S, 9 * DAY), E(1, B, 8 * DAY)], 2)
    assert [int(f) for f in c.rows.failed_at] == [int(FAR), NOW - 8 * DAY]
    before = score(c, NOW - 8 * DAY - 1, Basis(Cadence(7, 90, 60)))
    assert before.n[1] == 1 and score(c, NOW, BASIS).n[1] == 0, "what fails later was delivered until then"


def test_bookings_belong_to_the_last_click_then_the_last_open() -> None:
    base = [E(0, S, 20 * DAY, 1), E(0, S, 20 * DAY, 2), E(0, C, 6 * DAY, 1), E(0, O, DAY, 2), E(0, K, 0, 0)]
    assert columns(base, 1).acts.message[-1] == 1, "clicked within 7 days goes first"
    assert columns([e for e in base if e.kind != C], 1).acts.message[-1] == 2, "else opened within 2 days"
    assert columns([E(0, S, 20 * DAY, 1), E(0, O, 3 * DAY, 1), E(0, K, 0, 0)], 1).acts.message[-1] == 0
