"""What a sequence's page says, against a count by hand from its ledger and the raw events."""

from __future__ import annotations

import random
from collections import Counter, defaultdict
from pathlib import Path
from typing import Any

import pytest

from openmeadow.core.events import Kind
from openmeadow.core.moments import DAY
from openmeadow.core.sequences.definition import FOLLOW_UP, Begin, Definition, Leave, Step
from openmeadow.services.sequences import editing, statistics
from openmeadow.store.sequences import sequences
from tests.conftest import NOW, set_clock
from tests.services.mailing import Mailing, mailing
from tests.services.test_sequences import happens, made, step_on

LADDER = Definition(
    (
        Step(1, "message", name="One"),
        Step(2, "condition", of=1, wait=2 * DAY),
        Step(3, "resend", FOLLOW_UP, of=1, subject="One, again"),
        Step(4, "wait", wait=DAY),
        Step(5, "message", name="Two"),
        Step(6, "resend", of=5, wait=2 * DAY),
        Step(7, "label", name="welcomed"),
    ),
    Begin(a_day=40),
    Leave(booked=True),
    0.3,
)
ANSWERS = (Kind.OPENED, Kind.CLICKED, Kind.REPLIED, Kind.BOOKED)


def lived(m: Mailing, id: int, seed: int) -> None:
    """Two weeks, with answers at random."""
    lot = random.Random(seed)
    for day in range(15):
        set_clock(m.workspace, NOW + day * DAY)
        step_on(m)
        set_clock(m.workspace, NOW + day * DAY + 7200)
        for step in (1, 5):
            got = {
                d.subscriber for d in sequences.sent(m.workspace.store.read(), id) if d.step == step and d.state == "sent"
            }
            for kind, chance in ((Kind.OPENED, 0.12), (Kind.CLICKED, 0.04), (Kind.BOOKED, 0.01)):
                some = sorted(s for s in got if lot.random() < chance)
                if some:
                    happens(m, id, step, kind, some)
        step_on(m)


def answers_of(m: Mailing, id: int, step: int) -> dict[int, list[tuple[int, Kind]]]:
    message = sequences.mails(m.workspace.store.read(), id)[step].message
    out: dict[int, list[tuple[int, Kind]]] = defaultdict(list)
    for e in m.workspace.store.read().execute(
        "SELECT at, kind, subscriber FROM events WHERE message = ? ORDER BY at", (message,)
    ):
        if Kind(e["kind"]) in ANSWERS:
            out[e["subscriber"]].append((e["at"], Kind(e["kind"])))
    return out


@pytest.mark.parametrize("seed", range(3))
def test_the_ladder_s_figures_are_what_happened(folder: Path, seed: int) -> None:
    people = 50
    with mailing(folder, people) as m:
        id = made(m, LADDER)
        editing.start(m.workspace, id, "test")
        editing.add_people(m.workspace, id, list(range(1, people + 1)), "test")
        lived(m, id, seed)
        seen, db = statistics.see(m.workspace, id), m.workspace.store.read()
        figures = {s.key: s.figures for s in seen.steps}
        sent: dict[tuple[int, str], dict[int, Any]] = defaultdict(dict)
        held: dict[int, dict[int, int]] = defaultdict(dict)
        for d in sequences.sent(db, id):
            if d.state == "sent":
                sent[d.step, d.kind][d.subscriber] = d.at
            elif d.reason == "holdout":
                held[d.step][d.subscriber] = d.at
        for message, repeat in ((1, 3), (5, 6)):
            acts, first, again = answers_of(m, id, message), sent[message, "first"], sent[message, "resend"]
            assert figures[message].sent == len(first) and figures[repeat].sent == len(again)
            said = figures[message].expected
            assert figures[message].of == len(first) and figures[repeat].expected is None
            assert (said is None) == (not first) and (said is None or 0 < said < len(first))
            # a message's own figures are those before it was repeated to somebody; a repeat's those from then on
            before = {s: [a for a in acts[s] if at <= a[0] < again.get(s, 1 << 60)] for s, at in first.items()}
            after = {s: [a for a in acts[s] if a[0] >= at] for s, at in again.items()}
            for step, mine in ((message, before), (repeat, after)):
                assert figures[step].opened == sum(bool(a) for a in mine.values()), step
                assert figures[step].clicked == sum(any(k != Kind.OPENED for _, k in a) for a in mine.values()), step
            added = next(a for a in seen.added if a.step == message)
            ever = {s for s in first if acts[s]}
            by_repeat = {s for s in ever if s in again and acts[s][0][0] >= again[s]}
            assert (added.together, added.again) == (len(ever), len(by_repeat)), message
            assert added.first == len(ever) - len(by_repeat)
            assert not set(again) & set(held[message]), "nobody held back gets the repeat"
        kept = sum(len(h) for h in held.values())
        compared = seen.compared
        assert compared is None if not kept else compared.holdout == kept
        if compared:
            late = sum(
                any(a[0] >= at for a in answers_of(m, id, k)[s][:1]) for k, h in held.items() for s, at in h.items()
            )
            assert compared.holdout_engaged == late
            assert compared.low <= compared.points <= compared.high
        # everybody is somewhere, once: inside, at the end, or left with a reason
        why = Counter({x.why: x.people for x in seen.left})
        assert seen.active + seen.finished + sum(why.values()) + seen.queued == people
        assert set(why) <= {"booked"} and sum(f.here for f in figures.values()) == seen.active
        passed = sequences.passages(db, id)
        assert {k: f.passed for k, f in figures.items() if f.passed} == passed
        assert passed.get(7, 0) == seen.finished, "whoever came to the end passed the last step"
