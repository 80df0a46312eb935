"""What common kinds of mail readers keep, keep partly or drop of an HTML body: a table of data."""

from __future__ import annotations

import json
import re
from dataclasses import dataclass
from functools import cache
from importlib import resources

READERS = ("web", "desktop", "phone")


@dataclass(frozen=True)
class Support:
    """What the three kinds of readers do with a part of HTML (supported, partly, removed), and what to use instead."""

    what: str
    web: str
    desktop: str
    phone: str
    instead: str


ORDER = {"removed": 0, "partly": 1, "supported": 2}


@cache
def _table() -> list[tuple[re.Pattern[str], Support]]:
    data = json.loads((resources.files("openmeadow.core.data") / "html_support.json").read_text())
    return [(re.compile(row["pattern"], re.I), Support(*(row[k] for k in ("what", *READERS, "instead")))) for row in data]


def dropped(html: str) -> list[Support]:
    """What of this HTML some readers do not keep, the worst first."""
    hit = [row for pattern, row in _table() if pattern.search(html)]
    return sorted(hit, key=lambda row: ORDER[row.web] + ORDER[row.desktop] + ORDER[row.phone])
