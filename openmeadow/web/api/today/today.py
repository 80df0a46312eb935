"""Today, the foot line, and find."""

from __future__ import annotations

import time

from openmeadow.core.events import Kind
from openmeadow.core.moments import DAY
from openmeadow.services.campaigns import outgoing
from openmeadow.services.clock import DemoClock
from openmeadow.services.senders import relay
from openmeadow.services.today import engaged_base, first_steps, overview, process_watch
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.campaigns import batches as batch_table
from openmeadow.store.campaigns import campaigns, deliveries
from openmeadow.store.campaigns.delivery_records import ComingBatch
from openmeadow.store.engagement import chance_models, event_hours, events
from openmeadow.store.segments import segments
from openmeadow.store.sequences import enrolments, sequences
from openmeadow.store.subscribers import subscribers
from openmeadow.web import schemas as m
from openmeadow.web.api.account import moving
from openmeadow.web.router import ANALYSE, Routes


def _batch_name(due: ComingBatch) -> str:
    return f"{due.name}, {'' if due.kind == 'first' else due.kind + ' of '}batch {due.n}"


routes = Routes()


class _Lately:
    """How many may be mailed by purpose, as it was worked out a moment ago."""

    def __init__(self, workspace: Workspace) -> None:
        self.permitted: dict[str, tuple[float, int]] = {}


def stamp(workspace: Workspace, now: int) -> str:
    """Changes when something that pages show may have changed; the passing of time alone changes it only in a
    demo, whose clock stands."""
    db = workspace.store.read()
    parts = [events.highest(db), subscribers.facts_version(db), settings.last_activity(db), deliveries.sending_now(db)]
    fit = chance_models.last_fit(db)
    parts += [0 if fit is None else fit.fitted_at, enrolments.moves_version(db), int(workspace.columns.is_behind)]
    return ":".join(map(str, [*parts, now] if isinstance(workspace.clock, DemoClock) else parts))


@routes.route("GET", "/today", m.TodayView)
def see(workspace: Workspace) -> m.TodayView:
    """Decisions, day_rows of the day, the engaged base, the providers."""
    view = workspace.view()
    base, lacking = engaged_base.see(workspace, view)
    day_rows = overview.day_rows(workspace)
    return m.TodayView(
        now=view.now,
        decisions=overview.decisions(workspace, view),
        day_rows=day_rows,
        base=base,
        base_missing=lacking,
        providers=overview.providers(workspace, view),
        day=overview.day(workspace),
        goes_out=sum(x.people - x.sent for x in day_rows if x.kind == "batch" and x.state in ("scheduled", "sending")),
        due_in_sequences=sum(x.people for x in day_rows if x.kind == "sequence"),
        first_steps=first_steps.see(workspace),
    )


@routes.route("POST", "/today/first-steps", m.Done, body=m.SkipStep, rights=ANALYSE)
def skip(workspace: Workspace, body: m.SkipStep) -> m.Done:
    """Leave a step of the first hour out for now, or take it up again."""
    first_steps.skip(workspace, body.key, skipped=body.skipped)
    return m.Done()


@routes.route("GET", "/status", m.Status)
def foot(workspace: Workspace) -> m.Status:
    """How fresh the data is, how many are permitted, what goes out next, the 30-day complaint rate."""
    under_way = moving(workspace)  # before the moment is read, so that "finished" never comes with an earlier one
    view, db = workspace.view(), workspace.store.read()
    basis = workspace.basis(view.columns, view.now, workspace.pace())  # nobody's score is asked for
    purpose = subscribers.usual_purpose(db)
    counted = workspace.part(_Lately).permitted
    fresh = counted.get(purpose)
    if fresh is None or time.monotonic() - fresh[0] > 5:
        fresh = (time.monotonic(), int((view.facts.permitted(purpose) & view.alive).sum()) if purpose else 0)
        counted[purpose] = fresh
    permitted = fresh[1]
    since = view.now - 30 * DAY
    sent, complained = (event_hours.total(db, kind, since, view.now) for kind in (Kind.SENT, Kind.COMPLAINED))
    gone = relay.away(workspace)
    due = next(
        (
            b
            for b in batch_table.coming(db, view.now, view.now + 30 * DAY)
            if not b.external and b.state == "scheduled" and b.campaign_state in ("scheduled", "sending")
        ),
        None,
    )
    next_at, next_name = (due.due_at, _batch_name(due)) if due else (None, "")
    stepping = sequences.next_step(db)
    if stepping is not None and (next_at is None or stepping.at < next_at):
        next_at, next_name = stepping.at, stepping.name
    return m.Status(
        now=view.now,
        scored_at=view.now,
        window_days=basis.cadence.window,
        strong_from=basis.limits.strong,
        steady_from=basis.limits.steady,
        own_history=basis.models.reading.is_own,
        subscribers=int(view.alive.sum()),
        permitted=permitted,
        purpose=purpose,
        next_at=next_at,
        next_name=next_name,
        complaints=complained,
        sent=sent,
        sending=deliveries.sending_now(db),
        moving=under_way,
        stamp=stamp(workspace, view.now),
        worker_silent=process_watch.worker_silent(workspace),
        catching_up=workspace.columns.is_behind,
        outgoing_paused=outgoing.is_paused(workspace),
        relay=None if gone is None else m.RelayAway.read_from(gone),
    )


@routes.route("GET", "/search", m.Finds, query=m.FindQuery)
def find(workspace: Workspace, query: m.FindQuery) -> m.Finds:
    """Subscribers, segments and campaigns whose name or address holds the text."""
    text, db = query.text.strip().lower(), workspace.store.read()
    if not text:
        return m.Finds(finds=[])
    out = [
        m.Found(kind="campaign", id=c.id, name=c.name, detail=c.state)
        for c in campaigns.every(db)
        if text in c.name.lower()
    ][:5]
    out += [
        m.Found(kind="segment", id=s.id, name=s.name, detail=s.rule) for s in segments.every(db) if text in s.name.lower()
    ][:5]
    out += [
        m.Found(kind="sequence", id=q.id, name=q.name, detail=q.state)
        for q in sequences.every(db)
        if text in q.name.lower()
    ][:5]
    rows = subscribers.by_ids(db, subscribers.matching(db, text, 8))
    out += [m.Found(kind="subscriber", id=i, name=r.name or r.email, detail=r.email) for i, r in rows.items()]
    return m.Finds(finds=out)


@routes.route("GET", "/jobs", m.Jobs)
def jobs(workspace: Workspace) -> m.Jobs:
    """Jobs of late, newest first."""
    from openmeadow.web.api.subscribers.bulk_actions import job_model

    return m.Jobs(jobs=[job_model(r) for r in settings.latest_jobs(workspace.store.read())])
