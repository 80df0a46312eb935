"""Which provider an address is at: by a table of domains, or by whose hosts its domain's MX records name."""

from __future__ import annotations

import json
from collections.abc import Sequence
from functools import cache
from importlib import resources

OWN_DOMAINS = "Own domains"


@cache
def _table() -> tuple[list[str], dict[str, int]]:
    data: dict[str, list[str]] = json.loads((resources.files("openmeadow.data") / "providers.json").read_text())
    names = [OWN_DOMAINS, *(n for n in data if n != OWN_DOMAINS)]
    return names, {domain: names.index(name) for name, domains in data.items() for domain in domains}


def provider_names() -> list[str]:
    """Names by provider number; 0 is the organisations' own domains."""
    return _table()[0]


def provider_of(address_key: str) -> int:
    return _table()[1].get(address_key.rpartition("@")[2], 0)


@cache
def _hosts() -> list[tuple[str, int]]:
    data: dict[str, list[str]] = json.loads((resources.files("openmeadow.data") / "provider_hosts.json").read_text())
    return [(suffix, provider_names().index(name)) for name, suffixes in data.items() for suffix in suffixes]


def provider_by_hosts(hosts: Sequence[str]) -> int:
    """The provider whose mail hosts a domain's MX records name, the most preferred first; 0 for nobody's."""
    for host in hosts:
        name = host.rstrip(".").lower()
        for suffix, provider in _hosts():
            if name == suffix or name.endswith(f".{suffix}"):
                return provider
    return 0


@cache
def _freemail() -> frozenset[str]:
    text = (resources.files("openmeadow.data") / "freemail.txt").read_text()
    return frozenset(line.strip() for line in text.splitlines() if line.strip())


def is_freemail(domain: str) -> bool:
    return domain.lower() in _freemail()


def freemail_domains() -> list[str]:
    """The well-known domains, in the order of their list."""
    return sorted(_freemail())
