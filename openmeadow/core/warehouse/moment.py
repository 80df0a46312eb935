"""What SQL elsewhere has to know of the workspace besides its tables."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol

from openmeadow.core.engagement.bands import Cadence, Limits
from openmeadow.core.rules.conditions import Rule


@dataclass(frozen=True)
class Moment:
    """The moment of the export (UTC seconds), the rhythm and limits of the workspace at that moment."""

    now: int
    cadence: Cadence
    limits: Limits


class Names(Protocol):
    """Names as they are kept, whatever the letter case in a rule; ``Missing`` with the nearest one otherwise."""

    def exact(self, kind: str, name: str) -> str:
        """``kind`` is list, label, field, provider, source, purpose or sequence."""
        ...

    def message_ids(self, name: str) -> list[int]: ...
    def segment(self, name: str) -> Rule: ...
    def snapshot_id(self, name: str, day: str) -> int: ...
    def step_key(self, sequence: str, step: str) -> int: ...
    def coming_days(self, days: float) -> Sequence[str]:
        """MM-DD of today and the next so many days, in the workspace's zone."""
        ...
