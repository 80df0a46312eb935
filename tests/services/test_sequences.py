"""Sequences as they run: over days, per person, once each, beside campaigns."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace
from pathlib import Path

import pytest

from openmeadow.core.errors import Refused, RuleMistake
from openmeadow.core.events import Kind
from openmeadow.core.moments import DAY
from openmeadow.core.sequences.definition import FOLLOW_UP, Begin, Definition, Leave, Step
from openmeadow.services.campaigns import ab_test, campaigns, dispatcher, guardrails, renderer
from openmeadow.services.models import ChangeIn
from openmeadow.services.sequences import editing, runner, statistics, triggers, validation
from openmeadow.store.campaigns import campaigns as campaign_table
from openmeadow.store.campaigns import deliveries
from openmeadow.store.engagement import events
from openmeadow.store.senders import senders as sender_table
from openmeadow.store.sequences import enrolments, sequences
from openmeadow.store.subscribers import subscribers as subscriber_table
from tests.conftest import NOW, set_clock
from tests.services.mailing import HTML, Mailing, deliveries_of, mailing

LADDER = Definition(
    (
        Step(1, "message", name="First evening"),
        Step(2, "condition", of=1, wait=3 * DAY),
        Step(3, "resend", FOLLOW_UP, of=1, subject="Once more: your first evening"),
        Step(4, "wait", wait=2 * DAY),
        Step(5, "message", name="A good seat"),
        Step(6, "label", name="welcomed"),
    ),
    leave=Leave(booked=True),
)


def made(m: Mailing, definition: Definition = LADDER, name: str = "Welcome") -> int:
    """A sequence with its messages written, not started."""
    db = m.workspace.store.read()
    id = editing.add(m.workspace, name, "test", definition)
    with m.workspace.store.atomic() as w:
        sequences.update(w, id, {"seed": id})  # the same lots every time
    address = sender_table.addresses(db)[0].id
    purpose = subscriber_table.names(db, "purposes")[0].id
    editing.write(m.workspace, id, {"purpose": purpose, "from_address": address, "from_name": "Quay"}, "test")
    for key, mail in sequences.mails(db, id).items():
        campaigns.write(m.workspace, mail.id, {"subject": f"Subject {key}", "html": HTML})
    return id


def step_on(m: Mailing) -> None:
    """What the worker does until nothing is due."""
    while runner.tick(m.workspace) + dispatcher.send_due(m.workspace, m.tokens):
        pass


def until(m: Mailing, moment: int) -> None:
    """The clock goes from one due moment to the next."""
    step_on(m)
    while True:
        nexts = [
            t for t in (runner.next_due(m.workspace), deliveries.next_due(m.workspace.store.read())) if t is not None
        ]
        at = min([t for t in nexts if t > m.workspace.now()], default=moment)
        set_clock(m.workspace, min(at, moment))
        step_on(m)
        if at >= moment:
            return


def got(m: Mailing, id: int) -> dict[tuple[int, str], Counter[str]]:
    """By step and pass, the states of deliveries."""
    out: dict[tuple[int, str], Counter[str]] = {}
    for d in sequences.sent(m.workspace.store.read(), id):
        out.setdefault((d.step, d.kind), Counter())[d.state] += 1
    return out


def happens(m: Mailing, id: int, step: int, kind: Kind, people: list[int]) -> None:
    message = sequences.mails(m.workspace.store.read(), id)[step].message
    with m.workspace.store.atomic() as db:
        rows = [
            (m.workspace.now(), int(kind), s, message, 0, 0, 1.0, None, None, f"{kind} {s} {m.workspace.now()}")
            for s in people
        ]
        events.add(db, rows)


def left(m: Mailing, id: int) -> dict[str, int]:
    return {r.why: r.people for r in sequences.left(m.workspace.store.read(), id)}


def test_a_welcome_over_days(folder: Path) -> None:
    with mailing(folder, 40) as m:
        id = made(m)
        editing.start(m.workspace, id, "test")
        assert editing.add_people(m.workspace, id, list(range(1, 31)), "test").queued == 30
        assert editing.add_people(m.workspace, id, [1, 2, 31], "test").queued == 1, "the queue knows them"
        until(m, NOW + 3600)
        assert got(m, id) == {(1, "first"): Counter({"sent": 31})}
        view = m.workspace.view()
        for rule, people in (('at "Condition 1"', 31), ('at "a good seat"', 0), ("", 31)):
            found = m.workspace.checked_rule(f'in sequence "welcome" {rule}', view)
            assert int(view.mask(found).sum()) == people
        with pytest.raises(RuleMistake, match="nearest is “A good seat”"):
            m.workspace.checked_rule('in sequence "Welcome" at "A god seat"', view)
        happens(m, id, 1, Kind.OPENED, list(range(1, 11)))
        happens(m, id, 1, Kind.BOOKED, [11, 12])
        until(m, NOW + 2 * DAY)
        assert left(m, id) == {"booked": 2}
        until(m, NOW + 4 * DAY)
        assert got(m, id)[1, "resend"] == Counter({"sent": 19}), "who answered gets no repeat"
        said = {x["subject"] for a, box in m.world.mailboxes.items() for x in box if x["id"].startswith("<d")}
        assert said == {"Subject 1", "Once more: your first evening"}
        until(m, NOW + 6 * DAY)
        assert got(m, id)[5, "first"] == Counter({"sent": 29})
        assert sequences.every(m.workspace.store.read())[0].finished == 29
        view = m.workspace.view()
        assert int(view.mask(m.workspace.checked_rule('has label "welcomed"', view)).sum()) == 29
        assert int(view.mask(m.workspace.checked_rule('finished sequence "Welcome"', view)).sum()) == 29
        assert max(n for k, n in m.world.received.items() if k.startswith("<d")) == 1
        assert editing.add_people(m.workspace, id, [1], "test").queued == 0, "once per person"


def test_links_of_plain_text_are_tracked_too(folder: Path) -> None:
    with mailing(folder, 3) as m:
        id = made(m)
        mail = sequences.mails(m.workspace.store.read(), id)[1]
        campaigns.write(m.workspace, mail.id, {"html": "", "plain": "Programme: https://www.kestrelquay.example/plain"})
        editing.start(m.workspace, id, "test")
        editing.add_people(m.workspace, id, [1], "test")
        until(m, NOW + 3600)
        started = sequences.mails(m.workspace.store.read(), id)[1]
        assert started.message is not None
        urls = {x.url: x.trap for x in campaign_table.links(m.workspace.store.read(), started.message)}
        assert urls == {"https://www.kestrelquay.example/plain": 0, "http://127.0.0.1:1/trap": 1}
        (sent,) = (d.id for d in deliveries_of(m.workspace.store.read(), mail.id, "first"))
        text = renderer.source_of(m.workspace, m.tokens, sent).decode()
        assert "http://127.0.0.1:1/c/" in text and "kestrelquay.example/plain" not in text


def test_who_is_inside_is_left_out_of_campaigns_and_one_a_day_holds(folder: Path) -> None:
    with mailing(folder, 20) as m:
        id = made(m, replace(LADDER, steps=(*LADDER.steps[:1], Step(7, "message", name="At once"))))
        campaigns.write(m.workspace, m.campaign, {"plan": {"pilot_share": 0.0, "batches": 1, "resend": False}})
        editing.start(m.workspace, id, "test")
        editing.add_people(m.workspace, id, [1, 2, 3], "test")
        step_on(m)
        campaigns.start(m.workspace, m.campaign, "test")
        beside = statistics.beside(m.workspace, id)
        assert (beside.campaigns, beside.people) == (1, 3), "it goes out within a week, and leaves them alone"
        step_on(m)
        rows = deliveries_of(m.workspace.store.read(), m.campaign, "first")
        assert len(rows) == 17 and all(d.state == "sent" for d in rows), "those inside were not chosen"
        assert got(m, id)[7, "first"] == Counter({"deferred": 3}), "a second message the same day moves"
        told = guardrails.see(m.workspace, sequences.mails(m.workspace.store.read(), id)[7].id).guardrails
        assert not [g for g in told if g.guardrail == "deferrals" and g.k], "what we put off ourselves is no deferral"
        until(m, NOW + DAY + 60)
        assert got(m, id)[7, "first"] == Counter({"sent": 3})


def test_limits_a_day_pause_and_going_on(folder: Path) -> None:
    with mailing(folder, 60) as m:
        short = Definition(
            (Step(1, "message"), Step(2, "wait", wait=DAY), Step(3, "message")), Begin(a_day=20, first_day=5)
        )
        id = made(m, short)
        editing.start(m.workspace, id, "test")
        assert editing.add_people(m.workspace, id, list(range(1, 51)), "test").portions == [5, 20, 20, 5]
        step_on(m)
        assert sum(got(m, id)[1, "first"].values()) == 5
        until(m, NOW + DAY)
        assert sum(got(m, id)[1, "first"].values()) == 25
        editing.pause(m.workspace, id, "test")
        set_clock(m.workspace, NOW + 9 * DAY)
        step_on(m)
        assert (sum(got(m, id)[1, "first"].values()) == 25 and (3, "first") not in got(m, id)) or sum(
            got(m, id)[3, "first"].values()
        ) <= 5
        before = sum(got(m, id).get((3, "first"), Counter()).values())
        told = editing.resume(m.workspace, id, "test")
        assert told.model_dump() == {"late": 25 - before, "days": 1 if 25 - before <= 20 else 2}
        step_on(m)
        assert sum(got(m, id)[3, "first"].values()) - before == min(20, 25 - before), "what piled up is spread"
        assert editing.end(m.workspace, id, "test") > 0 and enrolments.in_queue(m.workspace.store.read(), id) == 0
        step_on(m)
        with pytest.raises(Refused, match="has ended"):
            editing.write(m.workspace, id, {"name": "x"}, "test")


@pytest.mark.parametrize(
    ("begin", "does", "people"),
    [
        (Begin("gets a label", "patron"), "label", 3),
        (Begin("joins a list", "Balcony"), "list", 3),
        (Begin("a date", "born", yearly=True), "field", 3),
        (Begin("enters a segment", "Everybody"), "nothing", 0),
    ],
)
def test_who_enters_by_themselves(folder: Path, begin: Begin, does: str, people: int) -> None:
    with mailing(folder, 12) as m:
        with m.workspace.store.atomic() as db:
            enrolments.put_label(db, "patron", [9], False)
            enrolments.put_on_list(db, "Balcony", [9], False, NOW)
            enrolments.put_field(db, "born", "1980-03-14", [9])
        id = made(m, replace(LADDER, begin=begin))
        assert editing.start(m.workspace, id, "test").queued == 0, "who was there before is not added"
        step_on(m)
        assert got(m, id) == {}
        with m.workspace.store.atomic() as db:
            if does == "label":
                enrolments.put_label(db, "patron", [1, 2, 3], False)
            elif does == "list":
                enrolments.put_on_list(db, "Balcony", [1, 2, 3], False, NOW)
            elif does == "field":
                enrolments.put_field(db, "born", "1991-03-13", [1, 2, 3])
        triggers.forget(m.workspace, id)
        until(m, NOW + DAY)
        assert sum(got(m, id).get((1, "first"), Counter()).values()) == people


def test_a_date_comes_with_ones_own_day_where_that_is_ahead(folder: Path) -> None:
    with mailing(folder, 12) as m:
        id = made(m, replace(LADDER, begin=Begin("a date", "born", yearly=True)))
        with m.workspace.store.atomic() as db:
            enrolments.put_field(db, "born", "1991-03-13", [1, 2, 3])
            subscriber_table.set_person(db, 2, {"time_zone": "Pacific/Kiritimati"})
            subscriber_table.set_person(db, 3, {"time_zone": "Pacific/Honolulu"})
        editing.start(m.workspace, id, "test")
        for at, entered in (
            (NOW, set()),
            (NOW + 1800, {2}),  # 10:12 here, 00:12 of the 13th there
            (NOW + 12 * 3600, {2}),
            (NOW + 15 * 3600, {1, 2, 3}),  # whose day comes later enters with the workspace's
        ):
            until(m, at)
            triggers.forget(m.workspace, id)
            step_on(m)
            assert {
                r["subscriber"] for r in m.workspace.store.read().execute("SELECT subscriber FROM enrolments")
            } == entered


def test_edits_while_it_runs(folder: Path) -> None:
    with mailing(folder, 20) as m:
        id = made(m)
        editing.start(m.workspace, id, "test")
        editing.add_people(m.workspace, id, [1, 2, 3, 4], "test")
        step_on(m)
        definition = replace(LADDER, steps=tuple(s for s in LADDER.steps if s.key != 2))
        with pytest.raises(Refused, match="4 people are at a step you are deleting"):
            editing.write(m.workspace, id, {"definition": definition.json()}, "test")
        with pytest.raises(Refused, match="must stay complete"):
            editing.write(
                m.workspace,
                id,
                {"definition": replace(definition, steps=(Step(9, "label"),)).json()},
                "test",
                going={2: "out"},
            )
        editing.write(m.workspace, id, {"definition": definition.json()}, "test", going={2: 4})
        assert [v.n for v in sequences.versions(m.workspace.store.read(), id)] == [1, 2], "every version is kept"
        assert [(r.step, r.people) for r in sequences.steps(m.workspace.store.read(), id)] == [(4, 4)]
        mail = sequences.mails(m.workspace.store.read(), id)[5]
        ab_test.change(m.workspace, campaigns.row_of(m.workspace, mail.id), ChangeIn(subject="A better seat"), "test")
        db = m.workspace.store.read()
        t = sequences.at_step(db, id, 4, 10)
        wanted = f"quill {t[1].email.partition('@')[0]}@"
        assert [x.id for x in sequences.at_step(db, id, 4, 10, text=wanted)] == [t[1].id]
        assert (sequences.how_many_at_step(db, id, 4, wanted), sequences.how_many_at_step(db, id, 4)) == (1, 4)
        lines = statistics.at_step_csv(m.workspace, id, 4).splitlines()
        assert len(lines) == 5 and lines[1].startswith(f"{t[0].email},{t[0].name},20")
        editing.take_out(m.workspace, id, t[0].id, "Ada")
        editing.move_on(m.workspace, id, t[1].id, "Ada")
        until(m, NOW + 4 * DAY)
        assert left(m, id) == {"removed by Ada": 1} and sum(got(m, id)[5, "first"].values()) == 3
        assert "A better seat" in {x["subject"] for box in m.world.mailboxes.values() for x in box}


def test_a_step_added_while_it_runs_is_off_until_it_is_whole(folder: Path) -> None:
    """A message half written reaches nobody, a step taken back has its message still, a key is never given twice."""
    with mailing(folder, 20) as m:
        id, db = made(m), m.workspace.store.read()
        removed = replace(LADDER, steps=LADDER.steps[:4])
        editing.write(m.workspace, id, {"definition": removed.json()}, "test")
        editing.write(m.workspace, id, {"definition": LADDER.json()}, "test")
        assert sequences.mails(db, id)[5].subject == "Subject 5"
        editing.start(m.workspace, id, "test")
        editing.add_people(m.workspace, id, [1, 2], "test")
        step_on(m)
        key = sequences.highest_key(db, id) + 1
        assert key == 7
        fresh = Step(key, "message", name="A map", off=True)

        def put(step: Step, leave: Leave = LADDER.leave) -> None:
            definition = replace(LADDER, steps=(*LADDER.steps[:3], step, *LADDER.steps[3:]), leave=leave)
            editing.write(m.workspace, id, {"definition": definition.json()}, "test")

        for step, leave, said in (
            (replace(fresh, off=False), LADDER.leave, "stays disabled until it is written"),
            (Step(key, "label"), LADDER.leave, "Choose a label"),
            (Step(key, "condition", asks="rule", rule="band is Purple", no="end"), LADDER.leave, "band is Purple"),
            (fresh, Leave(rule="band iss Inactive"), "has a mistake"),
        ):
            with pytest.raises(Refused, match=said):
                put(step, leave)
        assert sequences.one(db, id).version == 1, "nothing of that was kept"
        put(fresh)
        with pytest.raises(Refused, match=r"A map: Write a subject.*disabled"):
            put(replace(fresh, off=False))
        assert (
            [x.step for x in validation.missing(m.workspace, id)]
            == [key] * len(validation.missing(m.workspace, id))
            != []
        )
        until(m, NOW + 3 * DAY)
        campaigns.write(m.workspace, sequences.mails(db, id)[key].id, {"subject": "A map", "html": HTML})
        put(replace(fresh, off=False))
        assert not validation.missing(m.workspace, id)
        editing.add_people(m.workspace, id, [3], "test")
        until(m, NOW + 12 * DAY)
        sent = [d.subscriber for d in sequences.sent(db, id) if d.step == key]
        assert sent == [3], "who passed it while it was off does not get it later"
        editing.write(m.workspace, id, {"definition": LADDER.json()}, "test", going={key: "out"})
        assert sequences.highest_key(db, id) == key, "taken away, and its key with it"


def test_a_repeat_goes_to_whoever_got_its_message(folder: Path) -> None:
    with mailing(folder, 6) as m:
        definition = Definition((Step(1, "message", name="One"), Step(2, "resend", of=1, wait=DAY, subject="Once more")))
        id = made(m, definition)
        editing.start(m.workspace, id, "test")
        editing.add_people(m.workspace, id, [1, 2, 3], "test")
        step_on(m)
        with m.workspace.store.atomic() as db:
            db.execute("UPDATE deliveries SET state = 'skipped', reason = 'too soon' WHERE subscriber = 2")
        until(m, NOW + 3 * DAY)
        assert {
            s: [d.kind for d in sequences.sent(m.workspace.store.read(), id) if d.subscriber == s] for s in (1, 2, 3)
        } == {1: ["first", "resend"], 2: ["first"], 3: ["first", "resend"]}


def test_everything_missing_is_listed(folder: Path) -> None:
    with mailing(folder, 5) as m:
        id = editing.add(m.workspace, "Half", "test", replace(LADDER, leave=Leave(rule="band is Purple")))
        said = [(x.step, x.sentence) for x in validation.missing(m.workspace, id)]
        assert (0, "Choose a from address.") in said
        assert any(k == 1 and "Write a subject" in s for k, s in said) and any(k == 5 for k, _ in said)
        assert any("band is Purple" in s for _, s in said)
        with pytest.raises(Refused, match=r"Not complete yet.*And \d+ more"):
            editing.start(m.workspace, id, "test")


def test_whoever_unsubscribes_or_bounces_leaves(folder: Path) -> None:
    with mailing(folder, 12, until=[10**12] * 12, gone=[NOW - DAY] * 2 + [10**12] * 10) as m:
        id = made(m)
        editing.start(m.workspace, id, "test")
        editing.add_people(m.workspace, id, list(range(1, 13)), "test")
        step_on(m)
        from openmeadow.services.subscribers import consent

        purpose = subscriber_table.names(m.workspace.store.read(), "purposes")[0].id
        consent.said(m.workspace, 5, purpose, 2, "preference page")
        step_on(m)
        assert left(m, id).get("consent withdrawn") == 1, left(m, id)
        until(m, NOW + 6 * DAY)
        assert not [d for d in sequences.sent(m.workspace.store.read(), id) if d.subscriber == 5 and d.step == 5]
