"""The same questions in DuckDB and polars, on the same arrays in memory."""

from __future__ import annotations

import time
from dataclasses import fields
from typing import Any

import duckdb
import numpy as np
import polars as pl

from bench.world import NOW
from openmeadow.core.arrays import FAR
from openmeadow.core.columns import Columns
from openmeadow.core.engagement.bands import Cadence
from openmeadow.core.engagement.chance import ChanceModel, lattice
from openmeadow.core.moments import DAY
from openmeadow.core.rules.activity_index import Streams

COUNTED_SQL = """
WITH counted AS (
  SELECT person, least(opened_at, reacted_at) <= {now} AS engaged,
    row_number() OVER (PARTITION BY person ORDER BY first_at) AS nth
  FROM rows WHERE first_at <= {now} AND failed_at > {now} AND (least(opened_at, reacted_at) <= {now}
    OR (first_at <= {now} - {settled} AND machine_at > {now}))),
found AS (
  SELECT person, count(*) FILTER (WHERE engaged) AS x, coalesce(max(nth) FILTER (WHERE engaged), 0) AS t, count(*) AS n
  FROM counted GROUP BY person)
SELECT p.person, c.x, c.t, c.n, c.chance FROM people p
LEFT JOIN found f USING (person) JOIN chances c ON c.x = coalesce(f.x, 0) AND c.t = coalesce(f.t, 0)
  AND c.n = coalesce(f.n, 0) ORDER BY p.person
"""
COUNT_SQL = """
SELECT count(*) FROM (SELECT person FROM acts WHERE "by" <> 1 AND "at" > {now} - 120 * {day} AND "at" <= {now}
  GROUP BY person HAVING count(DISTINCT message) >= 4) JOIN people USING (person) WHERE joined_at < {now} - 60 * {day}
"""


def frames(c: Columns) -> dict[str, pl.DataFrame]:
    """The columns as polars frames (DuckDB takes the same as Arrow)."""
    return {
        "rows": pl.DataFrame({k: np.asarray(v) for k, v in vars(c.rows).items()}),
        "acts": pl.DataFrame({k: np.asarray(v) for k, v in vars(c.acts).items()}),
        "people": pl.DataFrame({"person": np.arange(len(c.people), dtype=np.int32), "joined_at": c.people.joined_at}),
    }


class Duck:
    """DuckDB with the data in tables of its own, on all processors."""

    def __init__(self, data: dict[str, pl.DataFrame]) -> None:
        self.db = duckdb.connect()
        self.db.execute("SET enable_progress_bar = false")
        for name, frame in data.items():
            self.db.register("given", frame.to_arrow())
            self.db.execute(f"CREATE TABLE {name} AS SELECT * FROM given")
            self.db.unregister("given")

    def arrange(self, streams: Streams) -> float:
        """The same streams as ours, sorted by day and person with the act before on the same message, as tables of its
        own; the seconds that its sorting and storing took."""
        taken = 0.0
        for name in Streams.NAMES:
            s = streams.stream(name)
            held = {f.name: getattr(s, f.name) for f in fields(s)} | {"day": s.at // DAY}
            frame = pl.DataFrame(held).sample(fraction=1.0, shuffle=True, seed=1)
            self.db.register("given", frame.to_arrow())
            begun = time.perf_counter()
            self.db.execute(f"CREATE TABLE {name.replace(' ', '_')} AS SELECT * FROM given ORDER BY day, person")
            taken += time.perf_counter() - begun
            self.db.unregister("given")
        self.db.execute("ANALYZE")
        return taken

    def keep_chances(self, model: ChanceModel) -> None:
        """The table of chances by (x, t, n), as ours has it."""
        x, t, n = lattice()
        table = pl.DataFrame({"x": x, "t": t, "n": n, "chance": model.chance(x, t, n)})
        self.db.register("given", table.to_arrow())
        self.db.execute("CREATE OR REPLACE TABLE chances AS SELECT * FROM given")
        self.db.unregister("given")

    def chances(self, pace: Cadence) -> Any:
        return self.db.execute(COUNTED_SQL.format(now=NOW, settled=pace.settled)).fetchnumpy()

    def count(self) -> int:
        return int(self.db.execute(COUNT_SQL.format(now=NOW, day=DAY)).fetchall()[0][0])


def polars_count(data: dict[str, pl.DataFrame]) -> int:
    busy = (
        data["acts"]
        .lazy()
        .filter((pl.col("by") != 1) & (pl.col("at") > NOW - 120 * DAY) & (pl.col("at") <= NOW))
        .group_by("person")
        .agg(pl.col("message").n_unique().alias("k"))
        .filter(pl.col("k") >= 4)
    )
    return int(
        data["people"]
        .lazy()
        .filter(pl.col("joined_at") < NOW - 60 * DAY)
        .join(busy, on="person")
        .select(pl.len())
        .collect()
        .item()
    )


__all__ = ["FAR", "Duck", "frames", "polars_count"]
