"""Moments as files write them: RFC 3339 with an offset, or a bare date (midnight in the workspace's zone)."""

from __future__ import annotations

from datetime import UTC as PLAIN_UTC
from datetime import datetime
from functools import lru_cache
from zoneinfo import ZoneInfo

UTC = ZoneInfo("UTC")


@lru_cache(maxsize=65536)
def moment(text: str, zone: ZoneInfo = UTC) -> int:
    """UTC seconds, or ``ValueError``. A time without an offset is taken in ``zone``."""
    when = datetime.fromisoformat(text.strip())
    if when.tzinfo is None:
        when = when.replace(tzinfo=zone)
    return int(when.timestamp() // 1)


def rfc3339(at: int) -> str:
    return datetime.fromtimestamp(at, PLAIN_UTC).isoformat()
