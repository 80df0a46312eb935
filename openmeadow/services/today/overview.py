"""Today: what needs a decision, what goes out, the engaged base over 12 months, the providers."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime

import numpy as np

from openmeadow.core.events import Kind
from openmeadow.core.moments import DAY, HOUR, midnight
from openmeadow.core.rules.conditions import View
from openmeadow.services import models
from openmeadow.services.campaigns import inbox_placement, outgoing
from openmeadow.services.health.provider_health import limits, unknown_sources
from openmeadow.services.segments import segments
from openmeadow.services.senders import relay
from openmeadow.services.sequences import statistics
from openmeadow.services.subscribers import sunset
from openmeadow.services.today import engaged_base
from openmeadow.services.workspace import Workspace
from openmeadow.store.campaigns import batches as batch_table
from openmeadow.store.campaigns import campaigns
from openmeadow.store.campaigns import external as external_table
from openmeadow.store.campaigns import unconfirmed as unconfirmed_table
from openmeadow.store.campaigns.delivery_records import ComingBatch, ExternalPending
from openmeadow.store.engagement import event_counts, event_hours
from openmeadow.store.health.providers import by_people
from openmeadow.store.health.providers import names as provider_names
from openmeadow.store.segments.permission_facts import StoreFacts
from openmeadow.store.senders import senders
from openmeadow.store.sequences import sequences

WEEKS, PLACEMENT_DAYS = 12, 14


def providers(workspace: Workspace, view: View) -> list[models.Provider]:
    """Per provider over 30 days: people, sends, deferred, bounced, complained; deferred share by week."""
    assert isinstance(view.facts, StoreFacts)
    names = provider_names(workspace.store.read())
    n = len(names)
    people = np.bincount(view.facts.provider[view.alive], minlength=n)
    counts = np.zeros((n, 11), np.int64)
    weeks = np.zeros((n, WEEKS, 2), np.int64)
    for r in event_hours.by_provider_and_week(workspace.store.read(), view.now, WEEKS, 30 * DAY):
        counts[r.provider, r.kind] += r.month
        if r.kind in (Kind.SENT, Kind.DEFERRED) and r.week < WEEKS:
            weeks[r.provider, WEEKS - 1 - r.week, 0 if r.kind == Kind.SENT else 1] += r.n
    order = by_people(names, people)
    return [
        models.Provider(
            name=names[i],
            people=int(people[i]),
            sent=int(counts[i, 1]),
            deferred=int(counts[i, 3]),
            bounced=int(counts[i, 4]),
            complained=int(counts[i, 9]),
            weeks=[float(d / max(h + d, 1)) for h, d in weeks[i]],
        )
        for i in order
    ]


Add = Callable[[str, str, str, str, str], None]  # kind, title, detail, link, and what its button says


def decisions(workspace: Workspace, view: View) -> list[models.Decision]:
    """What somebody must decide, the most urgent first; each leads to where it is decided."""
    out: list[models.Decision] = []

    def add(kind: str, title: str, detail: str, link: str, act: str) -> None:
        out.append(models.Decision(kind=kind, title=title, detail=detail, link=link, act=act))

    _about_the_relay(workspace, add)
    _about_campaigns(workspace, add)
    _about_senders(workspace, add)
    _about_providers(workspace, view, add)
    _about_subscribers(workspace, view, add)
    return out


def _about_the_relay(workspace: Workspace, add: Add) -> None:
    """What keeps mail from leaving at all."""
    restored = outgoing.paused(workspace)
    if restored is not None:
        people = sum(p.waiting for p in restored.plans)
        detail = (
            f"{people:,} were queued at that time, and some may have been sent since. Nothing is sent until you decide."
        )
        add(
            "Restored",
            f"This workspace was restored to {_clock(workspace, restored.as_of)}.",
            detail,
            "/restored",
            "Review",
        )
    gone = relay.away(workspace)
    if gone is not None:
        waits = "1 delivery is queued" if gone.waiting == 1 else f"{gone.waiting:,} deliveries are queued"
        detail = f"{gone.meaning} Since {_clock(workspace, gone.since)}; {waits}."
        add("Relay", "The relay accepts no mail.", detail, "/senders/relay", "View relay")
    elif relay.goes_in_clear(workspace):
        detail = "Anyone on the network can read and change it. Set relay_tls to starttls."
        add("Unencrypted", "Mail to the relay is not encrypted.", detail, "/senders/relay", "View relay")


def _about_campaigns(workspace: Workspace, add: Add) -> None:
    """Campaigns and sequences that wait for somebody."""
    db = workspace.store.read()
    for c in campaigns.every(db):
        if c.state == "paused":
            add(
                "Paused",
                f"{c.name} is paused.",
                c.paused_why or "It will not send until someone resumes or stops it.",
                f"/campaigns/{c.id}/schedule",
                "Review",
            )
    _about_placement(workspace, add)
    for h in statistics.held(workspace):
        add("Paused", h.title, h.why, f"/sequences/{h.sequence}", "Review")
    for wanted in campaigns.asked_for_eyes(db):
        add(
            "Approval",
            f"{wanted.asked_by} asked you to approve {wanted.name}.",
            "It cannot start until approved.",
            f"/campaigns/{wanted.id}/checks",
            "Review",
        )
    for u in unconfirmed_table.unconfirmed(db):
        add(
            "Unconfirmed",
            f"{u.people:,} {'email' if u.people == 1 else 'emails'} of {u.name} "
            f"{'is' if u.people == 1 else 'are'} unconfirmed.",
            "The worker stopped before the relay replied.",
            f"/campaigns/{u.id}/schedule",
            "Resolve",
        )
    for e in external_table.external_pending(db, workspace.now()):
        wait = "1 recipient is waiting" if e.people == 1 else f"{e.people:,} recipients are waiting"
        add(
            "External",
            f"{wait} for the other system to send {_send_name(e)}.",
            "Download the batch files, send them, then import the event log.",
            f"/campaigns/{e.campaign}/schedule",
            "Download files",
        )


FEW_SENT = 100


def _about_providers(workspace: Workspace, view: View, add: Add) -> None:
    """Providers over one of the limits that Health shows: of the last week's mail, or of the last 30 days'."""
    at_most = limits(workspace)
    for p in providers(workspace, view):
        own, over = at_most.get(p.name, at_most[""]), []
        if p.sent >= FEW_SENT:
            if p.weeks and p.weeks[-1] > own["deferred"]:
                over.append(f"{p.weeks[-1]:.1%} of last week's mail was deferred (limit {own['deferred']:.0%})")
            if p.complained / p.sent > own["complaints"]:
                over.append(f"{p.complained / p.sent:.2%} complained in 30 days (limit {own['complaints']:.1%})")
        if over:
            add("Provider", f"{p.name} is over its limit.", f"{'; '.join(over)}.", "/health", "View")


def _about_senders(workspace: Workspace, add: Add) -> None:
    """Records that fail, and who sends in our name."""
    db = workspace.store.read()
    for d in senders.domains(db):
        if d.state == "fail":
            add(
                "Sender",
                f"{d.name} has a failing DNS record.",
                "Campaigns from it cannot start until it is fixed.",
                f"/senders/{d.id}",
                "View record",
            )
    for s in unknown_sources(workspace)[:3]:
        add(
            "DMARC",
            f"{s.ip} sends as {s.domain}.",
            f"{s.messages - s.aligned:,} of its {s.messages:,} messages failed DMARC.",
            "/health",
            "Identify",
        )


def _about_subscribers(workspace: Workspace, view: View, add: Add) -> None:
    """Who became inactive, and what waits for subscribers."""
    db = workspace.store.read()
    crossed = engaged_base.became_inactive(workspace, view)
    if crossed:
        add(
            "Inactive",
            f"{crossed:,} subscribers became inactive this week.",
            "They are at the upper right of the map.",
            "/subscribers/map",
            "View",
        )
    if waiting := sunset.due(workspace, view):
        add(
            "Sunset",
            f"This week's sunset policy covers {waiting:,} subscribers.",
            "Nothing happens until you approve it.",
            "/subscribers/sunset-policy",
            "Review",
        )
    for m in segments.moved(workspace, view):
        before, share = m.row.alert_count or 0, m.row.alert_share or 0
        by = f"{(m.count - before) / before:+.0%}" if before else "from none"
        add(
            "Segment",
            f"“{m.row.name}” went from {before:,} to {m.count:,} ({by}).",
            f"You asked to be told when it changes by more than {share:.0%}.",
            f"/segments/{m.row.id}",
            "View",
        )
    aside = event_counts.set_aside(db)
    if aside:
        add(
            "Import",
            f"{aside:,} events belong to unknown addresses.",
            "They are applied once those subscribers are imported.",
            "/subscribers/import",
            "Import",
        )


def _clock(workspace: Workspace, at: int) -> str:
    zone = workspace.zone
    return datetime.fromtimestamp(at, UTC).astimezone(zone).strftime("%d %b, %H:%M %Z")


def _about_placement(workspace: Workspace, add: Add) -> None:
    """Providers that most likely put the last messages into the spam folder, unless a campaign is paused for it."""
    names = provider_names(workspace.store.read())
    for provider, seen in inbox_placement.by_provider(workspace, workspace.now(), PLACEMENT_DAYS).items():
        last = next((s for s in reversed(seen) if s.state != "too few"), None)
        if last is None or last.state != "spam":
            continue
        add(
            "Spam",
            f"{names[provider]} most likely put “{last.message}” into the spam folder.",
            f"{last.observed:,} of {last.expected:,.0f} expected engaged in time, while the others engage as usual. "
            "Run a placement test, and send it less and to the most engaged first.",
            "/health",
            "View placement",
        )


def _send_name(b: ComingBatch | ExternalPending) -> str:
    return str(b.name) if b.kind == "first" else f"{b.name}, {b.kind}"


def day(workspace: Workspace) -> tuple[int, int]:
    """The day that contains now, from midnight to midnight in the workspace's zone."""
    now, zone = workspace.now(), workspace.zone
    return midnight(now, zone), midnight(now, zone, 1)


def day_rows(workspace: Workspace) -> list[models.DayRow]:
    """The day's batches, then who is due in sequences by the hour."""
    (begin, end), db = day(workspace), workspace.store.read()
    out = [
        models.DayRow(
            link=f"/campaigns/{b.campaign}/schedule",
            name=_send_name(b),
            kind="external" if b.external else "batch",
            n=b.n,
            due_at=b.due_at,
            state="paused" if b.campaign_state == "paused" and b.state != "sent" else b.state,
            people=b.people,
            sent=b.sent,
        )
        for b in batch_table.coming(db, begin, end - 1)
    ]
    sent = sequences.sent_since(db, begin)
    for r in sequences.day_of(db, begin, end):
        out.append(
            models.DayRow(
                link=f"/sequences/{r.sequence}",
                name=r.name,
                kind="sequence",
                n=r.hour,
                due_at=begin + r.hour * HOUR,
                state="scheduled",
                people=r.people,
                sent=sent.pop(r.sequence, 0),  # said once, with the first
            )
        )
    return out
