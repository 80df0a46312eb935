"""The workspace's mailbox providers: found by MX, kept current at a polite pace, named and set by the analyst."""

from __future__ import annotations

import re
import sqlite3
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from openmeadow.core.addresses.providers import organisation_of, standing
from openmeadow.core.addresses.verdicts import NOT_ASKED
from openmeadow.core.arrays import I64
from openmeadow.core.delivery.guardrails import LIMITS
from openmeadow.core.errors import Missing, Refused
from openmeadow.core.moments import DAY
from openmeadow.net.dns import Resolver
from openmeadow.services.subscribers.address_checks import ask_domains
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.health import providers as table
from openmeadow.store.health.providers import OTHER_DOMAINS, Provider
from openmeadow.store.subscribers import addresses as address_table
from openmeadow.store.subscribers import subscribers
from openmeadow.store.subscribers.subscribers import people_version
from openmeadow.store.turns import Turns

MX_AGE, AT_ONCE = 30 * DAY, 25  # a domain is asked once a month; so many each half minute
_COLOUR = re.compile(r"#[0-9a-fA-F]{6}\Z")


@dataclass(frozen=True)
class Found:
    """What a look did: domains asked, providers new, people who belong to another one now."""

    asked: int
    new: int
    moved: int


def find(workspace: Workspace, *, ask: bool = True) -> Found:
    """Ask some domains for their mail servers, then put everybody at the provider whose hosts take their mail. A provider
    that is large enough stands by itself, named after its hosts until somebody names it."""
    asked = _ask(workspace) if ask else 0
    db, now = workspace.store.read(), workspace.now()
    worked_out = {d: organisation_of(hosts) for d, hosts in table.without_organisation(db).items()}
    if worked_out:
        with workspace.store.atomic() as w:
            table.set_organisations(w, worked_out)
    rows = table.people_by_domain(db)
    of, hosts, by_hand = table.organisations(db), table.by_host(db), table.by_hand(db)
    people: Counter[str] = Counter()
    for r in rows:
        if r.domain not in by_hand:
            people[of.get(r.domain, "")] += r.people
    new = [o for o in standing(people, sum(r.people for r in rows)) if o not in hosts]
    if new:
        with workspace.store.atomic() as w:
            for organisation in new:
                row_id = table.named(w, organisation)
                hosts[organisation] = table.add(w, organisation, now) if row_id is None else row_id
                table.set_host(w, organisation, hosts[organisation])
            settings.log(w, now, "worker", "found providers by MX", ", ".join(new)[:200], len(new))
    belongs = {r.domain: by_hand.get(r.domain, hosts.get(of.get(r.domain, ""), OTHER_DOMAINS)) for r in rows}
    wrong = {r.domain: belongs[r.domain] for r in rows if r.provider != belongs[r.domain]}
    return Found(asked, len(new), _move(workspace, *table.to_move(db, wrong)) if wrong else 0)


def _move(workspace: Workspace, people: I64, provider: I64) -> int:
    """Each of some people belongs to a provider from now on; how many."""

    def some(db: sqlite3.Connection, part: Sequence[int]) -> int:
        mine = slice(part[0], part[-1] + 1)
        subscribers.people_changed(db)
        return table.set_providers(db, zip(provider[mine].tolist(), people[mine].tolist(), strict=True))

    return Turns(workspace.store).each(range(len(people)), some)


def look(workspace: Workspace) -> int:
    """As ``find``, where anything has changed since the last look; how many people moved."""
    db = workspace.store.read()
    seen = (people_version(db), address_table.asked_since(db, workspace.now() - MX_AGE))
    if seen == workspace.providers_seen and not address_table.domains_to_ask(db, workspace.now() - MX_AGE, 1):
        return 0
    moved = find(workspace).moved
    workspace.providers_seen = (people_version(db), address_table.asked_since(db, workspace.now() - MX_AGE))
    return moved


def _ask(workspace: Workspace) -> int:
    names = address_table.domains_to_ask(workspace.store.read(), workspace.now() - MX_AGE, AT_ONCE)
    if not names:
        return 0
    where = str(workspace.setting("resolver"))
    fresh = ask_domains(names, Resolver(where), reserved=bool(where))
    fresh |= {n: NOT_ASKED for n in names if n not in fresh}
    with workspace.store.atomic() as db:
        address_table.save_domains(db, fresh, workspace.now())
    return len(names)


def _one(workspace: Workspace, row_id: int) -> Provider:
    found = table.one(workspace.store.read(), row_id)
    if found is None:
        raise Missing("This provider does not exist.")
    return found


def change(
    workspace: Workspace,
    row_id: int,
    who: str,
    *,
    name: str,
    colour: str = "",
    daily_cap: int | None = None,
    limits: dict[str, float],
) -> None:
    """Rename a provider; give it a colour, a daily cap, and limits of its own for the guardrails."""
    before, name = _one(workspace, row_id), name.strip()
    if not name or len(name) > 80:
        raise Refused("A provider needs a name of at most 80 characters.")
    if (other := table.named(workspace.store.read(), name)) is not None and other != row_id:
        raise Refused(f"There is already a provider “{name}”. Merge the two instead.")
    if row_id == OTHER_DOMAINS and name != before.name:
        raise Refused("“Other domains” cannot be renamed.")
    if colour and not _COLOUR.match(colour):
        raise Refused(f"“{colour[:20]}” is not a colour; write it like #3A55A4.")
    if daily_cap is not None and daily_cap < 1:
        raise Refused("A daily limit is a number of messages from 1 up, or none.")
    for limit, share in limits.items():
        if limit not in LIMITS or not 0 < share <= 1:
            raise Refused(f"A limit is a share between 0 and 1 of one of {', '.join(LIMITS)}.")
    with workspace.store.atomic() as db:
        table.update(db, row_id, name, colour, daily_cap, limits)
        if name != before.name:
            table.renamed(db, before.name, name)
        subscribers.people_changed(db)
        settings.log(db, workspace.now(), who, f"changed provider {before.name}", name)


def merge(workspace: Workspace, row_id: int, into: int, who: str) -> int:
    """One provider becomes part of another: its hosts and its people belong there. How many people."""
    gone, kept = _one(workspace, row_id), _one(workspace, into)
    if row_id in (into, OTHER_DOMAINS):
        raise Refused("Choose another provider to merge it into.")
    people = table.people_of(workspace.store.read(), row_id)
    _move(workspace, people, np.full(len(people), into))
    with workspace.store.atomic() as db:
        table.remove(db, row_id, into)  # with who came meanwhile
        table.renamed(db, gone.name, kept.name)
        subscribers.people_changed(db)
        settings.log(db, workspace.now(), who, f"merged provider into {kept.name}", gone.name, gone.people)
    return gone.people


def split(workspace: Workspace, domain: str, name: str, who: str) -> int:
    """Put the people of one domain at a provider of their own, or at another one that is there. How many moved."""
    domain, name = domain.strip().lower(), name.strip()
    if not name:
        raise Refused("Name the provider that the domain belongs to.")
    if not any(r.domain == domain for r in table.people_by_domain(workspace.store.read())):
        raise Missing(f"No subscriber has an address at {domain[:80]}.")
    with workspace.store.atomic() as db:
        row_id = table.named(db, name)
        if row_id is None:
            row_id = table.add(db, name, workspace.now())
        table.set_domain(db, domain, row_id)
    moved = _move(workspace, *table.to_move(workspace.store.read(), {domain: row_id}))
    with workspace.store.atomic() as db:
        settings.log(db, workspace.now(), who, f"moved {domain} to {name}", name, moved)
    return moved


@dataclass(frozen=True)
class Progress:
    """Of the domains that people here are at: how many have been asked for their mail servers, how many wait."""

    asked: int
    to_ask: int


def progress(workspace: Workspace) -> Progress:
    """How many domains have been looked up for their providers, and how many are left."""
    db, since = workspace.store.read(), workspace.now() - MX_AGE
    left = len(address_table.domains_to_ask(db, since, 100_000))
    return Progress(len({r.domain for r in table.people_by_domain(db)}) - left, left)


def domains_of(workspace: Workspace, row_id: int, most: int = 40) -> list[tuple[str, int]]:
    """(domain, people) of a provider, the most people first."""
    rows = [
        (str(r.domain), int(r.people)) for r in table.people_by_domain(workspace.store.read()) if r.provider == row_id
    ]
    return sorted(rows, key=lambda x: (-x[1], x[0]))[:most]
