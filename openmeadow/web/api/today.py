"""Today, the foot line, and find."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

from openmeadow.clock import DemoClock
from openmeadow.core.columns import DAY
from openmeadow.desk import outgoing, relay, today, watch, workspace_check
from openmeadow.desk.desk import Desk
from openmeadow.store import campaigns, events, ledger, segments, sequences, subscribers, workspace
from openmeadow.web import models as m
from openmeadow.web.api.entrance import moving
from openmeadow.web.described import Described

STANDS = 10.0  # seconds that slow figures of the day stand


def _batch_name(due: Any) -> str:
    return f"{due['name']}, {'' if due['kind'] == 'first' else due['kind'] + ' of '}batch {due['n']}"


def register(api: Described, desk: Desk) -> None:
    counted: dict[str, tuple[float, int]] = {}  # by purpose: when counted, how many; five seconds old at most
    kept: dict[str, tuple[object, float, Any]] = {}

    def lately(name: str, mark: object, compute: Callable[[], Any]) -> Any:
        """What was worked out a moment ago stands while messages stream out; another hour or other people do not wait."""
        found = kept.get(name)
        if found is None or found[0] != mark or time.monotonic() - found[1] > STANDS:
            found = kept[name] = (mark, time.monotonic(), compute())
        return found[2]

    def first_run() -> list[m.WorkspaceCheck]:
        """What is missing before a first real send; nothing once something was sent, or in a demo."""
        if isinstance(desk.clock, DemoClock) or ledger.anything_sent(desk.store.read()):
            return []
        return [m.WorkspaceCheck(**vars(f)) for f in workspace_check.quick(desk)]

    def stamp(now: int) -> str:
        """Changes when something that pages show may have changed; the passing of time alone changes it only in a
        demo, whose clock stands."""
        db = desk.store.read()
        parts = [events.highest(db), subscribers.facts_version(db), workspace.last_activity(db), ledger.going_out(db)]
        return ":".join(map(str, [*parts, now] if isinstance(desk.clock, DemoClock) else parts))

    @api.route("GET", "/today", m.TodayView)
    def see() -> m.TodayView:
        """Decisions, lanes of the day, the engaged base, the providers."""
        view = desk.view()
        mark = (view.now // 3600, len(view.columns.people))
        lanes = [m.Lane(**x) for x in today.lanes(desk)]
        return m.TodayView(
            now=view.now,
            decisions=[m.Decision(**d) for d in today.decisions(desk, view)],
            lanes=lanes,
            base=lately("base", mark, lambda: [m.BasePoint(**p) for p in today.engaged_base(view)]),
            providers=lately("providers", mark, lambda: [m.Provider(**p) for p in today.providers(desk, view)]),
            day=today.day(desk),
            goes_out=sum(x.people - x.handed for x in lanes if x.kind == "batch" and x.state in ("waiting", "going out")),
            due_in_sequences=sum(x.people for x in lanes if x.kind == "sequence"),
            first_run=first_run(),
        )

    @api.route("GET", "/foot", m.Foot)
    def foot() -> m.Foot:
        """How fresh the data is, how many are permitted, what goes out next, the 30-day complaint rate."""
        under_way = moving(desk)  # before the moment is read, so that "finished" never comes with an earlier one
        view, db = desk.view(), desk.store.read()
        purpose = subscribers.usual_purpose(db)
        fresh = counted.get(purpose)
        if fresh is None or time.monotonic() - fresh[0] > 5:
            fresh = (time.monotonic(), int((view.facts.permitted(purpose) & view.alive).sum()) if purpose else 0)
            counted[purpose] = fresh
        permitted = fresh[1]
        row = db.execute(
            "SELECT count(*) FILTER (WHERE kind = 1) AS handed, count(*) FILTER (WHERE kind = 9) AS "
            "complained FROM events WHERE at > ? AND at <= ?",
            (view.now - 30 * DAY, view.now),
        ).fetchone()
        gone = relay.away(desk)
        due = next(
            (
                b
                for b in ledger.coming(db, view.now, view.now + 30 * DAY)
                if not b["elsewhere"] and b["state"] == "waiting" and b["campaign_state"] in ("planned", "sending")
            ),
            None,
        )
        next_at, next_name = (due["due_at"], _batch_name(due)) if due else (None, "")
        stepping = sequences.next_step(db)
        if stepping is not None and (next_at is None or stepping["at"] < next_at):
            next_at, next_name = stepping["at"], stepping["name"]
        return m.Foot(
            now=view.now,
            scored_at=view.now,
            subscribers=int(view.alive.sum()),
            permitted=permitted,
            purpose=purpose,
            next_at=next_at,
            next_name=next_name,
            complaints=row["complained"],
            handed_over=row["handed"],
            sending=ledger.going_out(db),
            moving=under_way,
            stamp=stamp(view.now),
            worker_silent=watch.worker_silent(desk),
            outgoing_paused=outgoing.is_paused(desk),
            relay=None if gone is None else m.RelayAway(**vars(gone)),
        )

    @api.route("GET", "/find", m.Finds, query=m.FindQuery)
    def find(query: m.FindQuery) -> m.Finds:
        """Subscribers, segments and campaigns whose name or address holds the text."""
        text, db = query.text.strip().lower(), desk.store.read()
        if not text:
            return m.Finds(finds=[])
        out = [
            m.Found(kind="campaign", id=c["id"], name=c["name"], detail=c["state"])
            for c in campaigns.every(db)
            if text in c["name"].lower()
        ][:5]
        out += [
            m.Found(kind="segment", id=s["id"], name=s["name"], detail=s["rule"])
            for s in segments.every(db)
            if text in s["name"].lower()
        ][:5]
        out += [
            m.Found(kind="sequence", id=q["id"], name=q["name"], detail=q["state"])
            for q in sequences.every(db)
            if text in q["name"].lower()
        ][:5]
        rows = subscribers.by_ids(db, subscribers.matching(db, text, 8))
        out += [
            m.Found(kind="subscriber", id=i, name=r["name"] or r["email"], detail=r["email"]) for i, r in rows.items()
        ]
        return m.Finds(finds=out)

    @api.route("GET", "/jobs", m.Jobs)
    def jobs() -> m.Jobs:
        """Jobs of late, newest first."""
        from openmeadow.web.api.acts import job_model

        rows = desk.store.read().execute("SELECT * FROM jobs ORDER BY id DESC LIMIT 20").fetchall()
        return m.Jobs(jobs=[job_model(r) for r in rows])
