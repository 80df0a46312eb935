"""What is learned from history and offered: hours, waits, batch sizes, resends that paid; never more than is shown."""

from __future__ import annotations

import json
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np
import pytest

from openmeadow.core.columns import DAY, Kind
from openmeadow.core.errors import Refused
from openmeadow.core.planning.local import NO_HOUR
from openmeadow.desk import campaigns, capacity, planning, results, sending, timing, what_works
from openmeadow.desk.desk import Desk
from openmeadow.store import events, ledger
from tests.conftest import NOW, set_clock
from tests.desk.mailing import Mailing, mailing
from tests.desk.test_sending import open_by

HOUR = 3600
MIDNIGHT = NOW - NOW % DAY
EAST = "Asia/Tokyo"  # nine hours ahead, no change of clocks


def tell(desk: Desk, rows: list[tuple[int, Kind, int, int]]) -> None:
    """(moment, kind, person, message number) as history."""
    with desk.store.atomic() as db:
        names = events.Names(db).messages([f"Letter {m}" for m in sorted({r[3] for r in rows})])
        by_number = dict(zip(sorted({r[3] for r in rows}), names, strict=True))
        events.add(db, [(at, int(k), s, by_number[m], 0, 0, 0.0, None, None, None) for at, k, s, m in rows])


def people(desk: Desk, n: int, zone: str | None = None) -> None:
    with desk.store.atomic() as db:
        db.executemany(
            "INSERT INTO subscribers (email, email_key, joined_at, time_zone) VALUES (?1, ?1, ?2, ?3)",
            ((f"q{i}@saltmere.example", NOW - 400 * DAY, zone) for i in range(n)),
        )


@pytest.mark.parametrize("zone", [None, EAST])
def test_hours_are_by_people_s_own_clocks(desk: Desk, zone: str | None) -> None:
    """Sent at six, answered at 19:30 UTC by 40 people over ten weeks; half of another 40 answer at any hour."""
    people(desk, 80, zone)
    r, rows = np.random.default_rng(4), []
    for week in range(1, 11):
        sent = MIDNIGHT - week * 7 * DAY + 6 * HOUR
        for s in range(1, 81):
            rows.append((sent, Kind.SENT, s, week))
            if s <= 40:
                rows.append((sent + 13 * HOUR + 1800, Kind.OPENED, s, week))
            elif r.random() < 0.5:
                rows.append((sent + 2 * HOUR + int(r.integers(0, DAY)), Kind.OPENED, s, week))
    tell(desk, rows)
    view, ahead = desk.view(), 9 if zone else 0
    found = timing.best_hours(desk, view)
    assert found is not None and found["sure"] and (19 + ahead) % 24 in {(found["begin"] + i) % 24 for i in range(3)}
    assert found["sent_at"] == (6 + ahead) % 24, "no other hour was tried, and the page says so"
    assert found["answers"] == sum(found["counts"]) and found["low"] < found["share"] < found["high"]
    own = timing.hours_of_each(desk, view)
    assert set(own[:40].tolist()) == {(19 + ahead) % 24}
    assert found["own"] == int((own != NO_HOUR).sum())
    few = np.zeros(80, bool)
    few[:2] = True
    assert timing.best_hours(desk, view, few) is None, "twenty answers are too few"


def test_local_hours_over_a_change_of_clocks() -> None:
    """Ten by the clock stays ten, though it is another hour by UTC after the last Sunday of March."""
    zone = ZoneInfo("Europe/Lisbon")
    days = [datetime(2026, 3, d, 10, 15, tzinfo=zone) for d in (27, 28, 29, 30, 31)]
    at = np.array([int(d.timestamp()) for d in days], np.int64)
    assert len({int(a) % DAY for a in at}) == 2
    assert timing.local_hours(at, np.zeros(5, np.int64), [zone]).tolist() == [10] * 5


@pytest.mark.parametrize(("late", "wait"), [(0.02, 1), (0.06, 4), (0.5, 4)])
def test_the_usual_wait_is_when_nearly_all_answers_have_come(desk: Desk, late: float, wait: int) -> None:
    """Most answer after an hour, some after three days and a half; whole days, so that a resend keeps the hour."""
    people(desk, 200)
    rows = []
    for s in range(1, 201):
        sent = NOW - 30 * DAY
        rows += [(sent, Kind.SENT, s, 1)]
        rows += [(sent + (HOUR if s > 200 * late else 84 * HOUR), Kind.OPENED, s, 1)]
    assert timing.usual_wait(desk.view()) == timing.USUAL_WAIT, "nothing is known yet"
    tell(desk, rows)
    assert timing.usual_wait(desk.view()) == wait * DAY


def test_what_had_come_within_an_interval(desk: Desk) -> None:
    people(desk, 120)
    assert timing.outcomes_within(desk, desk.view(), DAY) is None
    rows = []
    for s in range(1, 121):
        rows += [(NOW - 20 * DAY, Kind.SENT, s, 1)]
        rows += [(NOW - 20 * DAY + (HOUR if s <= 30 else 2 * DAY), Kind.BOUNCED if s % 2 else Kind.COMPLAINED, s, 1)]
    tell(desk, rows)
    assert timing.outcomes_within(desk, desk.view(), 4 * HOUR) == (0.25, 120)
    assert timing.outcomes_within(desk, desk.view(), 2 * DAY) == (1.0, 120)


def test_the_batch_that_a_team_can_take(desk: Desk) -> None:
    """A tenth of 1,000 click, half of them in the first hour; one in five calls, and ten calls an hour are answered:
    a batch may cause fifty clicks in its busiest hour, so a thousand people."""
    people(desk, 1000)
    tell(desk, [(NOW - 20 * DAY, Kind.SENT, s, 1) for s in range(1, 1001)])
    with pytest.raises(Refused, match="Only 0 clicks are known"):
        capacity.fits(desk, 10, 5)
    tell(
        desk,
        [(NOW - 20 * DAY + (600 if s <= 50 else 2 * HOUR + s * HOUR // 10), Kind.CLICKED, s, 1) for s in range(1, 101)],
    )
    found = capacity.fits(desk, 10, 5)
    assert (found["delivered"], found["responses"]) == (1000, 100)
    assert found["rate"] == pytest.approx(0.1) and found["busiest"] == pytest.approx(0.5)
    assert found["largest"] == 1000
    assert capacity.fits(desk, 20, 5)["largest"] == 2000, "twice the team, twice the batch"
    for wrong in ((0, 5, "clicks"), (10, 0.5, "clicks"), (10, 5, "songs")):
        with pytest.raises(Refused, match="Say how many an hour"):
            capacity.fits(desk, *wrong)


PLAN_WRONG = [
    ({"lead_share": 0.6}, "up to half"),
    ({"batches": 0}, "1 to 100 batches"),
    ({"batches": 101}, "1 to 100 batches"),
    ({"interval": 59}, "between a minute and 30 days"),
    ({"wait": 60}, "between an hour and 30 days"),
    ({"held_share": 0.51}, "At most half can be held back"),
    ({"hours": [9, 9]}, "begin before they end"),
    ({"hours": [9, 25]}, "begin before they end"),
    ({"weekdays": []}, "at least one weekday"),
    ({"weekdays": [7]}, "at least one weekday"),
    ({"largest": -1}, "a number of people, or none"),
    ({"caps": {"Postern": -5}}, "a number of people, or none"),
    ({"start": NOW + DAY, "no_later_than": NOW}, "The last moment comes after the start"),
    ({"order": "by luck"}, "The order is"),
    ({"ramp": -1}, "A ramp begins with a number"),
    ({"resend_rule": "asleep"}, "A resend goes to those who"),
    ({"arms": [planning.SAME] * 5}, "at most 4 arms"),
    ({"wait": 3 * DAY, "arms": [{"wait": DAY}]}, "waits at least as long as the resend"),
    ({"test": {"figure": "luck", "wait": DAY, "pick": "better"}}, "Versions are tried"),
    ({"test": {"figure": "opened", "wait": 60, "pick": "better"}}, "Versions are tried"),
    ({"lead_share": 0.0, "test": {"figure": "opened", "wait": DAY, "pick": "better"}}, "Versions are tried"),
]


@pytest.mark.parametrize(("values", "said"), PLAN_WRONG)
def test_a_plan_that_cannot_be_is_refused_in_a_sentence(values: dict[str, Any], said: str) -> None:
    with pytest.raises(Refused, match=said):
        planning.check_plan({**planning.PLAN_DEFAULTS, **values})


def test_the_usual_plan_can_be() -> None:
    planning.check_plan(dict(planning.PLAN_DEFAULTS))
    planning.check_plan({**planning.PLAN_DEFAULTS, "resend": False, "wait": 0})


def resent(m: Mailing, new_subject: str, late: int, after: int, share: float = 0.5) -> None:
    """A campaign resent to all 60, of whom ``late`` of the held back and ``after`` of each arm answer."""
    plan = {"lead_share": 0.0, "batches": 1, "held_share": share, "new_subject": new_subject, "wait": DAY}
    campaigns.write(m.desk, m.campaign, {"plan": plan})
    campaigns.start(m.desk, m.campaign, "test")
    sending.send_due(m.desk, m.tokens)
    set_clock(m.desk, NOW + DAY)
    sending.send_due(m.desk, m.tokens)
    again = ledger.of_campaign(m.desk.store.read(), m.campaign, "resend")
    held = [d["subscriber"] for d in again if d["reason"] == "held back"]
    open_by(m, held[:late], "first", later=HOUR)
    for arm in (0, 1) if new_subject else (0,):
        mine = [d["subscriber"] for d in again if d["state"] == "handed over" and d["arm"] == arm]
        open_by(m, mine[:after], "resend", later=60)


@pytest.mark.parametrize(("late", "after", "verdict"), [(1, 22, "yes"), (10, 10, "no difference shown"), (25, 2, None)])
def test_what_resends_added_over_all_campaigns(folder: Path, late: int, after: int, verdict: str | None) -> None:
    with mailing(folder, 60) as m:
        assert what_works.resends(m.desk) == {
            "campaigns": 0,
            "lines": [],
            "sentence": "Whether the same or a new subject does better here is not known: no resend has tried both by lot.",
        }
        resent(m, "", late, after)
        found = what_works.resends(m.desk)
        (line,) = found["lines"]
        own = {a["arm"]: a for a in results.results(m.desk, m.campaign)["arms"]}
        assert (line["people"], line["answered"]) == (own["Same subject"]["people"], after)
        assert (line["held"], line["held_answered"]) == (own["Held back"]["people"], late)
        assert line["difference"] == pytest.approx(after / line["people"] - late / line["held"])
        assert line["low"] < line["difference"] < line["high"]
        if verdict == "yes":
            assert line["low"] > 0 and line["verdict"] == "yes"
        elif verdict is None:
            assert line["high"] < 0 and line["verdict"] != "yes", "a resend that did worse is never called a gain"
        else:
            assert line["low"] < 0 < line["high"] and line["verdict"] != "yes"
        assert found["campaigns"] == 1 and "no resend has tried both" in found["sentence"]


@pytest.mark.parametrize(
    ("same", "new", "said"),
    [
        ([1000, 50, 0, 0], [1000, 110, 0, 0], "A new subject does better here than the same one: +6.0 points"),
        ([1000, 110, 0, 0], [1000, 50, 0, 0], "The same subject does better here than a new one: -6.0 points"),
        ([100, 10, 0, 0], [100, 12, 0, 0], "no difference is shown here yet: +2.0 points"),
    ],
)
def test_same_or_new_subject_in_words_that_claim_no_more(same: list[int], new: list[int], said: str) -> None:
    assert said in what_works._sentence({"Same subject": same, "New subject": new})


def test_mailings_by_hour_weekday_and_size(desk: Desk) -> None:
    """Twelve Mondays at nine and three Thursdays at half past three in the afternoon; those too small or too young to
    judge are left out."""
    people(desk, 120)
    rows, monday = [], int(datetime(2026, 3, 2, 9, 0, tzinfo=UTC).timestamp())
    for week in range(12):
        rows += [(monday - week * 7 * DAY, Kind.SENT, s, week) for s in range(1, 121)]
        rows += [(monday - week * 7 * DAY + HOUR, Kind.OPENED, s, week) for s in range(1, 31 + week)]
    for week in range(3):
        at = monday + (3 - 7 * week) * DAY - 6 * DAY + int(6.5 * HOUR) - DAY
        rows += [(at, Kind.SENT, s, 50 + week) for s in range(1, 121)]
    rows += [(NOW - HOUR, Kind.SENT, s, 90) for s in range(1, 121)]  # an hour old
    rows += [(NOW - 40 * DAY, Kind.SENT, s, 91) for s in range(1, 20)]  # nineteen people
    tell(desk, rows)
    seen = what_works.see(desk)
    kinds = {k["title"]: {x["words"]: x for x in k["lines"]} for k in seen["kinds"]}
    assert seen["mailings"] == 15
    nine, half_past = kinds["Hour of the day"]["09:00 to 12:00"], kinds["Hour of the day"]["15:00 to 18:00"]
    assert (nine["mailings"], nine["delivered"], half_past["mailings"]) == (12, 1440, 3)
    assert nine["share"] == pytest.approx(sum(range(30, 42)) / 1440)
    assert (nine["least"], nine["most"]) == (30 / 120, 41 / 120) and half_past["share"] == 0
    assert nine["enough"] and half_past["enough"]
    assert set(kinds["Size"]) == {"0 to 1,000 people"} and set(kinds["Weekday"]) >= {"Monday"}
    assert json.dumps(seen), "plain values"


@pytest.mark.parametrize(
    ("plan", "said"),
    [
        ({"held_share": 0.0}, "what the resend adds cannot be told from chance"),
        ({"held_share": 0.2}, r"held back, \d+ sent again. A gain of [\d.]+ points or more would show"),
        ({"held_share": 0.2, "new_subject": "By the water"}, r"\d+ in each arm"),
    ],
)
def test_what_a_resend_s_size_can_show_is_said_before(folder: Path, plan: dict[str, Any], said: str) -> None:
    import re

    with mailing(folder, 200) as m:
        campaigns.write(m.desk, m.campaign, {"plan": {"resend": True, "wait": 2 * DAY, "new_subject": "", **plan}})
        row = campaigns.row_of(m.desk, m.campaign)
        assert "Too few past messages" in planning.preview_plan(m.desk, row)["resend"]
        tell(m.desk, [(NOW - w * 7 * DAY, Kind.SENT, s, w) for w in range(1, 5) for s in range(1, 201)])
        tell(m.desk, [(NOW - w * 7 * DAY + HOUR, Kind.OPENED, s, w) for w in range(1, 5) for s in range(1, 61)])
        tell(m.desk, [(NOW - w * 7 * DAY + 3 * DAY, Kind.OPENED, s, w) for w in range(1, 5) for s in range(61, 81)])
        told = planning.preview_plan(m.desk, row)["resend"]
        assert re.search(said, told), told
        assert told.startswith("About 140 will be due"), "seven in ten had not answered after two days"
