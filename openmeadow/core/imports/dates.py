"""Moments as files write them: RFC 3339 with an offset, a bare date (midnight in the workspace's zone), or one of
the usual other writings once it is known which."""

from __future__ import annotations

from contextlib import suppress
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
    """A moment as RFC 3339 in UTC."""
    return datetime.fromtimestamp(at, PLAIN_UTC).isoformat()


# how people write dates, in the order they are tried; the words are shown where the choice can be changed
STYLES: dict[str, tuple[str, tuple[str, ...]]] = {
    "year first": ("2026-03-12", ()),
    "day first": (
        "12.03.2026",
        ("%d.%m.%Y", "%d.%m.%Y %H:%M", "%d.%m.%Y %H:%M:%S", "%d/%m/%Y", "%d/%m/%Y %H:%M", "%d/%m/%Y %H:%M:%S")
        + ("%d-%m-%Y", "%d-%m-%Y %H:%M", "%d-%m-%Y %H:%M:%S", "%d.%m.%y", "%d/%m/%y"),
    ),
    "month first": (
        "03/12/2026",
        ("%m/%d/%Y", "%m/%d/%Y %H:%M", "%m/%d/%Y %H:%M:%S", "%m/%d/%Y %I:%M %p", "%m/%d/%Y %I:%M:%S %p")
        + ("%m-%d-%Y", "%m-%d-%Y %H:%M", "%m.%d.%Y", "%m/%d/%y"),
    ),
    "text month": (
        "12 Mar 2026",
        ("%d %b %Y", "%d %B %Y", "%b %d, %Y", "%B %d, %Y", "%d-%b-%Y", "%d %b %Y %H:%M", "%d %B %Y %H:%M"),
    ),
    "unix seconds": ("1773308520", ()),
}


def moment_as(text: str, style: str, zone: ZoneInfo = UTC) -> int:
    """UTC seconds of a date written in one of STYLES, or ``ValueError``."""
    clean = text.strip()
    if style == "year first":
        return moment(clean.replace("/", "-"), zone)
    if style == "unix seconds":
        if not clean.isdigit() or len(clean) not in (9, 10, 13):
            raise ValueError(clean)
        return int(clean) // (1000 if len(clean) == 13 else 1)
    for form in STYLES[style][1]:
        try:
            when = datetime.strptime(clean, form)
        except ValueError:
            continue
        return int(when.replace(tzinfo=zone).timestamp() // 1)
    raise ValueError(clean)


def styles_of(samples: list[str], zone: ZoneInfo = UTC) -> list[str]:
    """The writings in which the most of the samples are dates, the likeliest first; none where most are dates in none.
    A few that are no dates are refused row by row and do not spoil the guess."""

    def fits(style: str) -> int:
        found = 0
        for text in samples:
            with suppress(ValueError, OverflowError):
                moment_as(text, style, zone)
                found += 1
        return found

    found = {style: fits(style) for style in STYLES}
    most = max(found.values())
    return [style for style, n in found.items() if n == most] if most * 2 > len(samples) else []
