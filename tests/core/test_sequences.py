"""The step machine: whoever is inside gets each step at most once, in order, and nothing after leaving."""

from __future__ import annotations

from dataclasses import replace
from datetime import datetime, timedelta
from zoneinfo import ZoneInfo

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from openmeadow.core.errors import Refused
from openmeadow.core.moments import DAY, HOUR
from openmeadow.core.sequences import admission, state_machine
from openmeadow.core.sequences.definition import (
    END,
    EVERYONE,
    FOLLOW_UP,
    FOLLOW_UP_PATH,
    ON,
    Begin,
    Definition,
    Step,
    lacks,
    moved,
    read,
)
from openmeadow.core.sequences.simulation import walk
from openmeadow.core.sequences.state_machine import FINISHED, MAILED, WAITS, Moved
from tests.conftest import NOW

ZONE = ZoneInfo("Europe/Copenhagen")
FAR_EAST = ZoneInfo("Asia/Tokyo")


def clock_of(step: Step) -> ZoneInfo:
    return FAR_EAST if step.own_zone else ZONE


WELCOME = Definition(
    (
        Step(1, "message", name="First evening"),
        Step(2, "condition", of=1, wait=3 * DAY),
        Step(3, "resend", FOLLOW_UP, of=1, subject="Again"),
        Step(4, "wait", wait=2 * DAY),
        Step(5, "message", name="A good seat"),
        Step(6, "condition", of=5, wait=3 * DAY, no=FOLLOW_UP_PATH),
        Step(7, "label", FOLLOW_UP, name="quiet start"),
        Step(8, "end", FOLLOW_UP, meets=False),
        Step(9, "label", name="welcomed"),
        Step(10, "end"),
    )
)


def run(definition: Definition, answers: set[int], now: int = NOW) -> list[tuple[int, str]]:
    """(day, what) of somebody who answers the messages given."""
    out, zero = [], now

    def ask(step: Step) -> bool:
        return step.of in answers

    passed: list[int] = []
    m = state_machine.enter(definition, now, ask, clock_of)
    while True:
        passed += m.passed
        out += [((now - zero) // DAY, f"{a.kind} {a.name}") for a in m.acts]
        if m.state == FINISHED:
            return out
        if m.state == WAITS:
            now = m.due_at
            m = state_machine.due(definition, m.step, m.path, now, ask, clock_of, passed)
        else:
            out.append(((now - zero) // DAY, f"mail {m.step}"))
            m = state_machine.mailed(definition, m.step, m.path, now, ask, clock_of, passed)


@pytest.mark.parametrize(
    ("hours", "at", "goes"),
    [((8, 20), "07:59", "08:00"), ((8, 20), "12:30", "12:30"), ((8, 20), "20:00", "+08:00"), ((0, 24), "00:01", "00:01")],
)
def test_messages_go_out_within_the_hours(hours: tuple[int, int], at: str, goes: str) -> None:
    zone, steps = ZoneInfo("Europe/Lisbon"), (Step(1, "message"),)
    day = datetime(2026, 3, 12, tzinfo=zone)

    def moment(text: str) -> int:
        hour, minute = map(int, text.lstrip("+").split(":"))
        return int((day.replace(hour=hour, minute=minute) + timedelta(days=text.startswith("+"))).timestamp())

    first = state_machine.enter(Definition(steps, hours=hours), moment(at), lambda _: False, lambda _: zone)
    if goes == at:
        assert (first.state, first.step) == ("mailed", 1)
        return
    assert (first.state, first.step, first.due_at) == ("waits", 1, moment(goes))
    then = state_machine.due(
        Definition(steps, hours=hours), 1, first.path, first.due_at, lambda _: False, lambda _: zone, set()
    )
    assert (then.state, then.step) == ("mailed", 1)


@pytest.mark.parametrize(
    ("answers", "course"),
    [
        ({1, 5}, [(0, "mail 1"), (5, "mail 5"), (8, "label welcomed")]),
        ({5}, [(0, "mail 1"), (3, "mail 3"), (5, "mail 5"), (8, "label welcomed")]),
        (set(), [(0, "mail 1"), (3, "mail 3"), (5, "mail 5"), (8, "label quiet start")]),
    ],
)
def test_a_welcome_in_two_lanes(answers: set[int], course: list[tuple[int, str]]) -> None:
    assert run(WELCOME, answers) == course
    assert {k: (a // DAY, b // DAY) for k, (a, b) in state_machine.days(WELCOME).items()} == {
        1: (0, 0), 2: (0, 0), 3: (3, 3), 4: (3, 3), 5: (5, 5), 6: (5, 5), 7: (8, 8), 8: (8, 8), 9: (8, 8), 10: (8, 8),
    }  # fmt: skip


def test_a_repeat_without_a_question_passes_over_whoever_answered() -> None:
    short = Definition(
        (Step(1, "message"), Step(2, "resend", of=1, wait=DAY), Step(3, "message", off=True), Step(4, "message"))
    )
    assert run(short, {1}) == [(0, "mail 1"), (1, "mail 4")]
    assert run(short, set()) == [(0, "mail 1"), (1, "mail 2"), (1, "mail 4")]


def steps() -> st.SearchStrategy[Definition]:
    """Any definition at all, complete or not."""

    @st.composite
    def definition(draw: st.DrawFn) -> Definition:
        n = draw(st.integers(1, 9))
        made = []
        for key in range(1, n + 1):
            to = st.sampled_from([ON, FOLLOW_UP_PATH, END, *(str(k) for k in range(1, n + 1))])
            made.append(
                Step(
                    key,
                    draw(st.sampled_from(["message", "resend", "condition", "wait", "label", "end", "consent request"])),
                    draw(st.sampled_from([1, 1, 2])),
                    draw(st.booleans()),
                    draw(st.integers(0, 5)) == 0,
                    wait=draw(st.sampled_from([0, HOUR, 3 * DAY])),
                    hour=draw(st.sampled_from([None, None, 10])),
                    weekdays=draw(st.sampled_from([(), (), (0, 2)])),
                    of=draw(st.integers(0, n)),
                    yes=draw(to),
                    no=draw(to),
                )
            )
        return Definition(tuple(made))

    return definition()


EVENTS = st.lists(
    st.tuples(st.sampled_from(["due", "mailed", "twice", "back", "leave", "move", "off", "remove"]), st.integers(0, 9)),
    max_size=40,
)


@given(steps(), EVENTS, st.sets(st.integers(1, 9)))
def test_no_order_of_events_sends_a_step_twice_or_after_leaving(
    definition: Definition, events: list[tuple[str, int]], answers: set[int]
) -> None:
    """Due moments, sends, each told twice, a clock set back, edits under way, and leaving, in any order."""
    now, passed, sent, left = NOW, list[int](), list[int](), False

    def ask(step: Step) -> bool:
        return step.of in answers

    def take(m: Moved) -> Moved:
        assert not left and len(set(m.passed)) == len(m.passed) and not set(m.passed) & set(passed)
        passed.extend(m.passed)
        if m.state == MAILED:
            assert m.step not in sent and m.step not in passed, "a step is sent once"
            sent.append(m.step)
        if m.state == WAITS:
            assert m.due_at >= now and m.step not in passed
        return m

    at = take(state_machine.enter(definition, now, ask, clock_of))
    for event, which in events:
        if event == "leave":
            left = True
        if left or at.state == FINISHED:
            break
        if event == "move":
            definition = moved(definition, 1 + which % 9, which) if definition.step(1 + which % 9) else definition
        elif event == "off":
            definition = replace(
                definition, steps=tuple(replace(s, off=not s.off) if s.key == which else s for s in definition.steps)
            )
        elif event == "remove" and which != at.step:  # who stands there is moved first
            definition = replace(definition, steps=tuple(s for s in definition.steps if s.key != which))
        elif event == "back":
            now -= DAY
        elif event == "due" and at.state == WAITS:
            now = max(now, at.due_at)
            at = take(state_machine.due(definition, at.step, at.path, now, ask, clock_of, passed))
        elif event in ("mailed", "twice") and at.state == MAILED:
            at = take(state_machine.mailed(definition, at.step, at.path, now, ask, clock_of, passed))
    assert len(sent) == len(set(sent))


@pytest.mark.parametrize(
    ("step", "after"),
    [
        (Step(1, "wait", wait=2 * DAY), 2 * DAY),
        (Step(1, "wait", hour=10), 18 * 60),  # 10:42 here: tomorrow at ten is 23 h 18 min away
        (Step(1, "wait", hour=12), HOUR + 18 * 60),
        (Step(1, "wait", weekdays=(3,)), 0),  # it is a Thursday
        (Step(1, "wait", weekdays=(0,), hour=9), 3 * DAY + 22 * HOUR + 18 * 60),
    ],
)
def test_waits_end_at_their_hour(step: Step, after: int) -> None:
    at = state_machine.when(step, NOW, ZONE)
    assert at - NOW == (after if step.hour != 10 else 23 * HOUR + after)


def test_a_wait_over_the_change_of_clocks_ends_at_its_hour() -> None:
    saturday = 1_774_692_000  # 28 Mar 2026, 11:00 here; the clocks change in the night
    assert state_machine.when(Step(1, "wait", hour=10), saturday, ZONE) == saturday + 22 * HOUR


@pytest.mark.parametrize(
    ("definition", "said"),
    [
        (Definition(), "Add a message"),
        (Definition((Step(1, "message"),), Begin("joins a list")), "Choose the list"),
        (Definition((Step(1, "message"), Step(2, "resend", of=3))), "Choose an earlier message"),
        (
            Definition((Step(1, "message"), *(Step(k, "resend", of=1, wait=DAY) for k in (2, 3, 4)))),
            "resent more than 2 times",
        ),
        (Definition((Step(1, "message"), Step(2, "condition", asks="rule", no=END))), "needs a rule"),
        (Definition((Step(1, "message"), Step(2, "condition", of=1, no="1"))), "not below"),
        (Definition((Step(1, "message"), Step(2, "condition", of=1))), "follow-up path is empty"),
        (Definition((Step(1, "message"), Step(2, "wait", off=True))), "Set a wait time. (It is disabled"),
        (Definition((Step(1, "message"), Step(2, "consent request"))), "Choose the purposes"),
    ],
)
def test_everything_missing_is_said(definition: Definition, said: str) -> None:
    assert any(said in x.sentence for x in lacks(definition)), lacks(definition)


def test_nothing_is_missing_in_a_whole_one_and_json_keeps_it() -> None:
    assert lacks(WELCOME) == [] and read(WELCOME.json()) == WELCOME
    for bad in ({"steps": [{"key": 1, "kind": "dance"}]}, {"steps": [{"key": 1}]}, {"begin": {"on": "full moon"}}):
        with pytest.raises(Refused):
            read(bad)
    with pytest.raises(Refused, match="key of its own"):
        read({"steps": [{"key": 1, "kind": "wait"}, {"key": 1, "kind": "wait"}]})


@given(st.integers(0, 300), st.integers(0, 90), st.integers(0, 90), st.integers(0, 20), st.booleans(), st.integers(0, 40))
def test_intake_keeps_its_limits(n: int, a_day: int, first: int, provider: int, lot: bool, already: int) -> None:
    begin = Begin(a_day=a_day, first_day=first, a_provider=provider, random=lot)
    who, of = np.arange(1, n + 1, dtype=np.int64), np.arange(n) % 3
    got = admission.begins(begin, who, of, 7, admission.room(begin, already, False), {0: 5})
    limit = first or a_day
    assert got.sum() <= (max(0, limit - already) if limit else n)
    if provider:
        assert max(np.bincount(of[got], minlength=3) + [5, 0, 0]) <= max(provider, 5)
    elif limit:
        assert got.sum() == min(n, max(0, limit - already)), "no place stays empty"
    if not lot and not provider:
        assert not (np.diff(got.astype(int)) > 0).any(), "first come, first served"
    assert sum(admission.portions(n, begin)) == n or not a_day


@given(steps(), st.sets(st.integers(1, 9)))
def test_where_one_comes_lies_within_the_days_that_are_shown(definition: Definition, answered: set[int]) -> None:
    """Whatever is answered, each step is reached between its first and its last day; where nobody comes nothing is shown,
    and nobody gets a message twice or after a step that ends it."""
    plain = replace(definition, steps=tuple(replace(s, hour=None, weekdays=()) for s in definition.steps))
    seen, days = walk(plain, NOW, lambda step: step.key in answered, clock_of), state_machine.days(plain)
    assert seen[-1].what == "ends" and [x.at for x in seen] == sorted(x.at for x in seen)
    mails = [x.step for x in seen if x.what == "mail"]
    assert len(mails) == len(set(mails))
    for x in seen[:-1]:
        step = plain.step(x.step)
        assert step is not None and not step.off, "what is switched off does nothing"
        before = step.wait if step.kind in ("condition", "resend") and x.what in ("asked", "mail") else 0
        first, last = days[x.step]
        assert first <= x.at - NOW - before <= last, (x, days[x.step])


def test_each_step_waits_by_its_own_clock() -> None:
    """Ten in the morning: of the workspace where the step says nothing, of the person where it goes by their zone."""
    at_home, at_theirs = Step(1, "wait", hour=10), Step(2, "wait", hour=10, own_zone=True)
    evening = NOW - NOW % DAY + 20 * HOUR
    for first, then in ((at_home, at_theirs), (at_theirs, at_home)):
        definition = Definition((first, then, Step(3, "message")))
        m = state_machine.enter(definition, evening, lambda _: False, clock_of)
        assert m.due_at == state_machine.when(first, evening, clock_of(first))
        m = state_machine.due(definition, first.key, EVERYONE, m.due_at, lambda _: False, clock_of, ())
        assert (m.step, m.due_at) == (
            then.key,
            state_machine.when(then, state_machine.when(first, evening, clock_of(first)), clock_of(then)),
        )


def test_portions_and_what_piled_up() -> None:
    assert admission.portions(6000, Begin(a_day=1900, first_day=300)) == [300, 1900, 1900, 1900]
    assert state_machine.spread([NOW - 5, NOW - 9, NOW + 50, NOW - 1], NOW, 2) == [NOW, NOW, NOW + 50, NOW + DAY]
