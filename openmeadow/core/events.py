"""Event kinds, and raw events as the store keeps them."""

from __future__ import annotations

from dataclasses import dataclass, fields
from enum import IntEnum

from openmeadow.core.arrays import F64, I8, I32, I64, Mask


class Kind(IntEnum):
    """What happened, in the words of the event log."""

    SENT = 1
    DELIVERED = 2
    DEFERRED = 3
    BOUNCED = 4
    OPENED = 5
    CLICKED = 6
    REPLIED = 7
    BOOKED = 8
    COMPLAINED = 9
    UNSUBSCRIBED = 10


KIND_OF_WORD = {kind.name.lower(): kind for kind in Kind}


@dataclass(frozen=True)
class RawEvents:
    """Events as the store keeps them; all arrays of one length, in any order.

    ``person`` is the row of the subscriber in ``People``; ``message`` and ``link`` are store ids, 0 for none;
    ``machine_listed`` says that agent or network is on the list; ``blind`` that neither was brought along.
    """

    at: I64
    kind: I8
    person: I32
    message: I32
    link: I32
    value: F64
    machine_listed: Mask
    blind: Mask
    trap: Mask

    def take(self, chosen: Mask | I64) -> RawEvents:
        """Some of the events."""
        return RawEvents(**{f.name: getattr(self, f.name)[chosen] for f in fields(self)})
