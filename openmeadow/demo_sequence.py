"""The demo's people in the middle of a sequence: those who joined lately have gone as far as their days allow, by the same
step machine, and answered by their hidden habits."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from openmeadow.clock import DemoClock
from openmeadow.core.columns import Kind
from openmeadow.core.lot import draw
from openmeadow.core.sequences import machine
from openmeadow.core.sequences.ladder import DAY, HOUR, SECOND, Begin, Ladder, Leave, Step
from openmeadow.desk import campaigns, senders
from openmeadow.desk.desk import Desk
from openmeadow.desk.sequences import moving, writing
from openmeadow.desk.sequences.asking import condition, zones
from openmeadow.desk.sequences.reading import pass_of
from openmeadow.standins.habits import DOORS, Habits
from openmeadow.standins.history import PERSON_AGENTS, PERSON_IP, PROXY_AGENT, PROXY_IP
from openmeadow.store import events, sequences, stays, subscribers
from openmeadow.store import senders as sender_table

NAME, LIST = "Welcome to the hall", "Website"
SEED = 31
SINCE = 24 * DAY  # it has run for so long
A_DAY, HELD = 400, 0.08
SITE = "https://www.kestrelquay.example"
LADDER = Ladder(
    (
        Step(1, "message", name="Your first evening with us"),
        Step(2, "question", of=1, wait=3 * DAY),
        Step(3, "repeat", SECOND, of=1, subject="In case it slipped by: your first evening"),
        Step(4, "wait", wait=2 * DAY, hour=10),
        Step(5, "message", name="How to find a good seat"),
        Step(6, "question", of=5, wait=3 * DAY),
        Step(7, "repeat", SECOND, of=5),
        Step(8, "wait", wait=4 * DAY, hour=10),
        Step(9, "message", name="Rehearsals you can sit in on"),
        Step(10, "question", of=9, wait=4 * DAY),
        Step(11, "label", SECOND, name="quiet start"),
        Step(12, "end", SECOND, meets=False),
        Step(13, "label", name="welcomed"),
    ),
    Begin("joins a list", LIST, a_day=A_DAY),
    Leave(booked=True),
    HELD,
)
TEXTS = {
    1: ("Your first evening with us", "What we write, how often, and a door that opens at six.",
        "thank you for joining us. The doors open at six, the harbour lights come on at half past seven.", "first-evening"),
    5: ("How to find a good seat", "Where the sound is best is not where you would think.",
        "the fourth row of the gallery hears everything. This plan shows which seats are close to the doors.", "seats"),
    9: ("Rehearsals you can sit in on", "On Thursdays at four, without a ticket.",
        "on Thursdays at four the hall is open while the orchestra rehearses. Come in by the harbour door.", "rehearsals"),
}  # fmt: skip


def begin(desk: Desk, habits: Habits, now: int) -> None:
    """Started some weeks before ``now`` with the senders looked at, and everybody brought to where they stand."""
    assert isinstance(desk.clock, DemoClock)
    desk.clock.set(now - SINCE)
    id = writing.add(desk, NAME, "demo", LADDER)
    db = desk.store.read()
    with desk.store.atomic() as w:
        sequences.update(w, id, {"seed": SEED})  # the same lots in every demo
    purpose = next(p["id"] for p in subscribers.names(db, "purposes") if p["name"] == "Season news")
    address = next(a for a in sender_table.addresses(db) if a["address"].startswith("hello@"))
    senders.check(desk, address["domain"])
    sent_by = {"purpose": purpose, "from_address": address["id"], "from_name": "Kestrel Quay"}
    writing.write(desk, id, sent_by, "demo")
    for key, (subject, preview, words, page) in TEXTS.items():
        html = (
            f"<p>Dear {{{{ first_name or 'friend' }}}},</p><p>{words}</p><p><a href=\"{SITE}/{page}\">Have a look</a></p>"
            '<p><a href="{{ preferences_url }}">What we write to you, and how often</a></p>'
        )
        mail = sequences.mails(desk.store.read(), id)[key]["id"]
        campaigns.write(desk, mail, {"subject": subject, "preview": preview, "html": html})
    writing.start(desk, id, "demo")
    desk.clock.set(now)
    _bring_on(desk, id, habits, now)


@dataclass
class _Course:
    """What became of one person: rows to be written, and where they stand."""

    mails: list[tuple[int, int]] = field(default_factory=list)  # step, moment
    acts: list[tuple[int, Kind, int, bool]] = field(default_factory=list)  # moment, kind, step of the message, machine
    passed: list[tuple[int, int]] = field(default_factory=list)  # step, moment
    labels: list[str] = field(default_factory=list)
    stands: machine.Moved = field(default_factory=lambda: machine.Moved(machine.FINISHED, 0, 1))
    at: int = 0


def _course(h: Habits, i: int, entered: int, now: int, held: bool, r: np.random.Generator) -> _Course:
    """From entering to ``now`` by the step machine, every message going out when it is due."""
    out, at, behind = _Course(at=entered), entered, list[int]()
    clock = zones("UTC", None)

    def ask(step: Step) -> bool:
        return any(k in (Kind.OPENED, Kind.CLICKED) and not m and s == step.of and t <= at for t, k, s, m in out.acts)

    def note(m: machine.Moved) -> machine.Moved:
        behind.extend(m.passed)
        out.passed += [(key, at) for key in m.passed]
        out.labels += [a.name for a in m.acts]
        return m

    m = note(machine.enter(LADDER, at, ask, clock))
    while m.state != machine.FINISHED and (m.state == machine.MAILED or m.due_at <= now):
        if m.state == machine.MAILED:
            step = LADDER.step(m.step)
            assert step is not None
            out.mails.append((m.step, at))
            if not (held and step.kind == "repeat"):
                out.acts += _answers(h, i, at, now, pass_of(LADDER, step)[0], step.kind == "repeat", r)
            m = note(machine.mailed(LADDER, m.step, m.lane, at, ask, clock, behind))
        else:
            at = m.due_at
            m = note(machine.due(LADDER, m.step, m.lane, at, ask, clock, behind))
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


def _bring_on(desk: Desk, id: int, h: Habits, now: int) -> None:
    """Who joined by the website since, with consent: in their order, at most so many a day."""
    db, r = desk.store.read(), np.random.default_rng(29)
    row = sequences.one(db, id)
    assert row is not None
    mails = sequences.mails(db, id)
    first, last = now - SINCE, now - HOUR
    view = desk.view()
    known = dict(zip(view.columns.people.id.tolist(), view.facts.permitted("Season news").tolist(), strict=True))
    ids = subscribers.ids_of(db, [str(e) for e in h.email])
    fresh = (h.joined >= first) & (h.joined < last) & (h.door == DOORS.index(LIST)) & (h.gone > now)
    order = [
        i for i in np.argsort(h.joined, kind="stable").tolist() if fresh[i] and known.get(ids.get(str(h.email[i]), 0))
    ]
    people = np.array([ids[str(h.email[i])] for i in order], np.int64)
    held = draw(row["seed"], people, moving.HELD_LOT) < LADDER.held_back
    begun: dict[int, int] = {}
    entered = []
    for i in order:
        at = int(h.joined[i])
        while begun.get(at // DAY, 0) >= A_DAY:
            at = (at // DAY + 1) * DAY
        begun[at // DAY] = begun.get(at // DAY, 0) + 1
        entered.append(at)
    courses = [_course(h, i, at, now, bool(x), r) for i, at, x in zip(order, entered, held.tolist(), strict=True)]
    with desk.store.atomic() as w:
        stays.begin(w, [(id, int(s), 1, int(x), 1, at) for s, x, at in zip(people, held.tolist(), entered, strict=True)])
        stay = {int(t["subscriber"]): int(t["id"]) for t in stays.all_inside(w, id)}
        names, raw = events.Names(w), []
        agent = {
            True: names.agents([PROXY_AGENT], [PROXY_IP.format(1)])[0],
            False: names.agents([PERSON_AGENTS[1]], [PERSON_IP.format(9)])[0],
        }
        link = {k: names.links([m["message"]], [f"{SITE}/{TEXTS[k][3]}"])[0] for k, m in mails.items()}
        for s, c, kept_back in zip(people.tolist(), courses, held.tolist(), strict=True):
            rows: list[Any] = []
            for key, at in c.mails:
                step = LADDER.step(key)
                assert step is not None
                about, kind = pass_of(LADDER, step)
                way = sequences.way_out(w, mails[about]["id"], kind)
                assert way is not None
                kept = step.kind == "repeat" and kept_back
                state, why = ("passed over", "held back") if kept else ("handed over", None)
                rows.append((*way, s, stay[s], 0, state, why, at))
                if not kept:
                    raw.append((at, int(Kind.SENT), s, mails[about]["message"], 0, 0, 0.0, None, None, None))
            sequences.add_mail(w, rows)
            for at, act, about, by_machine in c.acts:
                to = link[about] if act == Kind.CLICKED else 0
                raw.append((at, int(act), s, mails[about]["message"], to, agent[by_machine], 0.0, None, None, None))
            stays.pass_steps(w, [(stay[s], key, at) for key, at in c.passed])
            if c.stands.state == machine.FINISHED:
                stays.leave(w, [(stay[s], c.at, None)])
            else:
                stays.arrive(w, [(stay[s], c.stands.step, c.stands.lane, c.stands.due_at, 1, c.at)])
            for label in c.labels:
                stays.put_label(w, label, [s], False)
        events.add(w, raw)
        there = condition(desk, view, LADDER.begin)  # who came in between has been seen
        stays.hold_now(w, id, view.columns.people.id[there].tolist(), [])
        sequences.update(w, id, {"seen_event": events.highest(w)})
