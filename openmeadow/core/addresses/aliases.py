"""Addresses that lead to one mailbox: what a provider ignores in the part before the @. A table of data."""

from __future__ import annotations

import json
from functools import cache
from importlib import resources


@cache
def alias_table() -> dict[str, tuple[str, bool]]:
    """Domain -> (the sign after which the rest is ignored, whether dots are)."""
    data = json.loads((resources.files("openmeadow.data") / "aliases.json").read_text())
    return {domain: (str(how["after"]), bool(how["dots"])) for domain, how in data.items()}


def mailbox(address_key: str) -> str:
    """The mailbox an address leads to, as an address key; itself where nothing is known of its provider."""
    local, _, domain = address_key.rpartition("@")
    how = alias_table().get(domain)
    if how is None or local.startswith('"'):
        return address_key
    after, dots = how
    name = local.partition(after)[0] if after else local
    name = name.replace(".", "") if dots else name
    return f"{name or local}@{domain}"
