"""Moving people on: who enters, whose moment has come, whose message is settled, who leaves. Each chunk is one
transaction, so that a stop in between loses nobody and resends nothing."""

from __future__ import annotations

import sqlite3
from collections import abc, defaultdict
from collections.abc import Collection

import numpy as np

from openmeadow.core.consent.eligibility import SUPPRESSED_INACTIVE, Reason
from openmeadow.core.delivery.randomise import draw
from openmeadow.core.errors import MeadowError, Passing
from openmeadow.core.ids import SubscriberId
from openmeadow.core.moments import HOUR, midnight
from openmeadow.core.sequences import admission, state_machine
from openmeadow.core.sequences.definition import EVERYONE, Definition, Step
from openmeadow.core.sequences.state_machine import FINISHED, MAILED, WAITS, Moved
from openmeadow.core.states import HOLDOUT, DeliveryState, SequenceState
from openmeadow.services.sequences.conditions import Asked, zones
from openmeadow.services.sequences.loading import definition_of, pass_of
from openmeadow.services.sequences.triggers import comes_to_hold, may_leave
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.campaigns import deliveries as deliveries_table
from openmeadow.store.campaigns.delivery_records import QueuedDelivery
from openmeadow.store.campaigns.records import Campaign
from openmeadow.store.sequences import enrolments, sequences
from openmeadow.store.sequences.records import Enrolment, Sequence, ZonedEnrolment
from openmeadow.store.subscribers import subscribers
from openmeadow.store.turns import Turns

PAUSED = "The sequence is paused."
CHUNK = 500
ENDING = (Reason.ERASED, Reason.SUPPRESSED, Reason.HARD_BOUNCED, Reason.WITHDRAWN, Reason.NO_CONSENT, Reason.PENDING)
HOLDOUT_SALT = 17


def tick(workspace: Workspace) -> int:
    """Everything that is due in sequences that run; how many people moved. One that cannot go on (what a rule of it
    names is not there any more) pauses itself and keeps no other waiting."""
    moved = 0
    for row in sequences.running(workspace.store.read()):
        try:
            runner = Runner(workspace, row)
            moved += runner.news() + runner.settle() + runner.admit() + runner.resume()
        except Passing:
            raise
        except MeadowError as e:
            pause_by_itself(workspace, row, str(e))
    return moved


def pause_by_itself(workspace: Workspace, row: Sequence, why: str) -> None:
    """Everyone stays at their step until what is wrong is fixed."""
    with workspace.store.atomic() as db:
        found = sequences.one(db, row.id)
        if found is None or found.state != SequenceState.RUNNING:
            return  # somebody has ended it meanwhile
        sequences.pause(db, row.id, PAUSED, why)
        settings.log(db, workspace.now(), "worker", f"paused sequence: {why}", row.name)


class Runner:
    """One running sequence at this moment."""

    def __init__(self, workspace: Workspace, row: Sequence) -> None:
        self.workspace, self.row = workspace, row
        self.definition: Definition = definition_of(row)
        self.mails = sequences.mails(workspace.store.read(), row.id)
        self.messages = {k: m.message for k, m in self.mails.items() if m.message}
        self.zone = str(workspace.setting("time_zone"))
        names = {p.id: p.name for p in subscribers.names(workspace.store.read(), "purposes")}
        self.purpose = names.get(row.purpose or 0, "")

    def asked(self, them: Collection[Enrolment]) -> Asked:
        """What the conditions of a sequence are asked of some people."""
        return Asked(self.workspace, self.definition, self.messages, them)

    def news(self) -> int:
        """Who something happened to since the last look leaves at once where that is a reason to."""
        row, db = self.row, self.workspace.store.read()
        people, event, consent = enrolments.with_news(db, row.id, row.seen_event, row.seen_consent)
        people += may_leave(self.workspace, row, self.definition)
        gone = 0
        for i in range(0, len(people), CHUNK):
            gone += self.leave(people[i : i + CHUNK])
        if (event, consent) != (row.seen_event, row.seen_consent):
            with self.workspace.store.atomic() as w:
                sequences.update(w, row.id, {"seen_event": event, "seen_consent": consent})
        return gone

    def leave(self, people: list[int]) -> int:
        """Those of some people who have a reason to leave, leave; how many."""
        them = enrolments.inside(self.workspace.store.read(), self.row.id, people)
        if not them:
            return 0
        asked = self.asked(them)
        why = asked.leaving(self.purpose)
        with self.workspace.store.atomic() as w:
            return enrolments.leave(w, [(asked.enrolment[s], self.workspace.now(), reason) for s, reason in why.items()])

    def settle(self) -> int:
        """Whose message was sent, or will not be, goes on; where the eligibility check said no for good they leave."""
        moved = 0
        while them := enrolments.mailed(self.workspace.store.read(), self.row.id, CHUNK):
            out: list[tuple[int, str]] = []
            on: list[ZonedEnrolment] = []
            for t in them:
                reason = t.reason or ""
                if t.delivery == "failed":
                    out.append((t.id, f"could not be delivered ({reason.partition(':')[0]})"))
                elif t.delivery == "skipped" and reason in ENDING:
                    out.append((t.id, reason))
                else:
                    on.append(t)
            with self.workspace.store.atomic() as w:
                enrolments.leave(w, [(row_id, self.workspace.now(), why) for row_id, why in out])
            moved += len(out) + self._move(on, "mailed")
        return moved

    def resume(self) -> int:
        """Whose moment has come."""
        moved = 0
        while them := enrolments.due(self.workspace.store.read(), self.row.id, self.workspace.now(), CHUNK):
            moved += self._move(them, "due")
        return moved

    def _move(self, them: list[ZonedEnrolment], how: str) -> int:
        """Some people on by the step machine; reasons to leave win over what is due at the same moment."""
        if not them:
            return 0
        now, db = self.workspace.now(), self.workspace.store.read()
        asked = self.asked(them)
        why = asked.leaving(self.purpose)
        passed = enrolments.passed(db, [t.id for t in them])
        gone, came = [], []
        for t in them:
            s = int(t.subscriber)
            if s in why:
                gone.append((int(t.id), now, why[s]))
                continue
            came.append((t, self._ask_machine(t, how, asked, passed[t.id], now)))
        mail = [(t, m) for t, m in came if m.state == MAILED]
        rows = self._deliveries(mail, asked, now)
        written = {r[3] for r in rows}
        unready = {t.id: now + HOUR for t, _ in mail if t.id not in written}  # asked again then
        with self.workspace.store.atomic() as w:
            enrolments.leave(w, gone)
            enrolments.pass_steps(w, [(t.id, key, now) for t, m in came for key in m.passed])
            self._act(w, came, now)
            version = self.row.version
            enrolments.arrive(
                w,
                [
                    (t.id, m.step, m.path, m.due_at if m.state == WAITS else unready.get(t.id), version, now)
                    for t, m in came
                    if m.state != FINISHED
                ],
            )
            enrolments.leave(w, [(int(t.id), now, None) for t, m in came if m.state == FINISHED])
            sequences.add_mail(w, rows)
        return len(them)

    def _ask_machine(self, t: ZonedEnrolment, how: str, asked: Asked, passed: set[int], now: int) -> Moved:
        zone = zones(self.zone, t.time_zone)

        def ask(about: Step) -> bool:
            return asked.answer(about, SubscriberId(int(t.subscriber)))

        if t.step == 0:
            return state_machine.enter(self.definition, now, ask, zone)
        go = state_machine.mailed if how == "mailed" else state_machine.due
        return go(self.definition, t.step, t.path, now, ask, zone, passed)

    def _act(self, w: sqlite3.Connection, came: list[tuple[ZonedEnrolment, Moved]], now: int) -> None:
        """Labels, lists and fields that steps put on or take off."""
        todo: dict[Step, list[int]] = defaultdict(list)
        for t, m in came:
            for step in m.acts:
                todo[step].append(int(t.subscriber))
        for step, people in todo.items():
            if step.kind == "label":
                enrolments.put_label(w, step.name, people, step.take)
            elif step.kind == "list":
                enrolments.put_on_list(w, step.name, people, step.take, now)
            elif step.kind == "suppress":
                why = f"sequence “{self.row.name}”"
                subscribers.add_suppressions(w, [(s, SUPPRESSED_INACTIVE, now, why, None) for s in people])
            else:
                enrolments.put_field(w, step.name, step.value, people)

    def _deliveries(
        self, mail: list[tuple[ZonedEnrolment, Moved]], asked: Asked, now: int
    ) -> list[tuple[int, int, int, int, int, DeliveryState, str | None, int, int]]:
        if not mail:
            return []
        db, rows, scores = self.workspace.store.read(), [], asked.view.scores
        for t, m in mail:
            step = self.definition.step(m.step)
            assert step is not None
            about, kind = pass_of(self.definition, step)
            way = sequences.way_out(db, self.mails[about].id, kind) if about in self.mails else None
            if way is None:
                continue  # what it says is not ready
            held = step.kind == "resend" and bool(t.holdout)
            state, reason = (deliveries_table.SKIPPED, HOLDOUT) if held else (deliveries_table.QUEUED, None)
            s = int(t.subscriber)
            place = asked.place(SubscriberId(s))
            chance = round(10_000 * float(scores.chance[place]))
            rows.append((*way, s, int(t.id), int(scores.band[place]), state, reason, now, chance))
        return rows

    # who enters

    def admit(self) -> int:
        """Who the condition of entering has come to hold for goes into the queue; who may begin today begins."""
        came, went = comes_to_hold(self.workspace, self.row, self.definition)
        turns = Turns(self.workspace.store)
        turns.each(went, lambda w, some: enrolments.hold_no_more(w, self.row.id, some))
        turns.each(came, self._enter)
        db, row, begin = self.workspace.store.read(), self.row, self.definition.begin
        if not enrolments.anybody_queued(db, row.id):
            return 0
        now = self.workspace.now()
        today = midnight(now, self.workspace.zone)
        of = enrolments.begun_since(db, row.id, today)
        room = admission.room(begin, sum(of.values()), enrolments.begun_before(db, row.id, today))
        if room == 0:
            return 0  # the queue may be long: it is not gone through before tomorrow
        waiting = enrolments.queued(db, row.id, None if begin.random or begin.a_provider else room)
        who = np.array([r.subscriber for r in waiting], np.int64)
        provider = np.array([r.provider for r in waiting], np.int64)
        mine = who[admission.begins(begin, who, provider, row.seed, room, of)].tolist()
        if not mine:
            return 0
        runs = enrolments.last_runs(db, row.id, mine)
        held = draw(row.seed, np.array(mine, np.int64), HOLDOUT_SALT) < self.definition.holdout
        rows = [
            (row.id, s, runs.get(s, (0, None))[0] + 1, int(h), row.version, now)
            for s, h in zip(mine, held.tolist(), strict=True)
        ]

        def begin_some(w: sqlite3.Connection, some: abc.Sequence[tuple[int, int, int, int, int, int]]) -> int:
            if sequences.state_of(w, row.id) != SequenceState.RUNNING:
                return 0  # somebody has paused or ended it
            enrolments.begin(w, some)
            enrolments.unqueue(w, row.id, [r[1] for r in some])
            return len(some)

        return turns.each(rows, begin_some)

    def _enter(self, w: sqlite3.Connection, came: abc.Sequence[int]) -> int:
        """People for whom the condition of entering has come to hold go into the queue."""
        enrolments.hold_now(w, self.row.id, came)
        return queue(self.workspace, w, self.row, self.definition, came)


def queue(
    workspace: Workspace, w: sqlite3.Connection, row: Sequence, definition: Definition, people: abc.Sequence[int]
) -> int:
    """Put people in the queue of a sequence, those who may enter (again); how many."""
    runs, now, again = enrolments.last_runs(w, row.id, people), workspace.now(), definition.begin.again_after
    fit = []
    for s in people:
        run = runs.get(s)
        if run is None or (run[1] is not None and again is not None and now - run[1] >= again):
            fit.append(s)
    return enrolments.queue(w, row.id, fit, now)


def no_more(workspace: Workspace, campaign: Campaign, kind: str, deliveries: list[QueuedDelivery]) -> dict[int, str]:
    """Right before send: who of some left the sequence, or answered what would be resent; subscriber -> reason."""
    row = sequences.one(workspace.store.read(), campaign.sequence or 0)
    assert row is not None
    runner = Runner(workspace, row)
    people = [int(d.subscriber) for d in deliveries]
    runner.leave(people)
    open_enrolments = {int(t.id): t for t in enrolments.inside(workspace.store.read(), row.id, people)}
    out = {int(d.subscriber): "left the sequence" for d in deliveries if d.enrolment not in open_enrolments}
    again = [open_enrolments[d.enrolment] for d in deliveries if kind != "first" and d.enrolment in open_enrolments]
    if again:
        asked = runner.asked(again)
        about = Step(0, "resend", EVERYONE, of=campaign.step or 0)
        out |= {
            int(s): "engaged before the resend" for s in asked.ids.tolist() if asked.answer(about, SubscriberId(int(s)))
        }
    return out


def next_due(workspace: Workspace) -> int | None:
    """The next moment at which something is due in sequences that run: somebody's step, or the next day's beginners."""
    db, now = workspace.store.read(), workspace.now()
    stepping = sequences.next_step(db)
    moments = [int(stepping.at)] if stepping is not None else []
    if any(enrolments.anybody_queued(db, r.id) or definition_of(r).begin.on != "manual" for r in sequences.running(db)):
        moments.append(midnight(now, workspace.zone, 1))
    return min(moments, default=None)
