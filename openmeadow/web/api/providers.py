"""Mailbox providers: who they are here, their names, colours, caps and limits."""

from __future__ import annotations

from openmeadow.core.planning.guardrails import LIMITS
from openmeadow.desk import providers
from openmeadow.desk.desk import Desk
from openmeadow.store import providers as table
from openmeadow.web import models as m
from openmeadow.web.described import ANALYSE, Described, who


def register(api: Described, desk: Desk) -> None:
    @api.route("GET", "/providers", m.Providers)
    def every() -> m.Providers:
        """All providers, those with the most people first, other domains last."""
        found, progress = table.every(desk.store.read()), providers.progress(desk)
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
                    domains=[m.ProviderDomain(domain=d, people=n) for d, n in providers.domains_of(desk, p.id, 12)],
                )
                for p in found
            ],
            guardrails={k: float(v) for k, v in LIMITS.items()},
            asked=progress.asked,
            to_ask=progress.to_ask,
        )

    @api.route("PUT", "/providers/<int:id>", m.Done, body=m.ProviderIn, rights=ANALYSE)
    def change(id: int, body: m.ProviderIn) -> m.Done:
        """Rename a provider, give it a colour, a daily cap and limits of its own."""
        providers.change(
            desk, id, who(), name=body.name, colour=body.colour, daily_cap=body.daily_cap, limits=dict(body.limits)
        )
        return m.Done(id=id)

    @api.route("POST", "/providers/<int:id>/merge", m.Done, body=m.MergeIn, rights=ANALYSE)
    def merge(id: int, body: m.MergeIn) -> m.Done:
        """Make a provider part of another one; how many people moved."""
        return m.Done(id=body.into, count=providers.merge(desk, id, body.into, who()))

    @api.route("POST", "/providers/split", m.Done, body=m.SplitIn, rights=ANALYSE)
    def split(body: m.SplitIn) -> m.Done:
        """Put a domain at a provider of its own, or at another that is there; how many people moved."""
        return m.Done(count=providers.split(desk, body.domain, body.name, who()))
