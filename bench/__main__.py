"""Prints every figure beside its peer, measured in one run in turn: ``python -m bench [people] [deliveries]``."""

from __future__ import annotations

import csv
import resource
import sqlite3
import subprocess
import sys
import tempfile
import time
import urllib.request
from pathlib import Path
from typing import Any

import numpy as np

from bench import (
    addresses,
    arrivals,
    cold,
    locks,
    million,
    paint,
    placement,
    questions,
    replay,
    screens,
    throughput,
    truth,
    world,
)
from bench.peers import Duck, frames, polars_count
from bench.timing import in_turn
from openmeadow.core.engagement.bands import cadence
from openmeadow.core.engagement.fitting import fit_all
from openmeadow.core.engagement.score import Basis, score
from openmeadow.core.rules.activity_index import Streams
from openmeadow.services.subscribers import file_reader, import_events, import_subscribers
from openmeadow.services.workspace import Workspace

DAY = 86_400


def told(title: str, found: dict[str, tuple[float, Any]]) -> None:
    ours = next(iter(found.values()))[0]
    print(f"\n{title}")
    for name, (seconds, _) in found.items():
        print(f"  {name:<34}{seconds * 1000:>10.0f} ms   {seconds / ours:>5.2f} x ours")


def scoring(people: int, deliveries: int) -> None:
    c = world.make(people, deliveries)
    print(f"{len(c.people):,} subscribers, {len(c.rows):,} deliveries, {len(c.acts):,} opens and clicks")
    pace = cadence(c, world.NOW)
    streams, data = Streams(c), frames(c)
    duck = Duck(data)
    begun = time.perf_counter()
    models = fit_all(c, world.NOW, np.ones(len(c.people), bool), pace)
    fitting = time.perf_counter() - begun
    basis = Basis(pace, models)
    duck.keep_chances(models.reading)
    found = in_turn({"Open Meadow": lambda: score(c, world.NOW, basis), "DuckDB": lambda: duck.chances(pace)})
    ours, theirs = (found[n][1] for n in found)
    seen = ~ours.hidden
    for name in ("x", "t", "n", "chance"):
        assert np.allclose(getattr(ours, name)[seen], theirs[name][seen]), "the peer computes the same"
    told("Rescoring everybody: (x, t, n), chance; ours with bands and clicks of those whose reading is hidden", found)
    print(f"  (fitting the models on {models.reading.people:,} people, in the worker: {fitting:.1f} s)")
    joined = c.people.joined_at < world.NOW - 60 * DAY
    begun = time.perf_counter()
    streams.messages("opened", 0, world.NOW)
    arranging = time.perf_counter() - begun

    def count() -> int:
        return int(((streams.messages("opened", world.NOW - 120 * DAY, world.NOW) >= 4) & joined).sum())

    found = in_turn({"Open Meadow": count, "DuckDB": duck.count, "polars": lambda: polars_count(data)})
    assert len({answer for _, answer in found.values()}) == 1
    told("Counting “opened at least 4 in 120 days and joined more than 60 days ago”", found)
    print(f"  (arranging the opens once, when the columns are opened: {arranging * 1000:.0f} ms)")


def _bare(path: Path, folder: Path, columns: int) -> int:
    db = sqlite3.connect(folder / "bare.db", isolation_level=None)
    db.execute("PRAGMA journal_mode = WAL")
    db.execute("PRAGMA synchronous = NORMAL")
    db.execute("DROP TABLE IF EXISTS t")
    db.execute(f"CREATE TABLE t ({', '.join(f'c{i}' for i in range(columns))})")
    marks, n = ",".join("?" * columns), 0
    for rows, _, _ in file_reader.csv_chunks(path):
        db.execute("BEGIN")
        db.executemany(f"INSERT INTO t VALUES ({marks})", [r for _, r in rows])
        db.execute("COMMIT")
        n += len(rows)
    db.close()
    return n


def bringing_in(people: int, count: int) -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        file, log = folder / "p.csv", folder / "e.csv"
        with file.open("w") as f:
            f.write("email,name,joined_at,list,consent:Season news,consent_source:Season news\n")
            f.writelines(f"p{i}@d{i % 997}.example,P {i},2025-01-01,Foyer,given,Foyer form\n" for i in range(people))
        r = np.random.default_rng(3)
        who, kind = r.integers(0, people, count), r.random(count) < 0.3
        at = np.sort(r.integers(world.NOW - 500 * DAY, world.NOW, count))
        stamps = np.datetime_as_string(at.astype("datetime64[s]"))
        with log.open("w", newline="") as f:
            w = csv.writer(f)
            w.writerow(["at", "event", "email", "message", "agent", "ip", "url", "code", "diagnostic", "value"])
            w.writerows(
                (
                    f"{s}Z",
                    "opened" if k else "sent",
                    f"p{i}@d{i % 997}.example",
                    f"News {t // 604_800}",
                    "Reader/4" if k else "",
                    "198.51.100.1" if k else "",
                    "",
                    "",
                    "",
                    "",
                )
                for s, t, i, k in zip(stamps, at.tolist(), who.tolist(), kind.tolist(), strict=True)
            )
        workspace = Workspace(folder / "data")
        begun = time.perf_counter()
        import_subscribers.run(workspace.store, file, world.NOW, "bench")
        took = time.perf_counter() - begun
        print(f"\nBringing in {people:,} subscribers: {took:.1f} s, {people / took:,.0f} a second")
        rates = []
        for _ in range(2):
            begun = time.perf_counter()
            _bare(log, folder, 10)
            bare = count / (time.perf_counter() - begun)
            with workspace.store.atomic() as db:
                db.execute("DELETE FROM events")
            begun = time.perf_counter()
            import_events.run(workspace.store, log, world.NOW, "bench")
            rates.append((count / (time.perf_counter() - begun), bare))
        ours, bare = max(rates, key=lambda x: x[0] / x[1])
        print(
            f"Bringing in {count:,} events: {ours:,.0f} a second, reading and a bare executemany {bare:,.0f}: "
            f"{ours / bare:.2f} of its rate"
        )
        print(f"Peak memory of this process so far: {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024:,.0f} MB")
        workspace.close()


def first_page() -> None:
    with tempfile.TemporaryDirectory() as name:
        begun = time.perf_counter()
        process = subprocess.Popen(
            [sys.executable, "-u", "-m", "openmeadow", "--data", f"{name}/demo", "demo", "--port", "18080"],
            stdout=subprocess.PIPE,
            text=True,
        )
        assert process.stdout is not None
        entry = next(line.strip() for line in process.stdout if "/enter/" in line)
        opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor())
        opener.open(entry).read()
        opener.open("http://127.0.0.1:18080/api/today").read()
        print(
            f"\nFrom `meadow demo` to the first page with its figures: {time.perf_counter() - begun:.1f} s "
            "(24,000 people, set up)"
        )
        process.terminate()
        process.wait(30)
        process.stdout.close()


def main() -> None:
    people = int(sys.argv[1]) if len(sys.argv) > 1 else 1_000_000
    deliveries = int(sys.argv[2]) if len(sys.argv) > 2 else 20 * people
    first_page()
    truth.main()
    placement.main()
    replay.main()
    replay.main()
    addresses.figures()
    bringing_in(people, people)
    bringing_in(people // 10, people)
    scoring(people, deliveries)
    questions.main((people // 10, people * 3 // 10, people), deliveries // people)
    cold.main(people, deliveries)
    throughput.main()
    million.main(people)
    arrivals.main()
    screens.main(people, 14 * people)
    locks.main(people, 14 * people)
    paint.main(people, 14 * people)


if __name__ == "__main__":
    main()
