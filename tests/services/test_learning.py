"""What is learned from history and offered: hours, waits, batch sizes, resends that paid; never more than is shown."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np
import pytest

from openmeadow.core.delivery.plan import USUAL_WAIT, Plan
from openmeadow.core.delivery.time_zones import NO_HOUR
from openmeadow.core.errors import Refused
from openmeadow.core.events import Kind
from openmeadow.core.moments import DAY
from openmeadow.services.campaigns import (
    benchmarks,
    campaigns,
    dispatcher,
    response_capacity,
    results,
    schedule,
    send_time,
    waits,
)
from openmeadow.services.workspace import Workspace
from openmeadow.store.engagement import events
from tests.conftest import NOW, set_clock
from tests.services.mailing import Mailing, deliveries_of, mailing
from tests.services.test_sending import open_by

HOUR = 3600
MIDNIGHT = NOW - NOW % DAY
EAST = "Asia/Tokyo"  # nine hours ahead, no change of clocks


def tell(workspace: Workspace, rows: list[tuple[int, Kind, int, int]]) -> None:
    """(moment, kind, person, message number) as history."""
    with workspace.store.atomic() as db:
        names = events.Names(db).messages([f"Letter {m}" for m in sorted({r[3] for r in rows})])
        by_number = dict(zip(sorted({r[3] for r in rows}), names, strict=True))
        events.add(db, [(at, int(k), s, by_number[m], 0, 0, 0.0, None, None, None) for at, k, s, m in rows])


def people(workspace: Workspace, n: int, zone: str | None = None) -> None:
    with workspace.store.atomic() as db:
        db.executemany(
            "INSERT INTO subscribers (email, email_key, joined_at, time_zone) VALUES (?1, ?1, ?2, ?3)",
            ((f"q{i}@saltmere.example", NOW - 400 * DAY, zone) for i in range(n)),
        )


@pytest.mark.parametrize("zone", [None, EAST])
def test_hours_are_by_people_s_own_clocks(workspace: Workspace, zone: str | None) -> None:
    """Sent at six, answered at 19:30 UTC by 40 people over ten weeks; half of another 40 answer at any hour."""
    people(workspace, 80, zone)
    r, rows = np.random.default_rng(4), []
    for week in range(1, 11):
        sent = MIDNIGHT - week * 7 * DAY + 6 * HOUR
        for s in range(1, 81):
            rows.append((sent, Kind.SENT, s, week))
            if s <= 40:
                rows.append((sent + 13 * HOUR + 1800, Kind.OPENED, s, week))
            elif r.random() < 0.5:
                rows.append((sent + 2 * HOUR + int(r.integers(0, DAY)), Kind.OPENED, s, week))
    tell(workspace, rows)
    view, ahead = workspace.view(), 9 if zone else 0
    found = send_time.best_hours(workspace, view)
    assert found is not None and found.sure and (19 + ahead) % 24 in {(found.begin + i) % 24 for i in range(3)}
    assert found.sent_at == (6 + ahead) % 24, "no other hour was tried, and the page says so"
    assert found.engagements == sum(found.counts) and found.low < found.share < found.high
    own = send_time.hours_of_each(workspace, view)
    assert set(own[:40].tolist()) == {(19 + ahead) % 24}
    assert found.own == int((own != NO_HOUR).sum())
    few = np.zeros(80, bool)
    few[:2] = True
    assert send_time.best_hours(workspace, view, few) is None, "twenty answers are too few"


def test_local_hours_over_a_change_of_clocks() -> None:
    """Ten by the clock stays ten, though it is another hour by UTC after the last Sunday of March."""
    zone = ZoneInfo("Europe/Lisbon")
    days = [datetime(2026, 3, d, 10, 15, tzinfo=zone) for d in (27, 28, 29, 30, 31)]
    at = np.array([int(d.timestamp()) for d in days], np.int64)
    assert len({int(a) % DAY for a in at}) == 2
    assert send_time.local_hours(at, np.zeros(5, np.int64), [zone]).tolist() == [10] * 5


@pytest.mark.parametrize(("late", "wait"), [(0.02, 1), (0.06, 4), (0.5, 4)])
def test_the_usual_wait_is_when_nearly_all_answers_have_come(workspace: Workspace, late: float, wait: int) -> None:
    """Most answer after an hour, some after three days and a half; whole days, so that a resend keeps the hour."""
    people(workspace, 200)
    rows = []
    for s in range(1, 201):
        sent = NOW - 30 * DAY
        rows += [(sent, Kind.SENT, s, 1)]
        rows += [(sent + (HOUR if s > 200 * late else 84 * HOUR), Kind.OPENED, s, 1)]
    assert waits.usual_wait(workspace, workspace.view()) == USUAL_WAIT, "nothing is known yet"
    tell(workspace, rows)
    assert waits.usual_wait(workspace, workspace.view()) == wait * DAY


def test_what_had_come_within_an_interval(workspace: Workspace) -> None:
    people(workspace, 120)
    assert waits.outcomes_within(workspace, workspace.view(), DAY) is None
    rows = []
    for s in range(1, 121):
        rows += [(NOW - 20 * DAY, Kind.SENT, s, 1)]
        rows += [(NOW - 20 * DAY + (HOUR if s <= 30 else 2 * DAY), Kind.BOUNCED if s % 2 else Kind.COMPLAINED, s, 1)]
    tell(workspace, rows)
    assert waits.outcomes_within(workspace, workspace.view(), 4 * HOUR) == (0.25, 120)
    assert waits.outcomes_within(workspace, workspace.view(), 2 * DAY) == (1.0, 120)


def test_the_batch_that_a_team_can_take(workspace: Workspace) -> None:
    """A tenth of 1,000 click, half of them in the first hour; one in five calls, and ten calls an hour are answered:
    a batch may cause fifty clicks in its busiest hour, so a thousand people."""
    people(workspace, 1000)
    tell(workspace, [(NOW - 20 * DAY, Kind.SENT, s, 1) for s in range(1, 1001)])
    with pytest.raises(Refused, match="Not enough data to suggest a batch size: 0 clicks"):
        response_capacity.fits(workspace, 10, 5)
    tell(
        workspace,
        [(NOW - 20 * DAY + (600 if s <= 50 else 2 * HOUR + s * HOUR // 10), Kind.CLICKED, s, 1) for s in range(1, 101)],
    )
    found = response_capacity.fits(workspace, 10, 5)
    assert (found.delivered, found.responses) == (1000, 100)
    assert found.rate == pytest.approx(0.1) and found.busiest == pytest.approx(0.5)
    assert found.largest == 1000
    assert response_capacity.fits(workspace, 20, 5).largest == 2000, "twice the team, twice the batch"
    for wrong in ((0, 5, "clicks"), (10, 0.5, "clicks"), (10, 5, "songs")):
        with pytest.raises(Refused, match="Enter how many contacts your team"):
            response_capacity.fits(workspace, *wrong)


PLAN_WRONG = [
    ({"pilot_share": 0.6}, "The pilot batch can be at most half"),
    ({"batches": 0}, "1 to 100 batches"),
    ({"batches": 101}, "1 to 100 batches"),
    ({"interval": 59}, "The interval between batches is 1 minute"),
    ({"wait": 60}, "A resend is sent after 1 hour to 30 days"),
    ({"holdout_share": 0.51}, "The holdout group can be at most"),
    ({"hours": [9, 9]}, "The sending hours start before they end,"),
    ({"hours": [9, 25]}, "The sending hours start before they end,"),
    ({"weekdays": []}, "at least one weekday"),
    ({"weekdays": [7]}, "at least one weekday"),
    ({"largest": -1}, "A daily limit is a number of"),
    ({"caps": {"Postern": -5}}, "A daily limit is a number of"),
    ({"start": NOW + DAY, "no_later_than": NOW}, "The end date must be after the"),
    ({"order": "by luck"}, "schedule cannot be read: order"),
    ({"ramp": -1}, "A warm-up starts with a number of"),
    ({"resend_rule": "asleep"}, "schedule cannot be read: resend rule"),
    ({"variants": [{}] * 5}, "at most 4 variants"),
    ({"wait": 3 * DAY, "variants": [{"wait": DAY}]}, "A variant cannot wait less than the"),
    ({"test": {"figure": "luck", "wait": DAY, "pick": "better"}}, "schedule cannot be read: test, figure"),
    ({"test": {"figure": "opened", "wait": 60, "pick": "better"}}, "An A/B test runs in the pilot"),
    ({"pilot_share": 0.0, "test": {"figure": "opened", "wait": DAY, "pick": "better"}}, "An A/B test runs in the pilot"),
]


@pytest.mark.parametrize(("values", "said"), PLAN_WRONG)
def test_a_plan_that_cannot_be_is_refused_in_a_sentence(values: dict[str, Any], said: str) -> None:
    with pytest.raises(Refused, match=said):
        Plan().changed(**values).check()


def test_the_usual_plan_can_be() -> None:
    Plan().check()
    Plan(resend=False, wait=0).check()


def resent(m: Mailing, new_subject: str, late: int, after: int, share: float = 0.5) -> None:
    """A campaign resent to all 60, of whom ``late`` of the held back and ``after`` of each variant answer."""
    plan = {"pilot_share": 0.0, "batches": 1, "holdout_share": share, "new_subject": new_subject, "wait": DAY}
    campaigns.write(m.workspace, m.campaign, {"plan": plan})
    campaigns.start(m.workspace, m.campaign, "test")
    dispatcher.send_due(m.workspace, m.tokens)
    set_clock(m.workspace, NOW + DAY)
    dispatcher.send_due(m.workspace, m.tokens)
    again = deliveries_of(m.workspace.store.read(), m.campaign, "resend")
    held = [d.subscriber for d in again if d.reason == "holdout"]
    open_by(m, held[:late], "first", later=HOUR)
    for variant in (0, 1) if new_subject else (0,):
        mine = [d.subscriber for d in again if d.state == "sent" and d.variant == variant]
        open_by(m, mine[:after], "resend", later=60)


@pytest.mark.parametrize(
    ("late", "after", "verdict"), [(1, 22, "yes"), (10, 10, "no significant difference"), (25, 2, None)]
)
def test_what_resends_added_over_all_campaigns(folder: Path, late: int, after: int, verdict: str | None) -> None:
    with mailing(folder, 60) as m:
        assert benchmarks.resends(m.workspace).model_dump() == {
            "campaigns": 0,
            "lines": [],
            "sentence": "It is unknown whether a new subject works better: no resend has tested both.",
        }
        resent(m, "", late, after)
        found = benchmarks.resends(m.workspace)
        (line,) = found.lines
        own = {a.variant: a for a in results.results(m.workspace, m.campaign).variants}
        assert (line.people, line.engaged) == (own["Same subject"].people, after)
        assert (line.holdout, line.holdout_engaged) == (own["Holdout"].people, late)
        assert line.difference == pytest.approx(after / line.people - late / line.holdout)
        assert line.low < line.difference < line.high
        if verdict == "yes":
            assert line.low > 0 and line.verdict == "yes"
        elif verdict is None:
            assert line.high < 0 and line.verdict != "yes", "a resend that did worse is never called a gain"
        else:
            assert line.low < 0 < line.high and line.verdict != "yes"
        assert found.campaigns == 1 and "It is unknown whether a new subject" in found.sentence


@pytest.mark.parametrize(
    ("same", "new", "said"),
    [
        ([1000, 50, 0, 0], [1000, 110, 0, 0], "New subjects work better: +6.0 points"),
        ([1000, 110, 0, 0], [1000, 50, 0, 0], "The same subject works better: -6.0 points"),
        ([100, 10, 0, 0], [100, 12, 0, 0], "No significant difference between the same and"),
    ],
)
def test_same_or_new_subject_in_words_that_claim_no_more(same: list[int], new: list[int], said: str) -> None:
    assert said in benchmarks._sentence({"Same subject": same, "New subject": new})


def test_mailings_by_hour_weekday_and_size(workspace: Workspace) -> None:
    """Twelve Mondays at nine and three Thursdays at half past three in the afternoon; those too small or too young to
    judge are left out."""
    people(workspace, 120)
    rows, monday = [], int(datetime(2026, 3, 2, 9, 0, tzinfo=UTC).timestamp())
    for week in range(12):
        rows += [(monday - week * 7 * DAY, Kind.SENT, s, week) for s in range(1, 121)]
        rows += [(monday - week * 7 * DAY + HOUR, Kind.OPENED, s, week) for s in range(1, 31 + week)]
    for week in range(3):
        at = monday + (3 - 7 * week) * DAY - 6 * DAY + int(6.5 * HOUR) - DAY
        rows += [(at, Kind.SENT, s, 50 + week) for s in range(1, 121)]
    rows += [(NOW - HOUR, Kind.SENT, s, 90) for s in range(1, 121)]  # an hour old
    rows += [(NOW - 40 * DAY, Kind.SENT, s, 91) for s in range(1, 20)]  # nineteen people
    tell(workspace, rows)
    seen = benchmarks.see(workspace)
    kinds = {k.title: {x.words: x for x in k.lines} for k in seen.kinds}
    assert seen.mailings == 15
    nine, half_past = kinds["Hour of the day"]["09:00 to 12:00"], kinds["Hour of the day"]["15:00 to 18:00"]
    assert (nine.mailings, nine.delivered, half_past.mailings) == (12, 1440, 3)
    assert nine.share == pytest.approx(sum(range(30, 42)) / 1440)
    assert (nine.least, nine.most) == (30 / 120, 41 / 120) and half_past.share == 0
    assert nine.enough and half_past.enough
    assert set(kinds["Size"]) == {"0 to 1,000 people"} and set(kinds["Weekday"]) >= {"Monday"}
    assert seen.model_dump_json(), "plain values"


@pytest.mark.parametrize(
    ("plan", "said"),
    [
        ({"holdout_share": 0.0}, "Without a holdout group the uplift"),
        ({"holdout_share": 0.2}, r"in the holdout group, \d+ resent. It can detect a gain of [\d.]+ points or more"),
        ({"holdout_share": 0.2, "new_subject": "By the water"}, r"in the holdout group"),
    ],
)
def test_what_a_resend_s_size_can_show_is_said_before(folder: Path, plan: dict[str, Any], said: str) -> None:
    import re

    with mailing(folder, 200) as m:
        campaigns.write(m.workspace, m.campaign, {"plan": {"resend": True, "wait": 2 * DAY, "new_subject": "", **plan}})
        row = campaigns.row_of(m.workspace, m.campaign)
        assert "Not enough history to estimate how many" in schedule.preview_plan(m.workspace, row).resend
        tell(m.workspace, [(NOW - w * 7 * DAY, Kind.SENT, s, w) for w in range(1, 5) for s in range(1, 201)])
        tell(m.workspace, [(NOW - w * 7 * DAY + HOUR, Kind.OPENED, s, w) for w in range(1, 5) for s in range(1, 61)])
        tell(m.workspace, [(NOW - w * 7 * DAY + 3 * DAY, Kind.OPENED, s, w) for w in range(1, 5) for s in range(61, 81)])
        told = schedule.preview_plan(m.workspace, row).resend
        assert re.search(said, told), told
        assert told.startswith("About 140 will be due"), "seven in ten had not answered after two days"
