"""Mailbox providers: found by the hosts that take mail, named and set by the workspace. Provider 0 is all other domains."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from openmeadow.core.arrays import I64, Array
from openmeadow.store.bulk import Many, read_columns
from openmeadow.store.health.records import DomainPeople
from openmeadow.store.segments.renaming import rules_renamed

OTHER_DOMAINS = 0


@dataclass(frozen=True)
class Provider:
    """``hosts`` are organisational domains of mail servers; ``domains`` those put here by hand; ``daily_cap`` the most
    messages a day, None for no limit; ``limits`` the guardrails' own limits here, as shares."""

    id: int
    name: str
    colour: str
    daily_cap: int | None
    limits: dict[str, float]
    people: int
    hosts: tuple[str, ...]
    domains: tuple[str, ...]


def names(db: sqlite3.Connection) -> list[str]:
    """Names by provider number; "" for a number that is no provider any more."""
    found = {int(r["id"]): str(r["name"]) for r in db.execute("SELECT id, name FROM providers")}
    return [found.get(i, "") for i in range(max(found, default=0) + 1)]


MOST_PROVIDERS = 40  # shown at once; the largest


def by_people(names: list[str], people: Sequence[int] | Array) -> list[int]:
    """Numbers of providers to show: those with the most people first, other domains last."""
    there = [i for i in range(1, len(names)) if names[i]]
    return [*sorted(there, key=lambda i: (-int(people[i]), i))[:MOST_PROVIDERS], 0]


def every(db: sqlite3.Connection) -> list[Provider]:
    """All providers, those with the most people first, other domains last."""
    people = {
        r["provider"]: r["n"]
        for r in db.execute("SELECT provider, count(*) AS n FROM subscribers WHERE erased_at IS NULL GROUP BY provider")
    }
    hosts: dict[int, list[str]] = {}
    for r in db.execute("SELECT provider, host FROM provider_hosts ORDER BY host"):
        hosts.setdefault(r["provider"], []).append(r["host"])
    domains: dict[int, list[str]] = {}
    for r in db.execute("SELECT provider, domain FROM provider_domains ORDER BY domain"):
        domains.setdefault(r["provider"], []).append(r["domain"])
    out = [
        Provider(
            r["id"],
            r["name"],
            r["colour"],
            r["daily_cap"],
            {k: float(v) for k, v in json.loads(r["limits"]).items()},
            int(people.get(r["id"], 0)),
            tuple(hosts.get(r["id"], ())),
            tuple(domains.get(r["id"], ())),
        )
        for r in db.execute("SELECT id, name, colour, daily_cap, limits FROM providers")
    ]
    return sorted(out, key=lambda p: (p.id == OTHER_DOMAINS, -p.people, p.id))


def with_cap(db: sqlite3.Connection) -> list[Provider]:
    """Providers with a daily cap of their own."""
    if db.execute("SELECT 1 FROM providers WHERE daily_cap IS NOT NULL LIMIT 1").fetchone() is None:
        return []
    return [p for p in every(db) if p.daily_cap]


def limits(db: sqlite3.Connection) -> dict[str, dict[str, float]]:
    """The guardrails' own limits of providers, by name."""
    rows = db.execute("SELECT name, limits FROM providers WHERE limits <> '{}'")
    return {r["name"]: {k: float(v) for k, v in json.loads(r["limits"]).items()} for r in rows}


def renamed(db: sqlite3.Connection, before: str, after: str) -> None:
    """What names a provider goes on naming it: figures, placement tests, plans' caps and rules."""
    db.execute("UPDATE OR REPLACE provider_statistics SET provider = ? WHERE provider = ?", (after, before))
    db.execute("UPDATE placement_copies SET provider = ? WHERE provider = ?", (after, before))
    for r in db.execute("SELECT id, plan FROM campaigns").fetchall():
        plan = json.loads(r["plan"])
        if before in (plan.get("caps") or {}):
            plan["caps"][after] = plan["caps"].pop(before)
            db.execute("UPDATE campaigns SET plan = ? WHERE id = ?", (json.dumps(plan), r["id"]))
    rules_renamed(db, "provider", before, after)


def one(db: sqlite3.Connection, row_id: int) -> Provider | None:
    """A provider, or None."""
    return next((p for p in every(db) if p.id == row_id), None)


def named(db: sqlite3.Connection, name: str) -> int | None:
    """The id of the provider with a name, or None."""
    row = db.execute("SELECT id FROM providers WHERE name = ?", (name,)).fetchone()
    return int(row["id"]) if row else None


def add(db: sqlite3.Connection, name: str, now: int) -> int:
    """Make a provider; its id."""
    return int(db.execute("INSERT INTO providers (name, found_at) VALUES (?, ?)", (name, now)).lastrowid or 0)


def update(
    db: sqlite3.Connection, row_id: int, name: str, colour: str, daily_cap: int | None, limits: Mapping[str, float]
) -> None:
    """Write a provider's name, colour, messages a day (None is no limit) and guardrails of its own."""
    db.execute(
        "UPDATE providers SET name = ?, colour = ?, daily_cap = ?, limits = ? WHERE id = ?",
        (name, colour, daily_cap, json.dumps(dict(limits)), row_id),
    )


def remove(db: sqlite3.Connection, row_id: int, into: int) -> None:
    """A provider goes; its hosts, domains and people belong to another."""
    for table in ("provider_hosts", "provider_domains", "subscribers"):
        db.execute(f"UPDATE {table} SET provider = ? WHERE provider = ?", (into, row_id))
    db.execute("DELETE FROM providers WHERE id = ?", (row_id,))


def set_host(db: sqlite3.Connection, host: str, provider: int) -> None:
    """Give a host's organisational domain to a provider."""
    db.execute(
        "INSERT INTO provider_hosts VALUES (?, ?) ON CONFLICT (host) DO UPDATE SET provider = excluded.provider",
        (host, provider),
    )


def set_domain(db: sqlite3.Connection, domain: str, provider: int) -> None:
    """Give a domain to a provider by hand."""
    db.execute(
        "INSERT INTO provider_domains VALUES (?, ?) ON CONFLICT (domain) DO UPDATE SET provider = excluded.provider",
        (domain, provider),
    )


def by_host(db: sqlite3.Connection) -> dict[str, int]:
    """The provider of each organisational domain of hosts."""
    return {r["host"]: r["provider"] for r in db.execute("SELECT host, provider FROM provider_hosts")}


def by_hand(db: sqlite3.Connection) -> dict[str, int]:
    """The provider of each domain that was given to one by hand."""
    return {r["domain"]: r["provider"] for r in db.execute("SELECT domain, provider FROM provider_domains")}


def of_domain(db: sqlite3.Connection, domain: str) -> int:
    """The provider of a domain at which somebody is already, or that was put somewhere by hand; 0 for all others."""
    row = db.execute("SELECT provider FROM provider_domains WHERE domain = ?", (domain,)).fetchone()
    if row is None:
        row = db.execute(
            "SELECT h.provider FROM domain_lookups a JOIN provider_hosts h ON h.host = a.mail_organisation WHERE a.domain = ?",
            (domain,),
        ).fetchone()
    return int(row["provider"]) if row else OTHER_DOMAINS


def organisations(db: sqlite3.Connection) -> dict[str, str]:
    """Domain -> the organisational domain of the hosts that take its mail, of every domain that was asked."""
    rows = db.execute("SELECT domain, mail_organisation FROM domain_lookups WHERE mail_organisation IS NOT NULL")
    return {r["domain"]: r["mail_organisation"] for r in rows}


def set_organisations(db: sqlite3.Connection, of: Mapping[str, str]) -> None:
    """Keep the organisational domain of the hosts that take a domain's mail."""
    db.executemany("UPDATE domain_lookups SET mail_organisation = ? WHERE domain = ?", [(o, d) for d, o in of.items()])


def without_organisation(db: sqlite3.Connection) -> dict[str, list[str]]:
    """The mail servers of domains that take mail, for which it is not known yet who runs them."""
    rows = db.execute("SELECT domain, hosts FROM domain_lookups WHERE takes_mail = 1 AND mail_organisation IS NULL")
    return {r["domain"]: json.loads(r["hosts"]) for r in rows}


def people_by_domain(db: sqlite3.Connection) -> list[DomainPeople]:
    """(domain, provider, people) of everybody who is not erased."""
    return DomainPeople.read_all(
        db.execute(
            "SELECT substr(email_key, instr(email_key, '@') + 1) AS domain, provider, count(*) AS people FROM subscribers "
            "WHERE erased_at IS NULL GROUP BY 1, 2"
        )
    )


def of_everybody(db: sqlite3.Connection) -> tuple[I64, I64]:
    """Everybody's id, ascending, and provider."""
    row_id, provider = read_columns(db, "SELECT id, provider FROM subscribers ORDER BY id", (), "qq")
    return row_id, provider


def to_move(db: sqlite3.Connection, to: Mapping[str, int]) -> tuple[I64, I64]:
    """Of the people at some domains those who are not at the provider that the domain belongs to: their ids, and it."""
    row_id, provider = read_columns(
        db,
        "WITH wanted AS MATERIALIZED (SELECT key AS domain, value AS provider FROM json_each(?)) "
        "SELECT s.id, w.provider FROM subscribers s CROSS JOIN wanted w "
        "ON w.domain = substr(s.email_key, instr(s.email_key, '@') + 1) "
        "WHERE s.erased_at IS NULL AND s.provider <> w.provider ORDER BY s.id",
        (json.dumps(dict(to)),),
        "qq",
    )
    return row_id, provider


def people_of(db: sqlite3.Connection, row_id: int) -> I64:
    """Everybody at a provider, ascending."""
    (found,) = read_columns(db, "SELECT id FROM subscribers WHERE provider = ? ORDER BY id", (row_id,), "q")
    return found


def set_providers(db: sqlite3.Connection, rows: Many[tuple[int, int]]) -> int:
    """(provider, subscriber); how many."""
    return db.executemany("UPDATE subscribers SET provider = ? WHERE id = ?", rows).rowcount
