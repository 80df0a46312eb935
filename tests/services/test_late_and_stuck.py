"""What is late, put off or cannot go on: nobody waits for ever, allowed hours hold, one plan's trouble stays its own."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import pytest

from openmeadow.core.consent.eligibility import SUPPRESSED_INACTIVE
from openmeadow.core.errors import Refused
from openmeadow.core.moments import DAY, HOUR
from openmeadow.core.sequences.definition import Begin, Definition, Leave, Step
from openmeadow.net.smtp_client import RelayAway
from openmeadow.services.campaigns import campaigns, dispatcher, last_check, schedule
from openmeadow.services.segments import segments
from openmeadow.services.sequences import editing, runner, simulation, statistics, triggers, validation
from openmeadow.services.today import overview
from openmeadow.store import settings
from openmeadow.store.campaigns import batches as batch_table
from openmeadow.store.campaigns import campaigns as campaign_table
from openmeadow.store.campaigns import deliveries
from openmeadow.store.segments import segments as segment_table
from openmeadow.store.sequences import enrolments, sequences
from openmeadow.store.subscribers import subscribers as subscriber_table
from tests.conftest import NOW, set_clock
from tests.services.mailing import HTML, Mailing, deliveries_of, free_port, mailing, ready_campaign
from tests.services.test_sending import states
from tests.services.test_sequences import LADDER, got, left, made, step_on, until

ONE = {"pilot_share": 0.0, "batches": 1, "resend": False}


def plan(m: Mailing, **values: Any) -> None:
    campaigns.write(m.workspace, m.campaign, {"plan": {**ONE, **values}})


def send(m: Mailing, at: int | None = None) -> int:
    if at is not None:
        set_clock(m.workspace, at)
    return dispatcher.send_due(m.workspace, m.tokens)


def put_off_once(m: Mailing, people: set[str]) -> None:
    """The relay puts the first message for some people off."""
    plain, seen = m.world.refusal, set[str]()

    def refusal(email: str, *rest: Any) -> Any:
        if email in people and email not in seen:
            seen.add(email)
            return "451 4.7.1 come back later"
        return plain(email, *rest)

    m.world.refusal = refusal  # type: ignore[method-assign]


def setting(m: Mailing, name: str, value: object) -> None:
    with m.workspace.store.atomic() as db:
        settings.set_setting(db, name, value)


@pytest.mark.parametrize("trouble", ["paused", "relay away"])
def test_a_second_try_that_meets_trouble_is_not_lost(folder: Path, trouble: str) -> None:
    """Whose second try falls due while the plan is held, or the relay is away, gets it afterwards; a batch that is gone
    and a plan that is finished do not forget them."""
    with mailing(folder, 20) as m:
        plan(m)
        put_off_once(m, {f"p{i}@postern.example" for i in (1, 3, 5)})
        campaigns.start(m.workspace, m.campaign, "test")
        send(m)
        assert states(m) == {"sent": 17, "deferred": 3}
        assert campaigns.row_of(m.workspace, m.campaign).state == "finished", "its only batch is gone"
        port = m.workspace.setting("relay_port")
        if trouble == "paused":
            with m.workspace.store.atomic() as db:
                campaign_table.update(db, m.campaign, {"state": "paused", "paused_why": "a look"})
            send(m, NOW + 2 * HOUR)
            assert deliveries.next_due(m.workspace.store.read()) is None, "a held plan moves no clock"
            campaigns.resume(m.workspace, m.campaign, "test")
        else:
            setting(m, "relay_port", free_port())
            with pytest.raises(RelayAway, match="does not respond"):
                send(m, NOW + 2 * HOUR)
            setting(m, "relay_port", port)
        send(m)
        assert states(m) == {"sent": 20}
        assert campaigns.row_of(m.workspace, m.campaign).state == "finished"


def test_a_batch_that_is_late_waits_for_the_allowed_hours(folder: Path) -> None:
    with mailing(folder, 12) as m:
        zone = ZoneInfo("America/Bogota")
        setting(m, "time_zone", zone.key)
        plan(m, hours=[9, 17], weekdays=[0, 1, 2, 3, 4])
        first = schedule.preview_plan(m.workspace, campaigns.row_of(m.workspace, m.campaign)).batches[0].due_at
        campaigns.start(m.workspace, m.campaign, "test")
        campaigns.pause(m.workspace, m.campaign, "test")
        friday_night = datetime(2026, 3, 13, 22, 0, tzinfo=zone)
        set_clock(m.workspace, int(friday_night.timestamp()))
        campaigns.resume(m.workspace, m.campaign, "test")
        assert first < m.workspace.now() and send(m) == 0, "not at ten at night, though its moment has passed"
        due = datetime.fromtimestamp(deliveries.next_due(m.workspace.store.read()) or 0, UTC).astimezone(zone)
        assert (due.weekday(), due.hour) == (0, 9), "Monday morning"
        send(m, int(due.timestamp()))
        assert states(m) == {"sent": 12}


def test_nothing_goes_out_after_the_last_moment(folder: Path) -> None:
    with mailing(folder, 20) as m:
        plan(m, no_later_than=NOW + HOUR)
        put_off_once(m, {"p1@postern.example"})
        put_off_once(m, {"p3@postern.example"})
        campaigns.start(m.workspace, m.campaign, "test")
        campaigns.pause(m.workspace, m.campaign, "test")
        set_clock(m.workspace, NOW + 45 * 60)
        with m.workspace.store.atomic() as db:
            rest = [d.id for d in deliveries_of(db, m.campaign, "first") if d.subscriber > 10]
            for id in rest:
                deliveries.mark(db, id, deliveries.DEFERRED, NOW, "frequency limit", NOW + 2 * HOUR)
        campaigns.resume(m.workspace, m.campaign, "test")
        send(m)
        assert states(m) == {"sent": 8, "failed": 2, "deferred": 10}
        send(m, NOW + 3 * HOUR)
        assert states(m) == {"sent": 8, "failed": 2, "skipped": 10}
        why = Counter(d.reason for d in deliveries_of(m.workspace.store.read(), m.campaign, "first"))
        assert why[last_check.TOO_LATE] == 10
        assert sum(n for w, n in why.items() if w and w.startswith("deferred until the end date")) == 2


@pytest.mark.parametrize(
    ("values", "again"),
    [
        ({"wait": 36 * HOUR, "hours": [9, 17]}, [(0, 9)]),  # Saturday night after 36 hours; next at nine on Monday
        ({"wait": 2 * DAY, "hours": [0, 24]}, [(0, 0)]),
        ({"wait": 3 * DAY, "hours": [0, 24], "no_later_than": NOW + 2 * DAY}, []),
        ({"wait": 4 * DAY, "zones": True, "hours": [0, 24]}, [(0, 9)]),
    ],
)
def test_a_resend_keeps_to_weekdays_hours_and_the_last_moment(
    folder: Path, values: dict[str, Any], again: list[tuple[int, int]]
) -> None:
    """Thursday at 09:42; weekends are not allowed."""
    with mailing(folder, 6) as m:
        plan(m, resend=True, weekdays=[0, 1, 2, 3, 4], **values)
        shown = schedule.preview_plan(m.workspace, campaigns.row_of(m.workspace, m.campaign)).batches
        campaigns.start(m.workspace, m.campaign, "test")
        due = [b.due_at for b in batch_table.batches(m.workspace.store.read(), m.campaign) if b.kind == "resend"]
        assert due == [b.again_at for b in shown if b.again_at], "what was shown is what is planned"
        assert [(d.weekday(), d.hour) for d in (datetime.fromtimestamp(t, UTC) for t in due)] == again


def test_a_last_moment_before_the_first_batch_is_said(folder: Path) -> None:
    with mailing(folder, 6) as m:
        plan(m, start=NOW + 30, no_later_than=NOW + 60, hours=[20, 21])
        note = schedule.preview_plan(m.workspace, campaigns.row_of(m.workspace, m.campaign)).note
        assert schedule.NO_ROOM in note
        with pytest.raises(Refused, match="The end date is before the first batch"):
            campaigns.start(m.workspace, m.campaign, "test")
        assert campaigns.row_of(m.workspace, m.campaign).state == "draft"


def test_a_plan_that_cannot_go_on_holds_itself_and_no_other(folder: Path) -> None:
    """A part is shown by a segment; the segment cannot be removed, and where it is gone all the same only this plan
    waits, and says why."""
    with mailing(folder, 10) as m:
        segments.save(m.workspace, "Balcony", 'permitted for "News"', "test")
        row = segment_table.named(m.workspace.store.read(), "Balcony")
        part = """{% if matches('in segment "Balcony"') %}<p>For you</p>{% endif %}"""
        campaigns.write(m.workspace, m.campaign, {"html": HTML + part, "plan": ONE})
        other = ready_campaign(m.workspace, "The other")
        campaigns.write(m.workspace, other, {"plan": ONE})
        assert segments.users(m.workspace, row) == ["a part of “Harbour nights”"]
        with pytest.raises(Refused, match="a part of “Harbour nights”"):
            segments.remove(m.workspace, row.id, "test")
        campaigns.start(m.workspace, m.campaign, "test")
        campaigns.start(m.workspace, other, "test")
        with m.workspace.store.atomic() as db:
            segment_table.remove(db, row.id)
            subscriber_table.facts_changed(db)
        send(m)
        held = campaigns.row_of(m.workspace, m.campaign)
        assert held.state == "paused" and "Balcony" in held.paused_why
        rows = deliveries_of(m.workspace.store.read(), other, "first")
        assert Counter(d.state for d in rows) == {"sent": 10}
        segments.save(m.workspace, "Balcony", "band is Strong", "test")
        campaigns.resume(m.workspace, m.campaign, "test")
        send(m, NOW + 2 * DAY)
        assert campaigns.row_of(m.workspace, m.campaign).state == "finished"


def test_a_sequence_that_cannot_go_on_pauses_itself_and_no_other(folder: Path) -> None:
    with mailing(folder, 12) as m:
        segments.save(m.workspace, "Balcony", "band is Strong", "test")
        asks = Step(2, "condition", asks="rule", rule='in segment "Balcony"', wait=DAY, no="end")
        stuck = made(m, Definition((Step(1, "message"), asks, Step(3, "message"))), "Stuck")
        well = made(m, Definition((Step(1, "message"), Step(2, "wait", wait=DAY), Step(3, "label", name="came"))), "Well")
        row = segment_table.named(m.workspace.store.read(), "Balcony")
        with pytest.raises(Refused, match="the sequence “Stuck”"):
            segments.remove(m.workspace, row.id, "test")
        for id, people in ((stuck, [1, 2]), (well, [3, 4])):
            editing.start(m.workspace, id, "test")
            editing.add_people(m.workspace, id, people, "test")
        step_on(m)
        with m.workspace.store.atomic() as db:
            segment_table.remove(db, row.id)
            subscriber_table.facts_changed(db)
        until(m, NOW + 2 * DAY)
        seen = statistics.see(m.workspace, stuck)
        assert seen.state == "paused" and "Balcony" in seen.paused_why and seen.active == 2
        assert {"Stuck was paused automatically."} == {
            d.title for d in overview.decisions(m.workspace, m.workspace.view()) if d.kind == "Paused"
        }
        assert sequences.passages(m.workspace.store.read(), well) == {1: 2, 2: 2, 3: 2}, "the other went on"
        with pytest.raises(Refused, match=r"must be complete before it can resume.*Balcony"):
            editing.resume(m.workspace, stuck, "test")
        segments.save(m.workspace, "Balcony", "joined more than 1 days ago", "test")
        assert editing.resume(m.workspace, stuck, "test").late == 2
        step_on(m)
        assert got(m, stuck)[3, "first"] == Counter({"sent": 2})
        assert statistics.see(m.workspace, stuck).paused_why == ""
        with m.workspace.store.atomic() as db:
            sequences.pause(db, stuck, editing.PAUSED, "stuck again")
        editing.end(m.workspace, stuck, "test")
        assert statistics.held(m.workspace) == [], "what has ended asks for nothing"


@pytest.mark.parametrize("by", ["let go by hand", "a rule that comes to hold"])
def test_who_has_a_reason_to_leave_leaves_before_anything_is_due(folder: Path, by: str) -> None:
    """No event says so, and their next step is days away."""
    with mailing(folder, 12) as m:
        id = made(m, replace(LADDER, leave=Leave(rule='has label "patron"')))
        with m.workspace.store.atomic() as db:
            enrolments.put_label(db, "patron", [12], False)
        editing.start(m.workspace, id, "test")
        editing.add_people(m.workspace, id, [1, 2, 3], "test")
        step_on(m)
        with m.workspace.store.atomic() as db:
            if by == "let go by hand":
                subscriber_table.add_suppressions(db, [(2, SUPPRESSED_INACTIVE, m.workspace.now(), "a word", None)])
            else:
                enrolments.put_label(db, "patron", [2], False)
        triggers.forget(m.workspace, id)
        runner.tick(m.workspace)
        assert left(m, id) == {"inactive" if by == "let go by hand" else 'has label "patron"': 1}
        assert statistics.see(m.workspace, id).active == 2


@pytest.mark.parametrize(
    ("begin", "said"),
    [
        (Begin("joins a list", "Nowhere"), "The list “Nowhere”"),
        (Begin("enters a segment", "Nobody"), "The segment “Nobody”"),
        (Begin("confirms", "Gossip"), "The purpose “Gossip”"),
        (Begin("a date", "born"), "The field “born”"),
        (Begin("joins a list", "foyer"), ""),
        (Begin("gets a label", "not yet put on anybody"), ""),
    ],
)
def test_a_beginning_names_something_that_is_there(folder: Path, begin: Begin, said: str) -> None:
    with mailing(folder, 5) as m:
        id = made(m, replace(LADDER, begin=begin))
        lacks = [x.sentence for x in validation.missing(m.workspace, id) if "of its trigger does not exist" in x.sentence]
        assert lacks == ([f"{said} of its trigger does not exist."] if said else [])


def test_a_person_waits_by_their_own_clock(folder: Path) -> None:
    """Ten in the morning where they are: on the way, and in the walk-through."""
    definition = Definition((Step(1, "wait", hour=10, own_zone=True), Step(2, "message")))
    with mailing(folder, 4) as m:
        with m.workspace.store.atomic() as db:
            db.execute("UPDATE subscribers SET time_zone = 'Asia/Tokyo' WHERE id = 1")
            subscriber_table.people_changed(db)
        id = made(m, definition)
        editing.start(m.workspace, id, "test")
        editing.add_people(m.workspace, id, [1, 2], "test")
        step_on(m)
        due = {t.subscriber: t.due_at for t in enrolments.all_inside(m.workspace.store.read(), id)}
        hours = {s: datetime.fromtimestamp(at, UTC).astimezone(ZoneInfo(z)).hour for (s, at), z in
                 zip(sorted(due.items()), ("Asia/Tokyo", "UTC"), strict=True)}  # fmt: skip
        assert hours == {1: 10, 2: 10} and due[1] != due[2]
        walked = simulation.see(m.workspace, id, "never", "p0@saltmere.example").days
        assert [x.at for x in walked if x.what == "mail"] == [due[1]]


def test_the_day_has_every_pass_and_who_is_due_in_sequences(folder: Path) -> None:
    """From midnight to midnight of the workspace's zone; a second resend is a lane like any other."""
    with mailing(folder, 20) as m:
        setting(m, "time_zone", "Asia/Kolkata")
        plan(m, resend=True, second=True, wait=HOUR, holdout_share=0.0, new_subject="")
        campaigns.start(m.workspace, m.campaign, "test")
        id = made(m, Definition((Step(1, "message"), Step(2, "wait", wait=2 * HOUR), Step(3, "message"))))
        editing.start(m.workspace, id, "test")
        editing.add_people(m.workspace, id, [1, 2, 3], "test")
        step_on(m)
        begin, end = overview.day(m.workspace)
        local = datetime.fromtimestamp(begin, UTC).astimezone(ZoneInfo("Asia/Kolkata"))
        assert local.hour == 0 and end - begin == DAY and begin <= NOW < end
        day_rows = {x.name: x for x in overview.day_rows(m.workspace)}
        assert {"Harbour nights", "Harbour nights, resend", "Harbour nights, second resend", "Welcome"} == set(day_rows)
        assert (day_rows["Welcome"].people, day_rows["Welcome"].sent) == (3, 3)
        assert day_rows["Welcome"].due_at <= NOW + 2 * HOUR < day_rows["Welcome"].due_at + HOUR
