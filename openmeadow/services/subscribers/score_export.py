"""Everybody's score as a file."""

from __future__ import annotations

import csv
import json
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from openmeadow.core.arrays import NEVER
from openmeadow.core.engagement.bands import BANDS
from openmeadow.core.errors import CannotOpen
from openmeadow.core.imports.dates import rfc3339
from openmeadow.core.rules.conditions import View
from openmeadow.services.subscribers.export import safe
from openmeadow.services.workspace import Workspace
from openmeadow.store.subscribers import subscribers

COLUMNS = ("email", "score", "chance", "active", "band", "engaged", "ignored", "last_engaged")
CHUNK = 10_000


def _rows(workspace: Workspace, view: View) -> Iterator[dict[str, str | float | int]]:
    """Everybody who is not erased, by id; chances as shares of 1."""
    db, s = workspace.store.read(), view.scores
    index = np.flatnonzero(view.alive)
    for i in range(0, len(index), CHUNK):
        some = index[i : i + CHUNK].tolist()
        stored = subscribers.by_ids(db, view.columns.people.id[some].tolist())
        for p, row_id in zip(some, view.columns.people.id[some].tolist(), strict=True):
            last = int(s.last_engaged[p])
            yield {
                "email": stored[row_id].email,
                "score": round(float(s.score[p]), 4),
                "chance": round(float(s.chance[p]), 6),
                "active": round(float(s.active[p]), 6),
                "band": BANDS[s.band[p]],
                "engaged": int(s.engaged[p]),
                "ignored": int(s.ignored[p]),
                "last_engaged": rfc3339(last) if last > NEVER else "",
            }


def write(workspace: Workspace, out: Path, as_of: int | None = None) -> int:
    """As CSV, or NDJSON where the name ends so; how many people. CannotOpen where the file cannot be written."""
    view, n = workspace.view(as_of), 0
    try:
        with out.open("w", encoding="utf-8", newline="") as f:
            table = csv.writer(f)
            if out.suffix != ".ndjson":
                table.writerow(COLUMNS)
            for row in _rows(workspace, view):
                n += 1
                if out.suffix == ".ndjson":
                    f.write(json.dumps(row, ensure_ascii=False) + "\n")
                else:
                    shares = {k: f"{row[k]:.6f}" for k in ("chance", "active")}
                    table.writerow(safe(str(v)) for v in (row | shares).values())
    except OSError as e:
        raise CannotOpen(f"The file {out} cannot be opened: {e.strerror}.") from e
    return n
