"""How the providers place a sender's mail: the less of it their people read, the more of it goes to the spam folder."""

from __future__ import annotations

import math
from dataclasses import dataclass, field

ENOUGH = 3_000  # messages that a provider goes by; it takes no view of fewer


@dataclass
class Reputation:
    """Of each provider what it has taken lately and how much of that was read. Where less than ``wanted`` was, the share
    that lies in spam grows, up to all of it where nothing was."""

    wanted: float = 0.06
    memory: int = ENOUGH
    _seen: dict[str, tuple[float, float, int]] = field(default_factory=dict)  # taken and read, fading; taken in all

    def saw(self, provider: str, taken: int, read: int) -> None:
        """So many messages came, of which so many were read or will be."""
        before, before_read, in_all = self._seen.get(provider, (0.0, 0.0, 0))
        kept = math.exp(-taken / self.memory)
        self._seen[provider] = (before * kept + taken, before_read * kept + read, in_all + taken)

    def share_in_spam(self, provider: str) -> float:
        """The share, 0 to 1, of what comes next that goes to the spam folder."""
        taken, read, in_all = self._seen.get(provider, (0.0, 0.0, 0))
        if in_all < self.memory:
            return 0.0
        return max(0.0, 1.0 - read / taken / self.wanted)
