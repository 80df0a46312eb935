"""The sums of events by hour follow whatever happens to events and to whom they are about."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest

from openmeadow.core.events import Kind
from openmeadow.core.moments import DAY, HOUR, WEEK
from openmeadow.services.health import provider_health, providers
from openmeadow.services.subscribers import erasure, import_events, import_subscribers, undo
from openmeadow.services.today import overview
from openmeadow.services.workspace import Workspace
from openmeadow.store.engagement import event_hours, events
from openmeadow.store.health import providers as provider_table
from tests.conftest import NOW

PEOPLE = "email,joined_at\n" + "".join(f"p{i}@d{i % 3}.example,2025-01-01T00:00:00Z\n" for i in range(9))


def log(hours: range, event: str = "sent") -> str:
    lines = [f"2026-03-{1 + h // 24:02}T{h % 24:02}:10:00Z,{event},p{h % 9}@d{h % 3}.example,M{h % 2}" for h in hours]
    return "at,event,email,message\n" + "\n".join(lines) + "\n"


@pytest.fixture
def filled(workspace: Workspace, folder: Path) -> Workspace:
    for name, text, run in (
        ("p.csv", PEOPLE, import_subscribers.run),
        ("a.csv", log(range(100)), import_events.run),
        ("b.csv", log(range(50, 150), "bounced"), import_events.run),
    ):
        (folder / name).write_text(text)
        run(workspace.store, folder / name, NOW, "t")
    return workspace


def undo_the_last_import(w: Workspace) -> None:
    action = w.store.read().execute("SELECT max(id) AS id FROM activity").fetchone()["id"]
    undo.undo(w, action, "t")


def move_a_domain(w: Workspace) -> None:
    assert providers.split(w, "d1.example", "Saltmere", "t") == 3


def merge_providers(w: Workspace) -> None:
    move_a_domain(w)
    assert providers.merge(w, provider_table.named(w.store.read(), "Saltmere") or 0, 0, "t") == 3


def erase_somebody(w: Workspace) -> None:
    erasure.erase(w, 2, "t")


def forget_some(w: Workspace) -> None:
    with w.store.atomic() as db:
        events.add(db, [(NOW, Kind.SENT, 1, 1, 0, 0, 0.0, None, None, "x 1")])
        assert len(events.forget(db, ["x 1"])) == 1


@pytest.mark.parametrize(
    "happens", [undo_the_last_import, move_a_domain, merge_providers, erase_somebody, forget_some, lambda w: None]
)
def test_the_sums_are_what_the_events_say(filled: Workspace, happens: Callable[[Workspace], None]) -> None:
    happens(filled)
    db, view = filled.store.read(), filled.view()
    assert event_hours.wrong(db) == 0
    here = {p.name: sum(p.days["sent"]) for p in provider_health.providers(filled, view)}
    assert sum(here.values()) == 100 and {p.name: p.sent for p in overview.providers(filled, view)} == here
    for kind in (Kind.SENT, Kind.BOUNCED):
        counted = db.execute("SELECT count(*) AS n FROM events WHERE kind = ?", (kind,)).fetchone()["n"]
        assert event_hours.total(db, kind, 0, NOW) == counted
    with filled.store.atomic() as w:
        w.execute("DELETE FROM event_hours WHERE kind = 1")
    assert event_hours.wrong(db) > 0
    filled.score_summary(full=True)
    assert event_hours.wrong(db) == 0, "summed anew by command"


def test_what_windows_hold(filled: Workspace) -> None:
    db = filled.store.read()
    weeks = event_hours.by_provider_and_week(db, NOW, 2, 7 * DAY)
    in_weeks = {(r.kind, r.week): r.n for r in weeks}
    for (kind, week), n in in_weeks.items():
        low, high = (NOW // HOUR - (week + 1) * WEEK // HOUR + 1, NOW // HOUR - week * WEEK // HOUR)
        sql = "SELECT count(*) AS n FROM events WHERE kind = ? AND at / 3600 BETWEEN ? AND ?"
        assert db.execute(sql, (kind, low, high)).fetchone()["n"] == n
    assert sum(r.n for r in event_hours.sent_by_day(db, NOW - 30 * DAY, NOW, None)) == 100
    assert max(r.most for r in event_hours.most_in_a_day(db, 0)) == 24
    assert {m.message: m.sent for m in event_hours.by_message(db)} == {1: 50, 2: 50}


def test_kept_points_go_with_what_they_were_made_of(filled: Workspace, folder: Path) -> None:
    with filled.store.atomic() as db:
        for at in (NOW - 60 * DAY, NOW - 5 * DAY):
            event_hours.keep_point(db, at, 0, [1, 2])
        events.add(db, [(NOW - DAY, Kind.OPENED, 1, 1, 0, 0, 0.0, None, None, None)])
        assert len(event_hours.kept_points(db, 0)) == 2, "what came later leaves them"
        events.add(db, [(NOW - 10 * DAY, Kind.OPENED, 1, 1, 0, 0, 0.0, None, None, None)])
        assert list(event_hours.kept_points(db, 0)) == [NOW - 60 * DAY]
    (folder / "n.csv").write_text("email,joined_at\nnew@d1.example,2025-02-01T00:00:00Z\n")
    import_subscribers.run(filled.store, folder / "n.csv", NOW, "t")
    assert not event_hours.kept_points(filled.store.read(), 0), "somebody who had joined before"
