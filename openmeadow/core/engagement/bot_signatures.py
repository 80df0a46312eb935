"""The list of agents and networks that are machines (a data file; a workspace may put its own beside the database)."""

from __future__ import annotations

import hashlib
import ipaddress
import json
from dataclasses import dataclass, field
from functools import cached_property

from openmeadow.core.errors import MeadowError

Network = ipaddress.IPv4Network | ipaddress.IPv6Network


@dataclass(frozen=True)
class Machines:
    """Agents by a part of their name (in lower case) and networks."""

    agents: tuple[str, ...]
    networks: tuple[Network, ...]
    judged: list[bool] = field(default_factory=lambda: [False], compare=False, repr=False)  # by an agent's id; 0 is none

    @staticmethod
    def read(*texts: str) -> Machines:
        """From JSON documents ``{"agents": [...], "networks": [...]}``, added up."""
        agents: list[str] = []
        networks: list[Network] = []
        for text in texts:
            try:
                data = json.loads(text)
                agents += [str(a).lower() for a in data.get("agents", ())]
                networks += [ipaddress.ip_network(n) for n in data.get("networks", ())]
            except (ValueError, AttributeError, TypeError) as e:
                raise MeadowError(f"The list of machines cannot be read: {e}.") from e
        return Machines(tuple(dict.fromkeys(agents)), tuple(dict.fromkeys(networks)))

    @cached_property
    def mark(self) -> str:
        """Changes when the list does."""
        return hashlib.sha256(repr((self.agents, self.networks)).encode()).hexdigest()[:16]

    def has(self, agent: str, ip: str) -> bool:
        """True when agent or network is on the list."""
        low = agent.lower()
        if any(a in low for a in self.agents):
            return True
        try:
            address = ipaddress.ip_address(ip)
        except ValueError:
            return False
        return any(address in n for n in self.networks if n.version == address.version)
