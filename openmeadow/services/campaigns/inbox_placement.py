"""The spam folder seen from engagement: of each campaign and provider, while it is sent and for two days after."""

from __future__ import annotations

import json
import time
from math import log
from typing import Literal

import numpy as np

from openmeadow.core.arrays import F64, I64, Array, Mask
from openmeadow.core.columns import Rows
from openmeadow.core.engagement.expected import Curve, Level
from openmeadow.core.engagement.placement import EARLY, FEWEST_EXPECTED, LIKELY, Evidence, Group, dispersion, evidence
from openmeadow.core.ids import MessageId
from openmeadow.core.moments import DAY
from openmeadow.core.rules.conditions import View
from openmeadow.core.states import CampaignState, DeliveryState, SendKind
from openmeadow.services import models
from openmeadow.services.campaigns import expected, waits
from openmeadow.services.campaigns.figures import deliveries_of
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.campaigns import campaigns
from openmeadow.store.campaigns.records import Campaign
from openmeadow.store.engagement import events
from openmeadow.store.health import inbox_placement as table
from openmeadow.store.health.inbox_placement import Placed
from openmeadow.store.health.providers import names as provider_names
from openmeadow.store.segments.permission_facts import StoreFacts

YEAR, LOOKED_AFTER, MOST_LIKELIHOOD = 365 * DAY, 2 * DAY, 1e12
GUARDRAIL, SHARE = "inbox placement", 20.0
WAITS = (DeliveryState.QUEUED, DeliveryState.DEFERRED)
UNDER_WAY = (CampaignState.SCHEDULED, CampaignState.SENDING)


def usual_dispersion(workspace: Workspace, now: int) -> float:
    """How far providers usually are from each other here."""
    known = [r for r in table.since(workspace.store.read(), now - YEAR) if r.expected >= FEWEST_EXPECTED]
    return dispersion(np.array([r.ratio for r in known]), np.array([r.variance for r in known]))


def grouped(rows: Rows, chance: F64, hidden: Mask, provider: Array, now: int, curve: Curve) -> dict[int, Group]:
    """The recipients of one message by provider: who was sent it long enough ago. Left out is whose reading cannot be
    seen, altogether or of this message. Arrays have one entry a row."""
    half, first = curve.within(EARLY), np.minimum(rows.opened_at, rows.reacted_at)
    due = (rows.first_at + half <= now) & (rows.failed_at > now)
    unseen = hidden | ((rows.machine_at <= now) & (first > now)) | ~np.isfinite(chance)
    counts = due & ~unseen
    engaged = first <= rows.first_at + half
    return {
        int(p): Group(EARLY * chance[mine], engaged[mine])
        for p in np.unique(provider[counts])
        for mine in [np.flatnonzero(counts & (provider == p))]
    }


def told(groups: dict[int, Group], usual: Level, spread: float) -> dict[int, Evidence]:
    """What each provider's people show."""
    return {p: evidence(groups, p, usual, spread) for p in groups}


def as_rows(
    message: MessageId, began_at: int, now: int, groups: dict[int, Group], found: dict[int, Evidence]
) -> list[Placed]:
    """To be kept."""
    out = []
    for p, e in found.items():
        beside = max(groups[p].expected * e.others, 1e-9)
        out.append(
            Placed(
                message=message,
                provider=p,
                looked_at=now,
                began_at=began_at,
                people=e.people,
                observed=e.observed,
                expected=e.expected,
                likelihood=min(e.likelihood, MOST_LIKELIHOOD),
                could_show=e.could_show,
                ratio=log((e.observed + 0.5) / (beside + 0.5)),
                variance=groups[p].noise(e.others),
            )
        )
    return out


def look(workspace: Workspace, row: Campaign, view: View) -> dict[int, Evidence]:
    """What a campaign shows about each provider now; kept."""
    if row.message is None:
        return {}
    assert isinstance(view.facts, StoreFacts)
    rows, d = view.rows_of(row.message), deliveries_of(workspace, row.id)[SendKind.FIRST]
    if not len(rows) or not len(d):
        return {}
    ids: I64 = view.columns.people.id[rows.person]
    place = np.minimum(np.searchsorted(d.subscriber, ids), len(d) - 1)
    chance = np.where(d.subscriber[place] == ids, d.chance[place], np.nan)
    groups = grouped(
        rows,
        chance,
        view.scores.hidden[rows.person],
        view.facts.provider[rows.person],
        view.now,
        waits.curve(workspace, view),
    )
    found = told(groups, expected.level(workspace, row.purpose), usual_dispersion(workspace, view.now))
    kept = as_rows(row.message, int(rows.first_at.min()), view.now, groups, found)
    with workspace.store.atomic() as db:
        table.keep(db, kept)
    return found


def sentence(provider: str, e: Evidence | Placed) -> str:
    """What it is based on, in words."""
    return (
        f"{provider}: {e.observed:,} of {e.expected:,.0f} expected have engaged, while the others engage as usual. "
        "Your mail is most likely in the spam folder there."
    )


def pause_if_spam(workspace: Workspace, row: Campaign, view: View) -> str:
    """Look at a campaign, and pause it where mail to a provider that still waits would go to the spam folder; the
    sentence, or "". Once for each provider: who resumes has decided."""
    names, db = provider_names(workspace.store.read()), workspace.store.read()
    spam = {p: e for p, e in look(workspace, row, view).items() if e.is_spam}
    waiting = {p: e for p, e in spam.items() if table.waiting_at(db, row.id, p, WAITS)}
    if not waiting or row.state not in UNDER_WAY or row.message is None:
        return ""
    worst = max(waiting, key=lambda p: waiting[p].likelihood)
    why = sentence(names[worst], waiting[worst])
    shown = [
        models.Guardrail(
            kind=SendKind.FIRST,
            place="provider",
            name=names[p],
            guardrail=GUARDRAIL,
            k=e.observed,
            n=round(e.expected),
            limit=1.0,
            evidence=min(e.likelihood, MOST_LIKELIHOOD),
            state="over limit",
        )
        for p, e in waiting.items()
    ]
    with workspace.store.atomic() as out:
        if not any([table.note_paused(out, row.message, p, view.now) for p in waiting]):
            return ""
        evidence_kept = json.dumps([g.model_dump() for g in shown])
        paused = {"state": "paused", "paused_why": why, "paused_evidence": evidence_kept}
        if not campaigns.update_in(out, row.id, ("scheduled", "sending"), paused):
            return ""
        settings.log(out, view.now, "guardrail", f"paused campaign: {GUARDRAIL}", row.name, len(waiting))
    return why


class _Looked:
    """When campaigns are looked at again: looking at large ones takes a small share of the time."""

    def __init__(self, workspace: Workspace) -> None:
        self.not_before = 0.0


def tend(workspace: Workspace) -> list[str]:
    """Look at every campaign under way, and at those begun in the last two days; the sentences of those paused."""
    kept = workspace.part(_Looked)
    if time.monotonic() < kept.not_before:
        return []
    db, now, out, begun = workspace.store.read(), workspace.now(), list[str](), time.monotonic()
    for c in campaigns.begun_since(db, now - LOOKED_AFTER):
        row = campaigns.one(db, c)
        if row is not None and row.message is not None and (why := pause_if_spam(workspace, row, workspace.view())):
            out.append(why)
    kept.not_before = time.monotonic() + SHARE * (time.monotonic() - begun)
    return out


def _state(r: Placed) -> Literal["inbox", "spam", "too few"]:
    if r.likelihood >= LIKELY and r.observed < r.expected:
        return "spam"
    return "inbox" if r.could_show else "too few"


def by_provider(workspace: Workspace, now: int, days: int) -> dict[int, list[models.PlacementSeen]]:
    """Of each provider what the messages of some days showed, the earliest first."""
    names = events.message_names(workspace.store.read())
    out: dict[int, list[models.PlacementSeen]] = {}
    for r in table.since(workspace.store.read(), now - days * DAY):
        out.setdefault(r.provider, []).append(
            models.PlacementSeen(
                message=names.get(r.message, ""),
                at=r.began_at,
                people=r.people,
                observed=r.observed,
                expected=r.expected,
                state=_state(r),
            )
        )
    return out
