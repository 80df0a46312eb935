"""Segments that stand ready when a workspace has its first people, written with its own cadence."""

from __future__ import annotations

from openmeadow.core.engagement.score import Cadence
from openmeadow.core.rules.tree import quoted
from openmeadow.desk import segments
from openmeadow.desk.desk import Desk
from openmeadow.store import segments as table
from openmeadow.store import subscribers, workspace

DONE = "ready_made_segments"


def rules(pace: Cadence, purposes: list[str]) -> dict[str, str]:
    """Name and rule of each, for a cadence in days."""
    window, lately = pace.window, max(30, 4 * pace.gap)
    return {
        "Engaged": "band is Strong or Steady",
        "Answered lately": f"last answer less than {lately} days ago",
        "Inactive, never answered": "band is Silent and never answered",
        "Inactive, stopped answering": "band is Silent and not (never answered)",
        "New and unproven": f"band is Unproven and joined less than {window // 2} days ago",
        "Veiled": "band is Veiled",
        "Book but do not open": "booked at least 1 in 365 days and not (opened at least 1 in 365 days)",
        "About to fall Silent": f"band is Fading and unanswered at least 4 and no answer in {window - 2 * pace.gap} days",
        **{f"Permitted for {p}": f"permitted for {quoted(p)}" for p in purposes},
    }


def make(desk: Desk) -> int:
    """Save them once, when there is somebody and a history; names that are taken are left alone. How many."""
    db = desk.store.read()
    if workspace.setting(db, DONE) or not table.has_history(db):
        return 0
    view = desk.view()
    taken = {r["name"].lower() for r in table.every(db)}
    wanted = rules(view.scores.cadence, [p["name"] for p in subscribers.names(db, "purposes")])
    made = 0
    for name, rule in wanted.items():
        if name.lower() not in taken:
            segments.save(desk, name, rule, "Open Meadow")
            made += 1
    with desk.store.atomic() as db:
        workspace.set_setting(db, DONE, True)
    return made
