"""The list of agents and networks that are machines (a data file)."""

from __future__ import annotations

import ipaddress
import json
from functools import cache
from importlib import resources


@cache
def _listed() -> tuple[list[str], list[ipaddress.IPv4Network | ipaddress.IPv6Network]]:
    data = json.loads((resources.files("openmeadow.data") / "machines.json").read_text())
    return [a.lower() for a in data["agents"]], [ipaddress.ip_network(n) for n in data["networks"]]


def is_listed(agent: str, ip: str) -> bool:
    """True when agent or network is on the list."""
    agents, networks = _listed()
    low = agent.lower()
    if any(a in low for a in agents):
        return True
    try:
        address = ipaddress.ip_address(ip)
    except ValueError:
        return False
    return any(address in n for n in networks if n.version == address.version)
