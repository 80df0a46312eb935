"""Whatever happens in whatever order: nobody gets a message twice, nobody waits for ever, every reason is written down."""

from __future__ import annotations

import os
import random
from collections import Counter
from contextlib import suppress
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from openmeadow.core.errors import MeadowError, Refused
from openmeadow.core.events import Kind
from openmeadow.core.moments import DAY, HOUR
from openmeadow.core.sequences.definition import FOLLOW_UP, Begin, Definition, Leave, Step
from openmeadow.net.smtp_client import RelayAway
from openmeadow.services.campaigns import ab_test, campaigns, dispatcher, guardrails, tracking, unconfirmed
from openmeadow.services.models import ChangeIn
from openmeadow.services.sequences import editing, runner, statistics
from openmeadow.services.subscribers import consent
from openmeadow.store import settings
from openmeadow.store.campaigns import campaigns as campaign_table
from openmeadow.store.sequences import enrolments, sequences
from openmeadow.store.subscribers import subscribers as subscriber_table
from tests.conftest import NOW, set_clock
from tests.services.mailing import DOMAIN, HTML, Mailing, deliveries_of, free_port, mailing, ready_campaign
from tests.services.test_sequences import happens, made

STEPS = 60
SEEDS = range(int(os.environ.get("MEADOW_SEEDS", "2")))  # more of them look for longer


class Life:
    """A workspace to which things happen at random; ``done`` is what happened, to be read when a test fails."""

    def __init__(self, m: Mailing, seed: int) -> None:
        self.m, self.lot, self.done = m, random.Random(seed), list[str]()
        self.port = m.workspace.setting("relay_port")
        self.away = False
        self._plain, self.sulks = m.world.refusal, 0.0
        m.world.refusal = self._refusal  # type: ignore[method-assign]

    def _refusal(self, email: str, *rest: Any) -> Any:
        """Some are put off, some refused, at random."""
        if self.lot.random() < self.sulks:
            return self.lot.choice(["451 4.7.1 come back later", "452 4.2.2 full", "550 5.7.1 not from you"])
        return self._plain(email, *rest)

    def relay(self, away: bool) -> None:
        self.away = away
        with self.m.workspace.store.atomic() as db:
            settings.set_setting(db, "relay_port", free_port() if away else self.port)

    def on(self, seconds: int) -> None:
        set_clock(self.m.workspace, self.m.workspace.now() + seconds)

    def work(self) -> None:
        """What the worker does; a relay that is away stops it in its midst."""
        try:
            while runner.tick(self.m.workspace) + dispatcher.send_due(self.m.workspace, self.m.tokens):
                pass
        except RelayAway:
            assert self.away

    def act(self, acts: dict[str, Any]) -> None:
        name = self.lot.choice(list(acts))
        self.done.append(f"{self.m.workspace.now() - NOW}: {name}")
        with suppress(Refused):  # an act that is not possible now changes nothing
            acts[name]()
        if self.lot.random() < 0.6:
            self.work()


def received(m: Mailing) -> Counter[str]:
    return Counter({k: n for k, n in m.world.received.items() if k.startswith("<d")})


@pytest.mark.parametrize("seed", SEEDS)
def test_a_campaign_to_which_anything_happens(folder: Path, seed: int) -> None:
    people = 40
    with mailing(folder, people) as m:
        life, workspace, lot = Life(m, seed), m.workspace, random.Random(seed + 100)
        other = ready_campaign(workspace, "The other")
        for id, plan in (
            (m.campaign, {"pilot_share": 0.2, "batches": 3, "interval": HOUR, "wait": DAY, "second": True}),
            (other, {"pilot_share": 0.0, "batches": 2, "interval": 5 * HOUR, "resend": False, "hours": [8, 20]}),
        ):
            campaigns.write(workspace, id, {"plan": {**plan, "caps": {"Postern": 12}}})
        campaigns.start(workspace, m.campaign, "test")
        campaigns.start(workspace, other, "test")

        def settle() -> None:
            unconfirmed.resolve(workspace, m.campaign, life.lot.random() < 0.5, "test")

        def change() -> None:
            row = campaigns.row_of(workspace, m.campaign)
            ab_test.change(workspace, row, ChangeIn(subject=f"Said at {workspace.now()}"), "test")

        def somebody_opens() -> None:
            for d in deliveries_of(workspace.store.read(), m.campaign, "first"):
                if d.state == "sent" and lot.random() < 0.1:
                    tracking.opened(workspace, d.id, "Reader", "198.51.100.1")

        def somebody_leaves() -> None:
            sent = [d.id for d in deliveries_of(workspace.store.read(), m.campaign, "first") if d.state == "sent"]
            if sent:
                tracking.unsubscribed(workspace, lot.choice(sent))

        def let_go() -> None:
            with workspace.store.atomic() as db:
                subscriber_table.add_suppressions(db, [(lot.randint(1, people), 4, workspace.now(), "test", None)])

        acts = {
            "pause": lambda: campaigns.pause(workspace, m.campaign, "test"),
            "go on": lambda: campaigns.resume(workspace, m.campaign, "test"),
            "go on with the other": lambda: campaigns.resume(workspace, other, "test"),
            "without Postern": lambda: guardrails.without_provider(workspace, m.campaign, "Postern", "test"),
            "an hour": lambda: life.on(HOUR),
            "a night": lambda: life.on(11 * HOUR),
            "the relay goes": lambda: life.relay(True),
            "the relay comes": lambda: life.relay(False),
            "providers sulk": lambda: setattr(life, "sulks", 0.5),
            "providers smile": lambda: setattr(life, "sulks", 0.0),
            "another version": change,
            "somebody opens": somebody_opens,
            "somebody leaves": somebody_leaves,
            "somebody is let go": let_go,
            "doubt is settled": settle,
        }
        for _ in range(STEPS):
            life.act(acts)
            assert max(received(m).values(), default=1) == 1, life.done
        # in the end everything is in order again, and time passes
        life.relay(False)
        life.sulks = 0.0
        for _ in range(45):  # a resend may wait four days for who has had a message that day
            for id in (m.campaign, other):
                with suppress(Refused):
                    campaigns.resume(workspace, id, "test")
            settle()
            life.work()
            life.on(8 * HOUR)
        for id in (m.campaign, other):
            rows = [
                d
                for kind in ("first", "resend", "second resend")
                for d in deliveries_of(workspace.store.read(), id, kind)
            ]
            assert {d.state for d in rows} <= {"sent", "failed", "skipped"}, (life.done, Counter(d.state for d in rows))
            assert all(d.reason for d in rows if d.state != "sent"), life.done
            assert campaigns.row_of(workspace, id).state == "finished", life.done
            firsts = Counter(d.subscriber for d in deliveries_of(workspace.store.read(), id, "first"))
            assert len(firsts) == people and set(firsts.values()) == {1}, "each person once"
        got = received(m)
        sent = {m.tokens.message_id(d.id, i, DOMAIN) for i in (m.campaign, other)
                  for k in ("first", "resend", "second resend") for d in deliveries_of(workspace.store.read(), i, k)
                  if d.state == "sent"}  # fmt: skip
        assert max(got.values()) == 1 and sent <= set(got), (life.done, sent - set(got))


LADDER = Definition(
    (
        Step(1, "message", name="One"),
        Step(2, "condition", of=1, wait=DAY),
        Step(3, "resend", FOLLOW_UP, of=1, subject="One, again"),
        Step(4, "wait", wait=DAY, hour=10, weekdays=(0, 1, 2, 3, 4)),
        Step(5, "message", name="Two"),
        Step(6, "resend", of=5, wait=2 * DAY),
        Step(7, "label", name="welcomed"),
    ),
    Begin(a_day=9, first_day=4, again_after=6 * DAY),
    Leave(booked=True, rule='has label "patron"'),
    0.2,
)


@pytest.mark.parametrize("seed", SEEDS)
def test_a_sequence_to_which_anything_happens(folder: Path, seed: int) -> None:
    people = 30
    with mailing(folder, people) as m:
        life, workspace, lot = Life(m, seed), m.workspace, random.Random(seed + 200)
        with workspace.store.atomic() as db:
            enrolments.put_label(db, "patron", [people], False)
        id = made(m, LADDER)
        editing.start(workspace, id, "test")

        def anybody() -> list[int]:
            return lot.sample(range(1, people + 1), 6)

        def edit() -> None:
            """A step is moved, switched off or on, or taken away with the word where people go."""
            row = sequences.one(workspace.store.read(), id)
            definition = statistics.definition_of(row)
            steps, i = list(definition.steps), lot.randrange(len(definition.steps))
            what = lot.choice(["off", "on", "swap", "wait", "drop"])
            if what == "swap" and i:
                steps[i - 1], steps[i] = steps[i], steps[i - 1]
            elif what == "drop" and len(steps) > 4:
                gone = steps.pop(i)
                going: dict[int, int | str] = {gone.key: lot.choice(["out", *(s.key for s in steps)])}
                editing.write(
                    workspace, id, {"definition": replace(definition, steps=tuple(steps)).json()}, "test", going=going
                )
                return
            elif what == "wait":
                steps[i] = replace(steps[i], wait=lot.choice([0, HOUR, 2 * DAY]) or steps[i].wait)
            else:
                steps[i] = replace(steps[i], off=what == "off")
            editing.write(workspace, id, {"definition": replace(definition, steps=tuple(steps)).json()}, "test")

        def one_inside(act: Any) -> None:
            them = [t.id for t in enrolments.all_inside(workspace.store.read(), id)]
            if them:
                act(workspace, id, lot.choice(them), "test")

        def label() -> None:
            with workspace.store.atomic() as db:
                enrolments.put_label(db, "patron", [lot.randint(1, people)], lot.random() < 0.5)

        def withdraw() -> None:
            purpose = subscriber_table.names(workspace.store.read(), "purposes")[0].id
            consent.said(workspace, lot.randint(1, people), purpose, 2, "preference page")

        def mail_of_a_step(act: Any) -> None:
            mails = sequences.mails(workspace.store.read(), id)
            act(workspace, mails[lot.choice([k for k in mails])].id, "test")

        acts = {
            "add": lambda: editing.add_people(workspace, id, anybody(), "test"),
            "add more": lambda: editing.add_people(workspace, id, anybody(), "test"),
            "pause": lambda: editing.pause(workspace, id, "test"),
            "go on": lambda: editing.resume(workspace, id, "test"),
            "edit": edit,
            "move on": lambda: one_inside(editing.move_on),
            "take out": lambda: one_inside(editing.take_out),
            "a step is paused": lambda: mail_of_a_step(campaigns.pause),
            "a step goes on": lambda: mail_of_a_step(campaigns.resume),
            "somebody opens": lambda: happens(m, id, 1, Kind.OPENED, anybody()[:2]),
            "somebody books": lambda: happens(m, id, 1, Kind.BOOKED, anybody()[:1]),
            "a label": label,
            "somebody withdraws": withdraw,
            "an hour": lambda: life.on(HOUR),
            "a day": lambda: life.on(DAY),
            "the relay goes": lambda: life.relay(True),
            "the relay comes": lambda: life.relay(False),
            "providers sulk": lambda: setattr(life, "sulks", 0.4),
            "providers smile": lambda: setattr(life, "sulks", 0.0),
        }
        for _ in range(STEPS):
            life.act(acts)
            rows = sequences.sent(workspace.store.read(), id)
            once = Counter((d.step, d.kind, d.enrolment) for d in rows)
            assert max(once.values(), default=1) == 1, life.done
            assert max(received(m).values(), default=1) == 1, life.done
            for t in left_stays(m, id):
                assert not t["waiting"], ("something still goes to who left", life.done)
        life.relay(False)
        life.sulks = 0.0
        for _ in range(60):
            for mail in sequences.mails(workspace.store.read(), id).values():
                if mail.state == "paused" and mail.paused_why != editing.PAUSED:
                    campaigns.resume(workspace, mail.id, "test")
            with suppress(MeadowError):
                editing.resume(workspace, id, "test")
            life.work()
            life.on(12 * HOUR)
        seen = statistics.see(workspace, id)
        assert (seen.queued, seen.active) == (0, 0), (life.done, seen.state, seen.paused_why)
        assert all(x.why for x in seen.left), life.done
        db = workspace.store.read()
        assert not [d for d in sequences.sent(db, id) if d.state in ("queued", "deferred", "sending")], life.done
        sent = Counter(d.state for d in sequences.sent(db, id))["sent"]
        from_here = sum(n for k, n in received(m).items())
        assert from_here >= sent > 0, life.done


def left_stays(m: Mailing, id: int) -> list[Any]:
    """Stays that were left, with how many of their messages still wait."""
    sql = (
        "SELECT t.id, (SELECT count(*) FROM deliveries d WHERE d.enrolment = t.id AND d.state IN ('queued', 'deferred')) "
        "AS waiting FROM enrolments t WHERE t.sequence = ? AND t.left_at IS NOT NULL"
    )
    return m.workspace.store.read().execute(sql, (id,)).fetchall()


def test_the_same_message_is_kept_word_for_word(folder: Path) -> None:
    """What each delivery said is known afterwards, though it was changed twice on the way."""
    with mailing(folder, 30) as m:
        plan = {"pilot_share": 0.0, "batches": 3, "interval": HOUR, "resend": False}
        campaigns.write(m.workspace, m.campaign, {"subject": "Said first", "html": HTML, "plan": plan})
        campaigns.start(m.workspace, m.campaign, "test")
        for n, subject in enumerate(("Said first", "Said second", "Said third")):
            set_clock(m.workspace, NOW + n * HOUR)
            if n:
                ab_test.change(m.workspace, campaigns.row_of(m.workspace, m.campaign), ChangeIn(subject=subject), "test")
            dispatcher.send_due(m.workspace, m.tokens)
        rows = deliveries_of(m.workspace.store.read(), m.campaign, "first")
        assert Counter(d.version for d in rows) == {1: 10, 2: 10, 3: 10}
        by_address = {a: box[-1]["subject"] for a, box in m.world.mailboxes.items() if a.startswith("p")}
        words = {1: "Said first", 2: "Said second", 3: "Said third"}
        emails = {r["id"]: r["email"] for r in m.workspace.store.read().execute("SELECT id, email FROM subscribers")}
        assert all(by_address[emails[d.subscriber]] == words[d.version] for d in rows)
        assert campaign_table.one(m.workspace.store.read(), m.campaign).version == 3
