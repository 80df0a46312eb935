"""Moving people on: who enters, whose moment has come, whose message is settled, who leaves. Each chunk is one
transaction, so that a stop in between loses nobody and repeats nothing."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np

from openmeadow.core.consent.gate import LET_GO
from openmeadow.core.errors import MeadowError, NoSpace
from openmeadow.core.lot import draw
from openmeadow.core.planning.slots import real
from openmeadow.core.sequences import intake, machine
from openmeadow.core.sequences.ladder import EVERYONE, Ladder, Step
from openmeadow.core.sequences.machine import FINISHED, MAILED, WAITS, Moved
from openmeadow.desk.desk import Desk
from openmeadow.desk.sequences.asking import Asked, zones
from openmeadow.desk.sequences.noticing import comes_to_hold, may_leave
from openmeadow.desk.sequences.reading import ladder_of, pass_of
from openmeadow.store import ledger, sequences, stays, subscribers, workspace

PAUSED = "The sequence is paused."
CHUNK = 500
ENDING = ("erased", "suppressed", "bounced for good", "consent withdrawn", "consent none", "awaiting confirmation")
HELD_LOT = 17
HOUR, DAY = 3600, 86_400


def tick(desk: Desk) -> int:
    """Everything that is due in sequences that run; how many people moved. One that cannot go on (what a rule of it
    names is not there any more) pauses itself and keeps no other waiting."""
    moved = 0
    for row in sequences.running(desk.store.read()):
        try:
            runner = Runner(desk, row)
            moved += runner.news() + runner.settle() + runner.take_in() + runner.go_on()
        except NoSpace:
            raise
        except MeadowError as e:
            pause_by_itself(desk, row, str(e))
    return moved


def pause_by_itself(desk: Desk, row: Any, why: str) -> None:
    """Everybody stays at their step until what is wrong is mended."""
    with desk.store.atomic() as db:
        sequences.pause(db, row["id"], PAUSED, why)
        workspace.log(db, desk.now(), "worker", f"paused sequence: {why}", row["name"])


class Runner:
    """One running sequence at this moment."""

    def __init__(self, desk: Desk, row: Any) -> None:
        self.desk, self.row = desk, row
        self.ladder: Ladder = ladder_of(row)
        self.mails = sequences.mails(desk.store.read(), row["id"])
        self.messages = {k: int(m["message"]) for k, m in self.mails.items() if m["message"]}
        self.zone = str(desk.setting("time_zone"))
        names = {p["id"]: p["name"] for p in subscribers.names(desk.store.read(), "purposes")}
        self.purpose = names.get(row["purpose"], "")

    def asked(self, them: Sequence[Any]) -> Asked:
        return Asked(self.desk, self.ladder, self.messages, them)

    def news(self) -> int:
        """Whoever something happened to since the last look leaves at once where that is a reason to."""
        row, db = self.row, self.desk.store.read()
        people, event, consent = stays.with_news(db, row["id"], row["seen_event"], row["seen_consent"])
        people += may_leave(self.desk, row, self.ladder)
        gone = 0
        for i in range(0, len(people), CHUNK):
            gone += self.leave(people[i : i + CHUNK])
        if (event, consent) != (row["seen_event"], row["seen_consent"]):
            with self.desk.store.atomic() as w:
                sequences.update(w, row["id"], {"seen_event": event, "seen_consent": consent})
        return gone

    def leave(self, people: Sequence[int]) -> int:
        """Those of some people who have a reason to leave, leave; how many."""
        them = stays.inside(self.desk.store.read(), self.row["id"], people)
        if not them:
            return 0
        asked = self.asked(them)
        why = asked.leaving(self.purpose)
        with self.desk.store.atomic() as w:
            return stays.leave(w, [(asked.stay[s], self.desk.now(), reason) for s, reason in why.items()])

    def settle(self) -> int:
        """Whose message was handed over, or will not be, goes on; where the gate said no for good they leave."""
        moved = 0
        while them := stays.mailed(self.desk.store.read(), self.row["id"], CHUNK):
            out: list[tuple[int, str]] = []
            on: list[Any] = []
            for t in them:
                reason = t["reason"] or ""
                if t["delivery"] == "failed":
                    out.append((t["id"], f"could not be delivered ({reason.partition(':')[0]})"))
                elif t["delivery"] == "passed over" and reason in ENDING:
                    out.append((t["id"], reason))
                else:
                    on.append(t)
            with self.desk.store.atomic() as w:
                stays.leave(w, [(id, self.desk.now(), why) for id, why in out])
            moved += len(out) + self._move(on, "mailed")
        return moved

    def go_on(self) -> int:
        """Whose moment has come."""
        moved = 0
        while them := stays.due(self.desk.store.read(), self.row["id"], self.desk.now(), CHUNK):
            moved += self._move(them, "due")
        return moved

    def _move(self, them: Sequence[Any], how: str) -> int:
        """Some people on by the step machine; reasons to leave win over what is due at the same moment."""
        if not them:
            return 0
        now, db = self.desk.now(), self.desk.store.read()
        asked = self.asked(them)
        why = asked.leaving(self.purpose)
        passed = stays.passed(db, [t["id"] for t in them])
        gone, came = [], []
        for t in them:
            s = int(t["subscriber"])
            if s in why:
                gone.append((int(t["id"]), now, why[s]))
                continue
            came.append((t, self._ask_machine(t, how, asked, passed[t["id"]], now)))
        mail = [(t, m) for t, m in came if m.state == MAILED]
        rows = self._deliveries(mail, asked, now)
        written = {r[3] for r in rows}
        unready = {t["id"]: now + HOUR for t, _ in mail if t["id"] not in written}  # asked again then
        with self.desk.store.atomic() as w:
            stays.leave(w, gone)
            stays.pass_steps(w, [(t["id"], key, now) for t, m in came for key in m.passed])
            self._act(w, came, now)
            version = self.row["version"]
            stays.arrive(
                w,
                [
                    (t["id"], m.step, m.lane, m.due_at if m.state == WAITS else unready.get(t["id"]), version, now)
                    for t, m in came
                    if m.state != FINISHED
                ],
            )
            stays.leave(w, [(int(t["id"]), now, None) for t, m in came if m.state == FINISHED])
            sequences.add_mail(w, rows)
        return len(them)

    def _ask_machine(self, t: Any, how: str, asked: Asked, passed: set[int], now: int) -> Moved:
        zone = zones(self.zone, t["time_zone"])

        def ask(about: Step) -> bool:
            return asked.answer(about, int(t["subscriber"]))

        if t["step"] == 0:
            return machine.enter(self.ladder, now, ask, zone)
        go = machine.mailed if how == "mailed" else machine.due
        return go(self.ladder, t["step"], t["lane"], now, ask, zone, passed)

    def _act(self, w: Any, came: Sequence[tuple[Any, Moved]], now: int) -> None:
        """Labels, lists and fields that steps put on or take off."""
        todo: dict[Step, list[int]] = defaultdict(list)
        for t, m in came:
            for step in m.acts:
                todo[step].append(int(t["subscriber"]))
        for step, people in todo.items():
            if step.kind == "label":
                stays.put_label(w, step.name, people, step.take)
            elif step.kind == "list":
                stays.put_on_list(w, step.name, people, step.take, now)
            elif step.kind == "let go":
                why = f"sequence “{self.row['name']}”"
                subscribers.add_suppressions(w, [(s, LET_GO, now, why, None) for s in people])
            else:
                stays.put_field(w, step.name, step.value, people)

    def _deliveries(self, mail: Sequence[tuple[Any, Moved]], asked: Asked, now: int) -> list[Any]:
        if not mail:
            return []
        db, rows, band = self.desk.store.read(), [], asked.view.scores.band
        for t, m in mail:
            step = self.ladder.step(m.step)
            assert step is not None
            about, kind = pass_of(self.ladder, step)
            way = sequences.way_out(db, self.mails[about]["id"], kind) if about in self.mails else None
            if way is None:
                continue  # what it says is not ready
            held = step.kind == "repeat" and bool(t["held_back"])
            state, reason = (ledger.PASSED_OVER, "held back") if held else (ledger.WAITING, None)
            s = int(t["subscriber"])
            rows.append((*way, s, int(t["id"]), int(band[asked.place(s)]), state, reason, now))
        return rows

    # who enters

    def take_in(self) -> int:
        """Who the condition of entering has come to hold for goes into the queue; who may begin today begins."""
        came, went = comes_to_hold(self.desk, self.row, self.ladder)
        if came or went:
            with self.desk.store.atomic() as w:
                stays.hold_now(w, self.row["id"], came, went)
                queue(self.desk, w, self.row, self.ladder, came)
        db, row, begin = self.desk.store.read(), self.row, self.ladder.begin
        if not stays.anybody_queued(db, row["id"]):
            return 0
        now = self.desk.now()
        local = datetime.fromtimestamp(now, UTC).astimezone(ZoneInfo(self.zone))
        today = int(local.replace(hour=0, minute=0, second=0, microsecond=0).timestamp())
        of = stays.begun_since(db, row["id"], today)
        room = intake.room(begin, sum(of.values()), stays.begun_before(db, row["id"], today))
        if room == 0:
            return 0  # the queue may be long: it is not gone through before tomorrow
        waiting = stays.queued(db, row["id"], None if begin.by_lot or begin.a_provider else room)
        who = np.array([r["subscriber"] for r in waiting], np.int64)
        provider = np.array([r["provider"] for r in waiting], np.int64)
        mine = who[intake.begins(begin, who, provider, row["seed"], room, of)].tolist()
        if not mine:
            return 0
        runs = stays.last_runs(db, row["id"], mine)
        held = draw(row["seed"], np.array(mine, np.int64), HELD_LOT) < self.ladder.held_back
        with self.desk.store.atomic() as w:
            stays.begin(
                w,
                [
                    (row["id"], s, runs.get(s, (0, None))[0] + 1, int(h), row["version"], now)
                    for s, h in zip(mine, held.tolist(), strict=True)
                ],
            )
            stays.unqueue(w, row["id"], mine)
        return len(mine)


def queue(desk: Desk, w: Any, row: Any, ladder: Ladder, people: Sequence[int]) -> int:
    """Put people in the queue of a sequence, those who may enter (again); how many."""
    runs, now, again = stays.last_runs(w, row["id"], people), desk.now(), ladder.begin.again_after
    fit = []
    for s in people:
        run = runs.get(s)
        if run is None or (run[1] is not None and again is not None and now - run[1] >= again):
            fit.append(s)
    return stays.queue(w, row["id"], fit, now)


def no_more(desk: Desk, campaign: Any, kind: str, deliveries: Sequence[Any]) -> dict[int, str]:
    """Right before hand-over: who of some left the sequence, or answered what would be repeated; subscriber -> reason."""
    row = sequences.one(desk.store.read(), campaign["sequence"])
    assert row is not None
    runner = Runner(desk, row)
    people = [int(d["subscriber"]) for d in deliveries]
    runner.leave(people)
    open_stays = {int(t["id"]): t for t in stays.inside(desk.store.read(), row["id"], people)}
    out = {int(d["subscriber"]): "left the sequence" for d in deliveries if d["stay"] not in open_stays}
    again = [open_stays[d["stay"]] for d in deliveries if kind != "first" and d["stay"] in open_stays]
    if again:
        asked = runner.asked(again)
        about = Step(0, "repeat", EVERYONE, of=int(campaign["step"]))
        out |= {int(s): "answered before the resend" for s in asked.ids.tolist() if asked.answer(about, int(s))}
    return out


def next_due(desk: Desk) -> int | None:
    """The next moment at which something is due in sequences that run: somebody's step, or the next day's beginners."""
    db, now = desk.store.read(), desk.now()
    stepping = sequences.next_step(db)
    moments = [int(stepping["at"])] if stepping is not None else []
    if any(stays.anybody_queued(db, r["id"]) or ladder_of(r).begin.on != "by hand" for r in sequences.running(db)):
        local = datetime.fromtimestamp(now, UTC).astimezone(ZoneInfo(str(desk.setting("time_zone"))))
        tomorrow = (local + timedelta(days=1)).replace(hour=0, minute=0, second=0, microsecond=0, tzinfo=None)
        moments.append(real(tomorrow, ZoneInfo(str(desk.setting("time_zone")))))
    return min(moments, default=None)
