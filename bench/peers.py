"""The same questions in DuckDB and polars, on the same arrays in memory."""

from __future__ import annotations

from typing import Any

import duckdb
import numpy as np
import polars as pl

from bench.world import NOW
from openmeadow.core.arrays import FAR
from openmeadow.core.columns import Columns
from openmeadow.core.engagement.bands import Cadence
from openmeadow.core.moments import DAY

SCORE_SQL = """
WITH answers AS (SELECT person, max("at") AS latest FROM acts WHERE "by" <> 1 AND "at" <= {now} GROUP BY person),
folded AS (
  SELECT r.person,
    sum(pow(2, (first_at - {now}) / ({day} * {half})) *
        CASE WHEN reacted_at <= {now} THEN 1.0 WHEN opened_at <= {now} THEN 0.7 ELSE 0 END) AS e,
    sum(pow(2, (first_at - {now}) / ({day} * {half}))) AS n,
    count(*) FILTER (WHERE reacted_at <= {now} OR opened_at <= {now}) AS answered,
    count(*) FILTER (WHERE l.latest IS NULL OR first_at > l.latest) AS ignored,
    min(first_at) AS first_delivered,
    count(*) FILTER (WHERE first_at > {now} - {window} * {day}) AS in_window,
    count(*) FILTER (WHERE first_at > {now} - {window} * {day} AND machine_at <= {now}) AS machine_in_window
  FROM rows r LEFT JOIN answers l USING (person) WHERE first_at <= {now} AND failed_at > {now} GROUP BY r.person)
SELECT p.person, coalesce(e, 0) AS e, coalesce(n, 0) AS n, CASE
    WHEN latest IS NULL AND (coalesce(ignored, 0) < 5 OR first_delivered > {now} - {window} * {day} / 2) THEN 4
    WHEN (latest IS NULL OR latest <= {now} - {window} * {day}) AND machine_in_window * 2 >= in_window
      AND machine_in_window >= 3 THEN 5
    WHEN latest IS NULL OR (latest <= {now} - {window} * {day} AND ignored >= 5) THEN 3
    WHEN latest <= {now} - {window} * {day} / 2 THEN 2
    WHEN 100 * e / (n + 1) >= 30 AND answered >= 3 THEN 0
    WHEN 100 * e / (n + 1) >= 8 THEN 1 ELSE 2 END AS band
FROM people p LEFT JOIN folded f USING (person) LEFT JOIN answers a USING (person) ORDER BY p.person
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

    def score(self, pace: Cadence) -> Any:
        return self.db.execute(SCORE_SQL.format(now=NOW, day=DAY, half=pace.half_life, window=pace.window)).fetchnumpy()

    def count(self) -> int:
        return int(self.db.execute(COUNT_SQL.format(now=NOW, day=DAY)).fetchall()[0][0])


def polars_score(data: dict[str, pl.DataFrame], pace: Cadence) -> pl.DataFrame:
    edge = NOW - pace.window * DAY
    last = (
        data["acts"]
        .lazy()
        .filter((pl.col("by") != 1) & (pl.col("at") <= NOW))
        .group_by("person")
        .agg(pl.col("at").max().alias("last"))
    )
    first = pl.col("first_at")
    weight = 2.0 ** ((first - NOW) / (DAY * pace.half_life))
    value = pl.when(pl.col("reacted_at") <= NOW).then(1.0).when(pl.col("opened_at") <= NOW).then(0.7).otherwise(0.0)
    folded = (
        data["rows"]
        .lazy()
        .filter((first <= NOW) & (pl.col("failed_at") > NOW))
        .join(last, on="person", how="left")
        .with_columns(weight.alias("w"), value.alias("v"))
        .group_by("person")
        .agg(
            (pl.col("w") * pl.col("v")).sum().alias("e"),
            pl.col("w").sum().alias("n"),
            (pl.col("v") > 0).sum().alias("answered"),
            (pl.col("last").is_null() | (first > pl.col("last"))).sum().alias("ignored"),
            first.min().alias("first_delivered"),
            (first > edge).sum().alias("in_window"),
            ((first > edge) & (pl.col("machine_at") <= NOW)).sum().alias("machine"),
        )
    )
    score = 100 * pl.col("e") / (pl.col("n") + 1)
    never = pl.col("last").is_null()
    quiet = never | (pl.col("last") <= edge)
    half = NOW - pace.window * DAY // 2
    band = (
        pl.when(never & ((pl.col("ignored").fill_null(0) < 5) | (pl.col("first_delivered") > half)))
        .then(4)
        .when(quiet & (pl.col("machine") * 2 >= pl.col("in_window")) & (pl.col("machine") >= 3))
        .then(5)
        .when(never | (quiet & (pl.col("ignored") >= 5)))
        .then(3)
        .when(pl.col("last") <= half)
        .then(2)
        .when((score >= 30) & (pl.col("answered") >= 3))
        .then(0)
        .when(score >= 8)
        .then(1)
        .otherwise(2)
    )
    return (
        data["people"]
        .lazy()
        .join(folded, on="person", how="left")
        .join(last, on="person", how="left")
        .sort("person")
        .with_columns(pl.col("e").fill_null(0), pl.col("n").fill_null(0), band.alias("band"))
        .select("e", "n", "band")
        .collect()
    )


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


__all__ = ["FAR", "Duck", "frames", "polars_count", "polars_score"]
