"""The demo's people in the middle of a sequence: those who joined lately have gone as far as their days allow, by the same
step machine, and answered by their hidden habits."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np

from openmeadow.core.delivery.randomise import draw
from openmeadow.core.events import Kind
from openmeadow.core.ids import NO_MESSAGE, PurposeId, SequenceId
from openmeadow.core.moments import DAY, HOUR
from openmeadow.core.sequences import state_machine
from openmeadow.core.sequences.definition import FOLLOW_UP, Begin, Definition, Leave, Step
from openmeadow.core.states import HOLDOUT
from openmeadow.demo.mail_world.habits import SOURCES, Habits
from openmeadow.demo.mail_world.history import PERSON_AGENTS, PERSON_IP, PROXY_AGENT, PROXY_IP
from openmeadow.services.campaigns import campaigns
from openmeadow.services.clock import DemoClock
from openmeadow.services.models import SequenceChanges
from openmeadow.services.senders import domains
from openmeadow.services.sequences import editing, runner
from openmeadow.services.sequences.conditions import condition, zones
from openmeadow.services.sequences.loading import pass_of
from openmeadow.services.workspace import Workspace
from openmeadow.store.engagement import events
from openmeadow.store.senders import senders as sender_table
from openmeadow.store.sequences import enrolments, sequences
from openmeadow.store.subscribers import subscribers

NAME, LIST = "Welcome to the hall", "Website"
SEED = 31
SINCE = 24 * DAY  # it has run for so long
A_DAY, HELD = 400, 0.08
SITE = "https://www.kestrelquay.example"
LADDER = Definition(
    (
        Step(1, "message", name="Your first evening with us"),
        Step(2, "condition", of=1, wait=3 * DAY),
        Step(3, "resend", FOLLOW_UP, of=1, subject="In case you missed it: your first evening"),
        Step(4, "wait", wait=2 * DAY, hour=10),
        Step(5, "message", name="How to find a good seat"),
        Step(6, "condition", of=5, wait=3 * DAY),
        Step(7, "resend", FOLLOW_UP, of=5),
        Step(8, "wait", wait=4 * DAY, hour=10),
        Step(9, "message", name="Rehearsals you can sit in on"),
        Step(10, "condition", of=9, wait=4 * DAY),
        Step(11, "label", FOLLOW_UP, name="no early engagement"),
        Step(12, "end", FOLLOW_UP, meets=False),
        Step(13, "label", name="welcomed"),
    ),
    Begin("joins a list", LIST, a_day=A_DAY),
    Leave(booked=True),
    HELD,
)
TEXTS = {
    1: ("Your first evening with us", "What to expect from us, and a door that opens at six.",
        "thank you for joining us. The doors open at six, the harbour lights come on at half past seven.", "first-evening"),
    5: ("How to find a good seat", "Where the sound is best is not where you would think.",
        "the fourth row of the gallery hears everything. This plan shows which seats are close to the doors.", "seats"),
    9: ("Rehearsals you can sit in on", "On Thursdays at four, without a ticket.",
        "on Thursdays at four the hall is open while the orchestra rehearses. Come in by the harbour door.", "rehearsals"),
}  # fmt: skip


def begin(workspace: Workspace, habits: Habits, now: int) -> None:
    """Started some weeks before ``now`` with the senders looked at, and everybody brought to where they stand."""
    assert isinstance(workspace.clock, DemoClock)
    workspace.clock.set(now - SINCE)
    row_id = editing.add(workspace, NAME, "demo", LADDER)
    db = workspace.store.read()
    with workspace.store.atomic() as w:
        sequences.update(w, row_id, {"seed": SEED})  # the same lots in every demo
    purpose = next(PurposeId(p.id) for p in subscribers.names(db, "purposes") if p.name == "Season news")
    address = next(a for a in sender_table.addresses(db) if a.address.startswith("hello@"))
    domains.check(workspace, address.domain)
    sent_by: SequenceChanges = {"purpose": purpose, "from_address": address.id, "from_name": "Kestrel Quay"}
    editing.write(workspace, row_id, sent_by, "demo")
    for key, (subject, preview, words, page) in TEXTS.items():
        html = (
            f"<p>Dear {{{{ first_name or 'friend' }}}},</p><p>{words}</p><p><a href=\"{SITE}/{page}\">Read more</a></p>"
            '<p><a href="{{ preferences_url }}">Email preferences</a></p>'
        )
        mail = sequences.mails(workspace.store.read(), row_id)[key].id
        campaigns.write(workspace, mail, {"subject": subject, "preview": preview, "html": html})
    editing.start(workspace, row_id, "demo")
    workspace.clock.set(now)
    _bring_on(workspace, row_id, habits, now)


@dataclass
class _Course:
    """What became of one person: rows to be written, and where they stand."""

    mails: list[tuple[int, int]] = field(default_factory=list)  # step, moment
    acts: list[tuple[int, Kind, int, bool]] = field(default_factory=list)  # moment, kind, step of the message, machine
    passed: list[tuple[int, int]] = field(default_factory=list)  # step, moment
    labels: list[str] = field(default_factory=list)
    stands: state_machine.Moved = field(default_factory=lambda: state_machine.Moved(state_machine.FINISHED, 0, 1))
    at: int = 0


def _course(h: Habits, i: int, entered: int, now: int, held: bool, r: np.random.Generator) -> _Course:
    """From entering to ``now`` by the step machine, every message going out when it is due."""
    out, at, behind = _Course(at=entered), entered, list[int]()
    clock = zones("UTC", None)

    def ask(step: Step) -> bool:
        return any(k in (Kind.OPENED, Kind.CLICKED) and not m and s == step.of and t <= at for t, k, s, m in out.acts)

    def note(m: state_machine.Moved) -> state_machine.Moved:
        behind.extend(m.passed)
        out.passed += [(key, at) for key in m.passed]
        out.labels += [a.name for a in m.acts]
        return m

    m = note(state_machine.enter(LADDER, at, ask, clock))
    while m.state != state_machine.FINISHED and (m.state == state_machine.MAILED or m.due_at <= now):
        if m.state == state_machine.MAILED:
            step = LADDER.step(m.step)
            assert step is not None
            out.mails.append((m.step, at))
            if not (held and step.kind == "resend"):
                out.acts += _answers(h, i, at, now, pass_of(LADDER, step)[0], step.kind == "resend", r)
            m = note(state_machine.mailed(LADDER, m.step, m.path, at, ask, clock, behind))
        else:
            at = m.due_at
            m = note(state_machine.due(LADDER, m.step, m.path, at, ask, clock, behind))
    out.stands, out.at = m, at
    return out


def _answers(
    h: Habits, i: int, at: int, now: int, about: int, again: bool, r: np.random.Generator
) -> Iterator[tuple[int, Kind, int, bool]]:
    if h.proxy[i]:
        yield at + 40, Kind.OPENED, about, True
    chance = min(0.95, h.open[i] * (0.3 if again else 1.3))  # newcomers look more closely than later
    opened = at + int(r.lognormal(9.2, 1.2)) + 30
    if r.random() < chance and opened < now:
        yield opened, Kind.OPENED, about, False
        if r.random() < h.click[i] and opened + 90 < now:
            yield opened + 90, Kind.CLICKED, about, False


def _entries(h: Habits, order: list[int]) -> list[int]:
    """When each of some people entered, at most so many a day."""
    begun: dict[int, int] = {}
    entered = []
    for i in order:
        at = int(h.joined[i])
        while begun.get(at // DAY, 0) >= A_DAY:
            at = (at // DAY + 1) * DAY
        begun[at // DAY] = begun.get(at // DAY, 0) + 1
        entered.append(at)
    return entered


def _bring_on(workspace: Workspace, row_id: SequenceId, h: Habits, now: int) -> None:
    """Who joined by the website since, with consent: in their order, at most so many a day."""
    db, r = workspace.store.read(), np.random.default_rng(29)
    row = sequences.one(db, row_id)
    assert row is not None
    mails = sequences.mails(db, row_id)
    first, last = now - SINCE, now - HOUR
    view = workspace.view()
    known = dict(zip(view.columns.people.id.tolist(), view.facts.permitted("Season news").tolist(), strict=True))
    ids = subscribers.ids_of(db, [str(e) for e in h.email])
    fresh = (h.joined >= first) & (h.joined < last) & (h.source == SOURCES.index(LIST)) & (h.gone > now)
    order = [
        i for i in np.argsort(h.joined, kind="stable").tolist() if fresh[i] and known.get(ids.get(str(h.email[i]), 0))
    ]
    people = np.array([ids[str(h.email[i])] for i in order], np.int64)
    held = draw(row.seed, people, runner.HOLDOUT_SALT) < LADDER.holdout
    entered = _entries(h, order)
    courses = [_course(h, i, at, now, bool(x), r) for i, at, x in zip(order, entered, held.tolist(), strict=True)]
    with workspace.store.atomic() as w:
        enrolments.begin(
            w, [(row_id, int(s), 1, int(x), 1, at) for s, x, at in zip(people, held.tolist(), entered, strict=True)]
        )
        enrolment = {int(t.subscriber): int(t.id) for t in enrolments.all_inside(w, row_id)}
        names = events.Names(w)
        raw: list[events.Row] = []
        agent = {
            True: names.agents([PROXY_AGENT], [PROXY_IP.format(1)])[0],
            False: names.agents([PERSON_AGENTS[1]], [PERSON_IP.format(9)])[0],
        }
        link = {k: names.links([(m.message or NO_MESSAGE)], [f"{SITE}/{TEXTS[k][3]}"])[0] for k, m in mails.items()}
        for s, c, kept_back in zip(people.tolist(), courses, held.tolist(), strict=True):
            rows: list[sequences.MailRow] = []
            for key, at in c.mails:
                step = LADDER.step(key)
                assert step is not None
                about, kind = pass_of(LADDER, step)
                way = sequences.way_out(w, mails[about].id, kind)
                assert way is not None
                kept = step.kind == "resend" and kept_back
                state, why = ("skipped", HOLDOUT) if kept else ("sent", None)
                rows.append((way[0], way[1], s, enrolment[s], 0, state, why, at, None))
                if not kept:
                    raw.append((at, int(Kind.SENT), s, mails[about].message or 0, 0, 0, 0.0, None, None, None))
            sequences.add_mail(w, rows)
            for at, act, about, by_machine in c.acts:
                to = link[about] if act == Kind.CLICKED else 0
                raw.append((at, int(act), s, mails[about].message or 0, to, agent[by_machine], 0.0, None, None, None))
            enrolments.pass_steps(w, [(enrolment[s], key, at) for key, at in c.passed])
            if c.stands.state == state_machine.FINISHED:
                enrolments.leave(w, [(enrolment[s], c.at, None)])
            else:
                enrolments.arrive(w, [(enrolment[s], c.stands.step, c.stands.path, c.stands.due_at, 1, c.at)])
            for label in c.labels:
                enrolments.put_label(w, label, [s], False)
        events.add(w, raw)
        there = condition(workspace, view, LADDER.begin)  # who came in between has been seen
        enrolments.hold_now(w, row_id, view.columns.people.id[there].tolist())
        sequences.update(w, row_id, {"seen_event": events.highest(w)})
