"""The first hour of a workspace: the steps from nothing to a first campaign, each done, open or left out for now."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

from openmeadow.core.errors import Missing
from openmeadow.services import models
from openmeadow.services.clock import DemoClock
from openmeadow.services.today import workspace_check
from openmeadow.services.today.workspace_check import PASS, WorkspaceFinding
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.campaigns import campaigns, deliveries
from openmeadow.store.engagement import events
from openmeadow.store.health import providers
from openmeadow.store.segments import segments
from openmeadow.store.subscribers import consent, subscribers

SKIPPED = "first_steps_skipped"


def _history(w: Workspace) -> WorkspaceFinding:
    n = events.highest(w.store.read())
    finding = (
        f"{n:,} events." if n else "Import the log of your past mailings: scores, bands and the map are told from it."
    )
    return WorkspaceFinding("History", PASS if n else "fail", finding, "", "/subscribers/import")


def _providers(w: Workspace) -> WorkspaceFinding:
    found = [p.name for p in providers.every(w.store.read()) if p.people and p.id]
    finding = (
        f"{', '.join(found[:4])}{' and others' if len(found) > 4 else ''}."
        if found
        else "Who hosts your subscribers' mailboxes is looked up once they are in; limits and figures go by it."
    )
    return WorkspaceFinding("Providers", PASS if found else "fail", finding, "", "/health")


def _consent(w: Workspace) -> WorkspaceFinding:
    db = w.store.read()
    given = consent.given_by_purpose(db)
    named = {p.id: p.name for p in subscribers.names(db, "purposes")}
    best = max(named, key=lambda p: given.get(p, 0), default=None)
    if best is None:
        finding = "Name what you mail about: a purpose, with the words people agree to."
    elif not given.get(best):
        finding = f"No one has agreed to “{named[best]}” yet. Import their consent with its source."
    else:
        finding = f"{given[best]:,} have agreed to “{named[best]}”."
    done = best is not None and given.get(best)
    return WorkspaceFinding("Consent", PASS if done else "fail", finding, "", "/subscribers/consent")


def _segment(w: Workspace) -> WorkspaceFinding:
    n = len(segments.every(w.store.read()))
    finding = f"{n:,} saved." if n else "Save a rule such as: opened at least 4 in 120 days."
    return WorkspaceFinding("Segment", PASS if n else "fail", finding, "", "/segments/new")


def _campaign(w: Workspace) -> WorkspaceFinding:
    n = len(campaigns.every(w.store.read()))
    finding = f"{n:,} created." if n else "Write, check and schedule the first one. Nothing is sent until you start it."
    return WorkspaceFinding("Campaign", PASS if n else "fail", finding, "", "/campaigns")


@dataclass(frozen=True)
class _Step:
    """``checks`` are those of the workspace that it is made of; ``look`` is what it asks for itself."""

    key: str
    name: str
    checks: tuple[str, ...] = ()
    look: Callable[[Workspace], WorkspaceFinding] | None = None


STEPS = (
    _Step("name", "Name and addresses", ("Name", "Postal address", "Public address")),
    _Step("domain", "Sending domain", ("Sender", "From address")),
    _Step("relay", "Relay", ("Relay", "Relay addresses")),
    _Step("worker", "Worker", ("Worker", "Outgoing")),
    _Step("subscribers", "Subscribers", ("Subscribers",)),
    _Step("history", "History", look=_history),
    _Step("providers", "Providers", look=_providers),
    _Step("consent", "Consent", look=_consent),
    _Step("segment", "First segment", look=_segment),
    _Step("campaign", "First campaign", look=_campaign),
)


def see(workspace: Workspace) -> list[models.FirstStep]:
    """All steps in order; none once something was sent, or in a demo."""
    db = workspace.store.read()
    if isinstance(workspace.clock, DemoClock) or deliveries.anything_sent(db):
        return []
    found = workspace_check.quick(workspace)
    skipped = settings.setting(db, SKIPPED) or []

    def one(step: _Step) -> models.FirstStep:
        mine = [step.look(workspace)] if step.look else [f for c in step.checks for f in found if f.check == c]
        shown = next((f for f in mine if f.state != PASS), mine[0])
        done = all(f.state == PASS for f in mine)
        state: Literal["done", "open", "skipped"] = "done" if done else "skipped" if step.key in skipped else "open"
        return models.FirstStep(key=step.key, name=step.name, state=state, sentence=shown.finding, link=shown.link)

    return [one(step) for step in STEPS]


def skip(workspace: Workspace, key: str, *, skipped: bool) -> None:
    """Leave a step out for now, or take it up again."""
    if key not in {s.key for s in STEPS}:
        raise Missing("There is no such step.")
    with workspace.store.atomic() as db:
        before = [k for k in settings.setting(db, SKIPPED) or [] if k != key]
        settings.set_setting(db, SKIPPED, [*before, key] if skipped else before)
