"""A cold `meadow segment count` and a warm one, at full size: the columns are read from their mirror on disk."""

from __future__ import annotations

import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from bench.world import NOW, make
from openmeadow.core.rules.activity_index import Streams
from openmeadow.services.workspace import Workspace
from openmeadow.store.engagement import columns_cache
from openmeadow.store.engagement.columns import all_people_of, troubles

RULES = (
    "opened at least 4 in 120 days and joined more than 60 days ago",
    'permitted for "Season news" and received at least 6 in 60 days',
)


def main(people: int, deliveries: int) -> None:
    """The workspace holds everybody and their consent; of their events only the newest, the rest is in the mirror."""
    columns = make(people, deliveries)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "clock").write_text(str(NOW))
        workspace = Workspace(folder)
        with workspace.store.atomic() as db:
            joined = columns.people.joined_at.tolist()
            db.executemany(
                "INSERT INTO subscribers (email, email_key, joined_at) VALUES (?1, ?1, ?2)",
                ((f"p{i}@d{i % 997}.example", at) for i, at in enumerate(joined)),
            )
            db.execute("INSERT INTO purposes VALUES (1, 'Season news')")
            db.execute(
                "INSERT INTO consent_entries (subscriber, purpose, state, at, source) "
                "SELECT id, 1, CASE WHEN id % 9 THEN 1 ELSE 0 END, joined_at, 'form' FROM subscribers"
            )
            db.execute("INSERT INTO events (at, kind, subscriber, message) VALUES (?, 1, 1, 1)", (NOW - 1,))
        db = workspace.store.read()
        everybody = all_people_of(db)
        mirror = columns_cache.Mirror(columns, Streams(columns), troubles(db, everybody.people), 1, everybody)
        columns_cache.save(folder, db, mirror, workspace.machines().mark)
        size = sum(p.stat().st_size for p in (folder / columns_cache.FOLDER).iterdir())
        print(
            f"\nCold and warm counts at {people:,} people, {len(columns.rows):,} deliveries (mirror {size / 1e9:.1f} GB)"
        )
        for rule in RULES:
            command = [sys.executable, "-m", "openmeadow", "--data", name, "segment", "count", rule, "--json"]
            times = []
            for _ in range(4):
                begun = time.perf_counter()
                subprocess.run(command, check=True, capture_output=True)
                times.append(time.perf_counter() - begun)
            workspace.count(rule)
            warm = []
            for _ in range(7):
                begun = time.perf_counter()
                workspace.count(rule)
                warm.append(time.perf_counter() - begun)
            print(
                f"  {rule[:66]:<68} cold {statistics.median(times[1:]):.2f} s, warm {statistics.median(warm) * 1000:.0f} ms"
            )
        workspace.close()


if __name__ == "__main__":
    main(*(int(n.replace("_", "")) for n in (sys.argv[1:] or ("1_000_000", "20_000_000"))))
