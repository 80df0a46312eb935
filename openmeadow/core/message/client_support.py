"""What common kinds of mail readers keep, keep partly or drop of an HTML body: a table of data."""

from __future__ import annotations

import json
import re
from functools import cache
from importlib import resources
from typing import Any

READERS = ("web", "desktop", "phone")


@cache
def _table() -> list[dict[str, Any]]:
    data: list[dict[str, Any]] = json.loads((resources.files("openmeadow.core.data") / "html_support.json").read_text())
    return [{**row, "is": re.compile(row["pattern"], re.I)} for row in data]


def dropped(html: str) -> list[dict[str, Any]]:
    """What of this HTML some readers do not keep: {"what", "web", "desktop", "phone", "instead"}, the worst first."""
    order = {"removed": 0, "partly": 1, "supported": 2}
    hit = [row for row in _table() if row["is"].search(html)]
    hit.sort(key=lambda row: sum(order[row[r]] for r in READERS))
    return [{k: row[k] for k in ("what", *READERS, "instead")} for row in hit]
