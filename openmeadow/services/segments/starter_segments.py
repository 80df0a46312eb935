"""Segments that stand ready when a workspace has its first people, written with its own cadence."""

from __future__ import annotations

from openmeadow.core.engagement.bands import Cadence
from openmeadow.core.rules.conditions import quoted
from openmeadow.services.segments import segments
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.segments import segments as table
from openmeadow.store.subscribers import subscribers

DONE = "ready_made_segments"


def rules(pace: Cadence, purposes: list[str]) -> dict[str, str]:
    """Name and rule of each, for a cadence in days."""
    window, lately = pace.window, max(30, 4 * pace.gap)
    return {
        "Engaged": "band is Strong or Steady",
        "Recently engaged": f"last engaged less than {lately} days ago",
        "Inactive, never engaged": "band is Inactive and never engaged",
        "Inactive, stopped engaging": "band is Inactive and not (never engaged)",
        "New and unproven": f"band is Unproven and joined less than {window // 2} days ago",
        "Masked": "band is Masked",
        "Book without opening": "booked at least 1 in 365 days and not (opened at least 1 in 365 days)",
        "About to become inactive": "band is Fading and ignored at least 4 in a row and not engaged in "
        f"{window - 2 * pace.gap} days",
        **{f"Permitted for {p}": f"permitted for {quoted(p)}" for p in purposes},
    }


def make(workspace: Workspace) -> int:
    """Save them once, when there is somebody and a history; names that are taken are left alone. How many."""
    db = workspace.store.read()
    if settings.setting(db, DONE) or not table.has_history(db):
        return 0
    view = workspace.view()
    taken = {r.name.lower() for r in table.every(db)}
    wanted = rules(view.scores.cadence, [p.name for p in subscribers.names(db, "purposes")])
    made = 0
    for name, rule in wanted.items():
        if name.lower() not in taken:
            segments.save(workspace, name, rule, "Open Meadow")
            made += 1
    with workspace.store.atomic() as db:
        settings.set_setting(db, DONE, True)
    return made
