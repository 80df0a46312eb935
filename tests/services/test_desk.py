"""An open workspace that was told step by step knows what a workspace opened afterwards knows."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from openmeadow.core.events import Kind
from openmeadow.core.moments import DAY
from openmeadow.services.workspace import Workspace
from openmeadow.store import undo_log
from openmeadow.store.engagement import events
from openmeadow.store.subscribers import subscribers
from openmeadow.store.subscribers.records import NewSubscriber
from tests.conftest import NOW, set_clock

RULES = (
    "opened at least 2 in 90 days",
    "received at least 3 in 60 days",
    "soft bounced at least 1 in a row",
    "suppressed",
    'in list "L"',
)


def told(workspace: Workspace) -> object:
    view = workspace.view()
    s = view.scores
    counts = [workspace.count(rule)[0] for rule in RULES]
    troubles = sorted(
        zip(
            workspace.troubles().at.tolist(),
            workspace.troubles().person.tolist(),
            workspace.troubles().what.tolist(),
            strict=True,
        )
    )
    return s.band.tolist(), s.ignored.tolist(), s.last_engaged.tolist(), np.round(s.chance, 9).tolist(), counts, troubles


@pytest.mark.parametrize("seed", range(6))
def test_step_by_step_equals_at_once(folder: Path, seed: int) -> None:
    r = np.random.default_rng(seed)
    workspace, now, action = Workspace(folder), NOW, 0
    with workspace.store.atomic() as db:
        subscribers.named(db, "lists", "L")
        events.Names(db).messages([f"M{i}" for i in range(12)])
    people = 0

    def join(count: int) -> None:
        nonlocal people
        with workspace.store.atomic() as db:
            rows = [
                NewSubscriber(
                    email=f"p{people + i}@x.example",
                    key=f"p{people + i}@x.example",
                    name=None,
                    joined_at=now - 9 * DAY,
                    now=now,
                    time_zone=None,
                    language=None,
                    country=None,
                    provider=0,
                    fields="{}",
                    source=None,
                    action=None,
                )
                for i in range(count)
            ]
            subscribers.upsert(db, rows)
        people += count

    def happen(count: int) -> None:
        nonlocal action
        with workspace.store.atomic() as db:
            action = undo_log.begin(db, now, "t", "imported events", "x", count, "events")
            first = events.highest(db) + 1
            kinds = (Kind.SENT, Kind.SENT, Kind.SENT, Kind.OPENED, Kind.CLICKED, Kind.BOUNCED)
            events.add(
                db,
                [
                    (
                        now - int(r.integers(0, 80 * DAY)),
                        int(r.choice(kinds)),
                        int(r.integers(1, people + 1)),
                        int(r.integers(1, 13)),
                    )
                    + (0, 0, 0.0, "452 4.2.2", None, None)
                    for _ in range(count)
                ],
            )
            undo_log.took_events(db, action, first, events.highest(db))

    join(30)
    happen(150)
    for step in range(8):
        match int(r.integers(0, 6)):
            case 0:
                join(int(r.integers(1, 9)))
            case 1:
                now += int(r.integers(1, 30 * DAY))
                set_clock(workspace, now)
            case 2:
                with workspace.store.atomic() as db:
                    subscribers.add_members(db, [(1, int(r.integers(1, people + 1)), now - 5, None)])
                    subscribers.add_suppressions(
                        db, [(int(r.integers(1, people + 1)), 4, now + int(r.integers(-9, 9) * DAY), "t", None)]
                    )
            case 3 if action:
                with workspace.store.atomic() as db:
                    undo_log.remove_events(db, action, 1000)
            case _:
                happen(int(r.integers(1, 12)))
        if step % 2:
            continue  # several things may happen between two looks
        later = Workspace(folder, workspace.clock)
        assert told(workspace) == told(later), f"after step {step}"
        later.close()
    workspace.close()
