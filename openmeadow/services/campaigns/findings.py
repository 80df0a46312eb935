"""Findings of the pre-send checks: their levels, where each is fixed, and which may be overridden with a reason."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

from openmeadow.services.workspace import Workspace
from openmeadow.store.campaigns import content

LEVELS = ("blocker", "warning", "note")
# what the analyst may override with a reason; every other stop is set by the law, the eligibility check or the protocols
MAY_OVERRIDE = {"Links", "Images", "HTML", "Size", "Placement", "Subject"}
WHERE = {
    "Sender": "senders",
    "From": "senders",
    "Links": "message",
    "Purpose": "message",
    "Recipients": "recipients",
    "Postal address": "settings",
    "Placement": "placement",
    "Addresses": "addresses",
    "Consent wording": "consent",
}


@dataclass(frozen=True)
class Finding:
    """``fix`` is the page it is fixed on; ``may_override`` whether a reason in writing is enough for a stop."""

    check: str
    level: str
    finding: str
    fix: str = "message"
    may_override: bool = False
    overridden: str = ""


def found(check: str, level: str, finding: str, fix: str = "") -> Finding:
    return Finding(
        check, level, finding, fix or WHERE.get(check, "message"), check in MAY_OVERRIDE and level == "blocker"
    )


def in_order(workspace: Workspace, row: Any, out: list[Finding]) -> list[dict[str, Any]]:
    """Stops first, each once; what was overridden says by whom and why, and stops no more."""
    over = content.overrides(workspace.store.read(), row["id"])
    lines = []
    for f in sorted(dict.fromkeys(out), key=lambda f: LEVELS.index(f.level)):
        line = asdict(f)
        if (o := over.get((f.check, f.finding))) is not None and f.may_override:
            line |= {"overridden": f"{o['who']}: {o['reason']}"}
        lines.append(line)
    return lines


def stops(found: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Those that keep the plan from starting."""
    return [c for c in found if c["level"] == "blocker" and not c["overridden"]]
