"""The workspace's mailbox providers: found by MX, kept current at a polite pace, named and set by the analyst."""

from __future__ import annotations

import re
from collections import Counter
from dataclasses import dataclass

from openmeadow.core.addresses.providers import organisation_of, standing
from openmeadow.core.addresses.verdicts import NOT_ASKED
from openmeadow.core.errors import Missing, Refused
from openmeadow.core.planning.guardrails import LIMITS
from openmeadow.desk.addresses import ask_domains
from openmeadow.desk.desk import Desk
from openmeadow.store import addresses as address_table
from openmeadow.store import providers as table
from openmeadow.store import subscribers, workspace
from openmeadow.store.providers import OTHER_DOMAINS, Provider
from openmeadow.store.subscribers import people_version
from openmeadow.wire.dns import Resolver

MX_AGE, AT_ONCE = 30 * 86_400, 25  # a domain is asked once a month; so many each half minute
_COLOUR = re.compile(r"#[0-9a-fA-F]{6}\Z")


@dataclass(frozen=True)
class Found:
    """What a look did: domains asked, providers new, people who belong to another one now."""

    asked: int
    new: int
    moved: int


def find(desk: Desk, *, ask: bool = True) -> Found:
    """Ask some domains for their mail hosts, then put everybody at the provider whose hosts take their mail. A provider
    that is large enough stands by itself, named after its hosts until somebody names it."""
    asked = _ask(desk) if ask else 0
    db, now = desk.store.read(), desk.now()
    worked_out = {d: organisation_of(hosts) for d, hosts in table.without_organisation(db).items()}
    if worked_out:
        with desk.store.atomic() as w:
            table.set_organisations(w, worked_out)
    rows = table.people_by_domain(db)
    of, hosts, by_hand = table.organisations(db), table.by_host(db), table.by_hand(db)
    people: Counter[str] = Counter()
    for r in rows:
        if r["domain"] not in by_hand:
            people[of.get(r["domain"], "")] += r["people"]
    new = [o for o in standing(people, sum(r["people"] for r in rows)) if o not in hosts]
    if new:
        with desk.store.atomic() as w:
            for organisation in new:
                id = table.named(w, organisation)
                hosts[organisation] = table.add(w, organisation, now) if id is None else id
                table.set_host(w, organisation, hosts[organisation])
            workspace.log(w, now, "worker", "found providers by MX", ", ".join(new)[:200], len(new))
    belongs = {r["domain"]: by_hand.get(r["domain"], hosts.get(of.get(r["domain"], ""), OTHER_DOMAINS)) for r in rows}
    wrong = {r["domain"]: belongs[r["domain"]] for r in rows if r["provider"] != belongs[r["domain"]]}
    moved = 0
    if wrong:
        with desk.store.atomic() as w:
            moved = table.move_people(w, wrong)
            subscribers.people_changed(w)
    return Found(asked, len(new), moved)


def look(desk: Desk) -> int:
    """As ``find``, where anything has changed since the last look; how many people moved."""
    db = desk.store.read()
    seen = (people_version(db), address_table.asked_since(db, desk.now() - MX_AGE))
    if seen == desk.providers_seen and not address_table.domains_to_ask(db, desk.now() - MX_AGE, 1):
        return 0
    moved = find(desk).moved
    desk.providers_seen = (people_version(db), address_table.asked_since(db, desk.now() - MX_AGE))
    return moved


def _ask(desk: Desk) -> int:
    names = address_table.domains_to_ask(desk.store.read(), desk.now() - MX_AGE, AT_ONCE)
    if not names:
        return 0
    where = str(desk.setting("resolver"))
    fresh = ask_domains(names, Resolver(where), reserved=bool(where))
    fresh |= {n: NOT_ASKED for n in names if n not in fresh}
    with desk.store.atomic() as db:
        address_table.keep_domains(db, fresh, desk.now())
    return len(names)


def _one(desk: Desk, id: int) -> Provider:
    found = table.one(desk.store.read(), id)
    if found is None:
        raise Missing("There is no such provider.")
    return found


def change(
    desk: Desk, id: int, who: str, *, name: str, colour: str = "", daily_cap: int | None = None, limits: dict[str, float]
) -> None:
    """Rename a provider; give it a colour, a daily cap, and limits of its own for the guardrails."""
    before, name = _one(desk, id), name.strip()
    if not name or len(name) > 80:
        raise Refused("A provider needs a name of at most 80 characters.")
    if (other := table.named(desk.store.read(), name)) is not None and other != id:
        raise Refused(f"There is already a provider “{name}”; merge the two instead.")
    if id == OTHER_DOMAINS and name != before.name:
        raise Refused("“Other domains” are all that no provider stands for; they keep their name.")
    if colour and not _COLOUR.match(colour):
        raise Refused(f"“{colour[:20]}” is no colour; write it like #3A55A4.")
    if daily_cap is not None and daily_cap < 1:
        raise Refused("A daily cap is a number of messages from 1 on, or none.")
    for limit, share in limits.items():
        if limit not in LIMITS or not 0 < share <= 1:
            raise Refused(f"A limit is a share between 0 and 1 of one of {', '.join(LIMITS)}.")
    with desk.store.atomic() as db:
        table.update(db, id, name, colour, daily_cap, limits)
        if name != before.name:
            table.renamed(db, before.name, name)
        subscribers.people_changed(db)
        workspace.log(db, desk.now(), who, f"changed provider {before.name}", name)


def merge(desk: Desk, id: int, into: int, who: str) -> int:
    """One provider becomes part of another: its hosts and its people belong there. How many people."""
    gone, kept = _one(desk, id), _one(desk, into)
    if id in (into, OTHER_DOMAINS):
        raise Refused("Choose another provider to merge it into.")
    with desk.store.atomic() as db:
        table.remove(db, id, into)
        table.renamed(db, gone.name, kept.name)
        subscribers.people_changed(db)
        workspace.log(db, desk.now(), who, f"merged provider into {kept.name}", gone.name, gone.people)
    return gone.people


def split(desk: Desk, domain: str, name: str, who: str) -> int:
    """Put the people of one domain at a provider of their own, or at another one that is there. How many moved."""
    domain, name = domain.strip().lower(), name.strip()
    if not name:
        raise Refused("Name the provider that the domain belongs to.")
    with desk.store.atomic() as db:
        id = table.named(db, name)
        if id is None:
            id = table.add(db, name, desk.now())
        table.set_domain(db, domain, id)
        moved = table.move_people(db, {domain: id})
        if not moved and not any(r["domain"] == domain for r in table.people_by_domain(db)):
            raise Missing(f"Nobody here has an address at {domain[:80]}.")
        subscribers.people_changed(db)
        workspace.log(db, desk.now(), who, f"put {domain} at {name}", name, moved)
    return moved


@dataclass(frozen=True)
class Progress:
    """Of the domains that people here are at: how many have been asked for their mail hosts, how many wait."""

    asked: int
    to_ask: int


def progress(desk: Desk) -> Progress:
    db, since = desk.store.read(), desk.now() - MX_AGE
    left = len(address_table.domains_to_ask(db, since, 100_000))
    return Progress(len({r["domain"] for r in table.people_by_domain(db)}) - left, left)


def domains_of(desk: Desk, id: int, most: int = 40) -> list[tuple[str, int]]:
    """(domain, people) of a provider, the most people first."""
    rows = [
        (str(r["domain"]), int(r["people"])) for r in table.people_by_domain(desk.store.read()) if r["provider"] == id
    ]
    return sorted(rows, key=lambda x: (-x[1], x[0]))[:most]
