"""The columns of some people."""

from __future__ import annotations

from dataclasses import fields

import numpy as np

from openmeadow.core.arrays import I64, Array
from openmeadow.core.columns import Acts, Columns, People, Rows, starts


def subset(columns: Columns, who: I64) -> Columns:
    """The columns of some people only (row numbers ascending), renumbered from 0."""
    place = np.full(len(columns.people), -1, np.int32)
    place[who] = np.arange(len(who), dtype=np.int32)

    def cut(table: Rows | Acts) -> dict[str, Array]:
        keep = place[table.person] >= 0
        out = {f.name: getattr(table, f.name)[keep] for f in fields(table)}
        out["person"] = place[out["person"]]
        return out

    people = People(**{f.name: getattr(columns.people, f.name)[who] for f in fields(People)})
    rows = Rows(**cut(columns.rows))
    return Columns(people, rows, Acts(**cut(columns.acts)), starts(rows.person, len(who)))
