"""Past one machine, on one machine: tables of 10,000,000 people and 200,000,000 deliveries made on disk, and asked by DuckDB
out of core with the SQL that the product writes; beside the product's own columns in memory at a tenth of that.
``python -m bench.warehouse [PEOPLE] [DELIVERIES] [FOLDER]``; a folder that is given is kept."""

from __future__ import annotations

import json
import resource
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from datetime import UTC, datetime
from itertools import groupby
from pathlib import Path

import duckdb
import numpy as np

from bench import world
from openmeadow.core.engagement.bands import cadence
from openmeadow.core.engagement.score import Basis, score
from openmeadow.core.moments import DAY
from openmeadow.core.rules.activity_index import Streams
from openmeadow.services.warehouse import export, sql
from openmeadow.services.workspace import Workspace
from openmeadow.store import parquet

WEEKS, MEMORY = 78, "4GB"
RULES = ("opened at least 4 in 120 days and joined more than 60 days ago", "received at least 6 in 60 days")
EVERYBODY = "joined more than 0 days ago"


def lot(*of: str) -> str:
    """SQL of a number in [0, 1) that is told by some columns, the same in every run."""
    return f"(hash({', '.join(of)}) / 18446744073709551616.0)"


PEOPLE = f"""
    SELECT i AS person, 'p' || i || '@d' || (i % 997) || '.example' AS email, '' AS name,
        CAST(:now - 10 * {DAY} - each_of * 7 * {DAY} - 30 * {DAY} * {lot("i", "1")} AS BIGINT) AS joined_at,
        CAST(NULL AS BIGINT) AS rejoined_at, 'Form' AS source, 'Other domains' AS provider, '' AS language, '' AS country,
        '' AS time_zone, 'not checked' AS address, 'reading' AS model, each_of, pow({lot("i", "2")}, 1.8) AS rate
    FROM (SELECT i, CAST(least({WEEKS}, 1 + floor(ln(1 - {lot("i", "3")}) / ln(1 - 1 / :each))) AS BIGINT) AS each_of
          FROM range(1, :people + 1) AS t(i))"""
DELIVERIES = f"""
    SELECT *, CASE WHEN {lot("person", "w", "4")} < rate THEN first_at + 60 + CAST(2 * {DAY} * {lot("person", "w", "5")}
        AS BIGINT) END AS opened_at
    FROM (SELECT person, w + 1 AS message, :now - 3 * {DAY} - w * 7 * {DAY} + CAST(1800 * {lot("person", "w", "6")} AS BIGINT)
            AS first_at, rate, w FROM made JOIN range(:first, :last) AS weeks(w) ON each_of > w)"""
WHOLE = f"""
    SELECT person, message, first_at, CASE WHEN {lot("person", "w", "7")} < 0.02 THEN first_at + 5 END AS failed_at,
        opened_at, CASE WHEN {lot("person", "w", "8")} < 0.15 THEN opened_at + 30 END AS clicked_at,
        CASE WHEN {lot("person", "w", "8")} < 0.15 THEN opened_at + 30 END AS reacted_at,
        CASE WHEN {lot("person", "w", "9")} < 0.05 THEN first_at + 2 END AS machine_at FROM ({DELIVERIES})"""
ENGAGEMENT = """
    SELECT person, message, "at", kind, made_by, CAST(0 AS DOUBLE) AS value FROM (
        SELECT person, message, opened_at AS "at", 'opened' AS kind, 'person' AS made_by FROM month WHERE opened_at IS NOT NULL
        UNION ALL SELECT person, message, clicked_at, 'clicked', 'person' FROM month WHERE clicked_at IS NOT NULL
        UNION ALL SELECT person, message, machine_at, 'opened', 'machine' FROM month WHERE machine_at IS NOT NULL)"""


def months(now: int) -> Iterator[tuple[str, int, int]]:
    """The months of the weekly mailings, with their first week and the one after their last."""

    def month_of(week: int) -> str:
        return datetime.fromtimestamp(now - 3 * DAY - week * 7 * DAY, UTC).strftime("%Y-%m")

    for month, weeks in groupby(range(WEEKS), month_of):
        some = list(weeks)
        yield month, some[0], some[-1] + 1


def make(out: Path, people: int, deliveries: int, now: int) -> None:
    """People, deliveries and engagement in place of those of an empty workspace's export."""
    with duckdb.connect() as db:
        db.execute(f"SET memory_limit = '{MEMORY}'; SET threads = 2; SET temp_directory = '{out}/.spill'")

        def filled(text: str, **values: float) -> str:
            for name, value in values.items():
                text = text.replace(f":{name}", str(value))
            return text

        kept = "(FORMAT parquet, COMPRESSION zstd)"
        db.execute(f"CREATE TABLE made AS {filled(PEOPLE, now=now, people=people, each=deliveries / people)}")
        db.execute(f"COPY (SELECT * EXCLUDE (each_of, rate) FROM made) TO '{out}/people.parquet' {kept}")
        for table in ("deliveries", "engagement"):
            for old in (out / table).glob("*.parquet"):
                old.unlink()
        for month, first, last in months(now):
            db.execute(f"CREATE OR REPLACE TEMP TABLE month AS {filled(WHOLE, now=now, first=first, last=last)}")
            db.execute(f"COPY (SELECT * FROM month ORDER BY person) TO '{out}/deliveries/{month}.parquet' {kept}")
            db.execute(f"COPY ({ENGAGEMENT} ORDER BY person) TO '{out}/engagement/{month}.parquet' {kept}")


def ask(out: Path) -> None:
    """Each statement once, in this process, with its time; the most memory at the end."""
    for name, statement in json.loads((out / "asked.json").read_text()).items():
        with duckdb.connect() as db:
            db.execute(f"SET memory_limit = '{MEMORY}'; SET threads = 2; SET temp_directory = '{out}/.spill'")
            db.execute(parquet.views("duckdb", str(out)))
            begun = time.perf_counter()
            found = db.execute(statement).fetchall()
            print(f"  {name}: {time.perf_counter() - begun:,.1f} s, {len(found)} rows, {str(found[0])[:80]}", flush=True)
    print(f"  most memory: {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024:,.0f} MB")


def ours(people: int, deliveries: int) -> None:
    """The same questions of the columns in memory."""
    c = world.make(people, deliveries)
    pace, begun = cadence(c, world.NOW), time.perf_counter()
    streams, joined = Streams(c), c.people.joined_at < world.NOW - 60 * DAY
    streams.messages("opened", 0, world.NOW), streams.delivered(0, world.NOW)
    print(
        f"  {len(c.people):,} people and {len(c.rows):,} deliveries in memory, arranged in {time.perf_counter() - begun:,.1f} s"
    )
    for name, work in (
        (RULES[0], lambda: int(((streams.messages("opened", world.NOW - 120 * DAY, world.NOW) >= 4) & joined).sum())),
        (RULES[1], lambda: int((streams.delivered(world.NOW - 60 * DAY, world.NOW) >= 6).sum())),
        ("everybody's score and band", lambda: np.bincount(score(c, world.NOW, Basis(pace)).band).tolist()),
    ):
        begun = time.perf_counter()
        found = work()
        print(f"  {name}: {time.perf_counter() - begun:,.2f} s, {found}")
    print(f"  most memory: {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024:,.0f} MB")


def run(people: int, deliveries: int, out: Path) -> None:
    with tempfile.TemporaryDirectory() as name:
        workspace = Workspace(Path(name))
        if not (out / "asked.json").exists():
            export.run(workspace, out, "bench")
            now, begun = json.loads((out / "schema.json").read_text())["now"], time.perf_counter()
            make(out, people, deliveries, now)
            print(f"  made in {time.perf_counter() - begun:,.0f} s")
        asked = {r: f"SELECT count(*) FROM ({sql.segment(workspace, r, 'duckdb').rstrip(';')})" for r in RULES}
        standing = sql.question(workspace, "standing", EVERYBODY, "duckdb").rstrip(";")
        asked["everybody's score and band"] = f"SELECT band, count(*) FROM ({standing}) GROUP BY band ORDER BY band"
        (out / "asked.json").write_text(json.dumps(asked))
        workspace.close()
    size = sum(f.stat().st_size for f in out.rglob("*.parquet")) / 1e9
    print(
        f"\n{people:,} people and about {deliveries:,} deliveries, {size:.1f} GB of Parquet: DuckDB, {MEMORY}, two threads"
    )
    subprocess.run([sys.executable, "-m", "bench.warehouse", "--ask", str(out)], check=True)
    print("The product's own columns, at a tenth of that")
    subprocess.run(
        [sys.executable, "-m", "bench.warehouse", "--ours", str(people // 10), str(deliveries // 10)], check=True
    )


def main(people: int = 10_000_000, deliveries: int = 200_000_000, folder: str = "") -> None:
    if folder:
        Path(folder).mkdir(parents=True, exist_ok=True)
        run(people, deliveries, Path(folder))
        return
    with tempfile.TemporaryDirectory() as name:
        run(people, deliveries, Path(name) / "columns")


if __name__ == "__main__":
    if sys.argv[1:2] == ["--ask"]:
        ask(Path(sys.argv[2]))
    elif sys.argv[1:2] == ["--ours"]:
        ours(int(sys.argv[2]), int(sys.argv[3]))
    else:
        numbers = [int(a.replace("_", "")) for a in sys.argv[1:3]]
        main(*numbers, *sys.argv[3:4])
