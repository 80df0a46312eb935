"""Mailbox providers: who they are here, their names, colours, caps and limits."""

from __future__ import annotations

from openmeadow.core.delivery.guardrails import LIMITS
from openmeadow.services.health import providers
from openmeadow.services.workspace import Workspace
from openmeadow.store.health import providers as table
from openmeadow.web import schemas as m
from openmeadow.web.router import ANALYSE, Routes, who

routes = Routes()


@routes.route("GET", "/providers", m.Providers)
def every(workspace: Workspace) -> m.Providers:
    """All providers, those with the most people first, other domains last."""
    found, progress = table.every(workspace.store.read()), providers.progress(workspace)
    return m.Providers(
        providers=[
            m.MailboxProvider(
                id=p.id,
                name=p.name,
                colour=p.colour,
                daily_cap=p.daily_cap,
                limits=p.limits,
                people=p.people,
                hosts=list(p.hosts),
                domains=[m.ProviderDomain(domain=d, people=n) for d, n in providers.domains_of(workspace, p.id, 12)],
            )
            for p in found
        ],
        guardrails={k: float(v) for k, v in LIMITS.items()},
        asked=progress.asked,
        to_ask=progress.to_ask,
    )


@routes.route("PUT", "/providers/<int:id>", m.Done, body=m.ProviderIn, rights=ANALYSE)
def change(workspace: Workspace, row_id: int, body: m.ProviderIn) -> m.Done:
    """Rename a provider, give it a colour, a daily cap and limits of its own."""
    providers.change(
        workspace, row_id, who(), name=body.name, colour=body.colour, daily_cap=body.daily_cap, limits=dict(body.limits)
    )
    return m.Done(id=row_id)


@routes.route("POST", "/providers/<int:id>/merge", m.Done, body=m.MergeIn, rights=ANALYSE)
def merge(workspace: Workspace, row_id: int, body: m.MergeIn) -> m.Done:
    """Make a provider part of another one; how many people moved."""
    return m.Done(id=body.into, count=providers.merge(workspace, row_id, body.into, who()))


@routes.route("POST", "/providers/split", m.Done, body=m.SplitIn, rights=ANALYSE)
def split(workspace: Workspace, body: m.SplitIn) -> m.Done:
    """Put a domain at a provider of its own, or at another that is there; how many people moved."""
    return m.Done(count=providers.split(workspace, body.domain, body.name, who()))
