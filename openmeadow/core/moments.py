"""Moments and spans of time: UTC seconds, and what a clock on the wall says in a zone."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

MINUTE, HOUR, DAY = 60, 3_600, 86_400  # seconds
WEEK = 7 * DAY


def real(local: datetime, zone: ZoneInfo) -> int:
    """The moment of a wall-clock time: one that does not exist moves forward, one that exists twice is the first."""
    # in a gap, fold 0 counts with the offset of before and so lands as far after the jump as it stood after its begin
    return int(local.replace(tzinfo=zone, fold=0).timestamp())


def midnight(at: int, zone: ZoneInfo, days: int = 0) -> int:
    """The moment at which the local day of ``at`` begins, or the day so many days later."""
    local = datetime.fromtimestamp(at, UTC).astimezone(zone).replace(tzinfo=None)
    return real((local + timedelta(days=days)).replace(hour=0, minute=0, second=0, microsecond=0), zone)
