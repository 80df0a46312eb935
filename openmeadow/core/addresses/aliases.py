"""Addresses that lead to one mailbox: what a mail host ignores in the part before the @, as the workspace says it."""

from __future__ import annotations

from collections.abc import Mapping

SIGNS = ("+", "-", "=", "#", "")

Rules = Mapping[str, tuple[str, bool]]


def alias_rules(said: Mapping[str, object]) -> dict[str, tuple[str, bool]]:
    """Domain -> (the sign after which the rest is ignored, "" for none; whether dots are) from the setting
    ``{"saltmere.example": {"after": "+", "dots": true}}``. ValueError says which rule cannot be read."""
    out = {}
    for domain, rule in said.items():
        after, dots = (rule.get("after", ""), rule.get("dots", False)) if isinstance(rule, Mapping) else (None, None)
        if after not in SIGNS or not isinstance(dots, bool):
            raise ValueError(f'the rule of {domain} is written like {{"after": "+", "dots": true}}.')
        out[domain.strip().lower()] = (str(after), dots)
    return out


def mailbox(address_key: str, rules: Rules) -> str:
    """The mailbox an address leads to, as an address key; itself where nothing is said of its domain."""
    local, _, domain = address_key.rpartition("@")
    how = rules.get(domain)
    if how is None or local.startswith('"'):
        return address_key
    after, dots = how
    name = local.partition(after)[0] if after else local
    name = name.replace(".", "") if dots else name
    return f"{name or local}@{domain}"
