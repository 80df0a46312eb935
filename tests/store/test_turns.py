"""Long work in parts: together in one transaction while nobody waits, apart as soon as somebody does."""

from __future__ import annotations

import random
import sqlite3
from collections.abc import Sequence
from datetime import UTC, datetime
from pathlib import Path

import pytest

from openmeadow.core.moments import DAY
from openmeadow.services.subscribers import file_reader, import_events, import_subscribers
from openmeadow.services.workspace import Workspace
from openmeadow.store.connection import Store
from openmeadow.store.turns import Turns
from tests.conftest import NOW


def test_parts_go_together_until_somebody_waits(folder: Path) -> None:
    said: list[str] = []
    store = Store(folder, said.append)
    with store.atomic() as db:
        db.execute("CREATE TABLE seen (n INTEGER)")
    parts: list[int] = []
    commits: list[int] = []

    def do(db: sqlite3.Connection, part: Sequence[int]) -> int:
        parts.append(len(part))
        commits.append(said.count("COMMIT"))
        db.executemany("INSERT INTO seen VALUES (?)", [(i,) for i in part])
        return len(part)

    told: list[tuple[int, int]] = []
    assert Turns(store).each(range(20_000), do, lambda *of: told.append(of)) == 20_000 and len(parts) > 6
    assert told == [(n, n) for n, _ in told] and sum(n for n, _ in told) == 20_000 and len(told) == len(set(commits))
    assert len(set(commits)) < len(parts), "nobody waited, so some went together"
    parts.clear(), commits.clear()
    other = Store(folder)
    with other.queue.waiting():  # another process, as far as this one can tell
        store.queue.give_way = lambda most=1.0: None  # type: ignore[method-assign]
        assert Turns(store).each(range(5_000), do) == 5_000
    assert len(set(commits)) == len(parts) > 3
    with pytest.raises(ZeroDivisionError):
        Turns(store).each(range(100), lambda db, part: do(db, part) // 0)
    assert store.read().execute("SELECT count(*) FROM seen").fetchone()[0] == 25_000
    other.close(), store.close()


def test_events_are_written_as_their_indexes_grow(
    workspace: Workspace, folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """By time however the file is sorted; by person where all are of a short time; and the same ones in windows of any size."""
    lot = random.Random(4)
    emails = [f"p{i}@x.example" for i in range(40)]
    (folder / "p.csv").write_text("email\n" + "\n".join(emails) + "\n")
    import_subscribers.run(workspace.store, folder / "p.csv", NOW, "t", source="form")

    seen: list[float] = []

    def taken(days: int, until: int, window: int) -> list[sqlite3.Row]:
        monkeypatch.setattr(import_events, "WINDOW", window)
        rows = []
        for n in range(600):
            at = datetime.fromtimestamp(until - lot.randrange(days * DAY), UTC)
            rows.append(
                f"{at:%Y-%m-%dT%H:%M:%SZ},{lot.choice(('sent', 'opened'))},{lot.choice(emails)},Letter {n % 7},id {n} {until}"
            )
        text = "at,event,email,message,id\n" + "\n".join([*rows, *rows[:50]]) + "\n"
        (folder / "e.csv").write_text(text)
        last = workspace.store.read().execute("SELECT coalesce(max(id), 0) FROM events").fetchone()[0]
        seen.clear()
        file = folder / "e.csv"
        report = import_events.run(workspace.store, file, NOW, "t", progress=lambda at, of: seen.append(at / of))
        assert seen == sorted(seen) and seen[-1] == 1, "it is told how far it is, to the end"
        assert report.rows == 650 and report.taken + report.repeated == 650 and report.repeated >= 50
        found = "SELECT e.*, m.name FROM events e JOIN messages m ON m.id = e.message WHERE e.id > ? ORDER BY e.id"
        made = workspace.store.read().execute(found, (last,)).fetchall()
        assert {r["outside_id"] for r in made} <= {row.split(",")[-1] for row in rows} and len(made) == report.taken
        for r in made[::40]:
            row = next(row for row in rows if row.endswith(f",{r['outside_id']}"))
            assert row.split(",")[3] == r["name"] and row.startswith(
                f"{datetime.fromtimestamp(r['at'], UTC):%Y-%m-%dT%H:%M:%SZ}"
            )
        return made

    made = taken(400, NOW - 9 * DAY, 1_000)
    assert [r["at"] for r in made] == sorted(r["at"] for r in made)
    made = taken(3, NOW - 5 * DAY, 1_000)
    assert [r["subscriber"] for r in made] == sorted(r["subscriber"] for r in made)
    monkeypatch.setattr(file_reader, "CHUNK", 90)
    assert len(taken(300, NOW - 10 * DAY, 200)) > 590
