"""Findings of the pre-send checks: their levels, where each is fixed, and which may be overridden with a reason."""

from __future__ import annotations

from dataclasses import dataclass, replace

from openmeadow.services import models
from openmeadow.services.workspace import Workspace
from openmeadow.store.campaigns import content
from openmeadow.store.campaigns.records import Campaign

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
    """A finding as checks give it."""
    return Finding(
        check, level, finding, fix or WHERE.get(check, "message"), check in MAY_OVERRIDE and level == "blocker"
    )


def in_order(workspace: Workspace, row: Campaign, out: list[Finding]) -> list[models.Check]:
    """Stops first, each once; what was overridden says by whom and why, and stops no more."""
    over = content.overrides(workspace.store.read(), row.id)
    lines = []
    for f in sorted(dict.fromkeys(out), key=lambda f: LEVELS.index(f.level)):
        o = over.get((f.check, f.finding)) if f.may_override else None
        lines.append(models.Check.read_from(f if o is None else replace(f, overridden=f"{o.who}: {o.reason}")))
    return lines


def stops(found: list[models.Check]) -> list[models.Check]:
    """Those that keep the plan from starting."""
    return [c for c in found if c.level == "blocker" and not c.overridden]
