"""The columns on disk beside the database: memory-mapped, disposable, rebuilt when in doubt."""

from __future__ import annotations

import json
import os
import shutil
import sqlite3
from dataclasses import fields
from pathlib import Path
from typing import Any

import numpy as np

from openmeadow.core.columns import Acts, Columns, People, Rows

FOLDER = "columns"
_TABLES: dict[str, Any] = {"people": People, "rows": Rows, "acts": Acts}


def _fingerprint(db: sqlite3.Connection, seen: int) -> list[Any]:
    """The highest event seen as the database has it, so that another database is noticed."""
    row = db.execute("SELECT at, kind, subscriber, message FROM events WHERE id = ?", (seen,)).fetchone()
    return list(row) if row else []


def save(folder: Path, db: sqlite3.Connection, columns: Columns, seen: int) -> None:
    """Write the mirror anew; one that was being written when the machine stopped is never taken for whole."""
    fresh, final = folder / f"{FOLDER}.{os.getpid()}", folder / FOLDER
    shutil.rmtree(fresh, ignore_errors=True)
    fresh.mkdir(parents=True)
    for name, kind in _TABLES.items():
        for f in fields(kind):
            np.save(fresh / f"{name}.{f.name}.npy", getattr(getattr(columns, name), f.name))
    np.save(fresh / "start.npy", columns.start)
    (fresh / "whole.json").write_text(json.dumps({"seen": seen, "mark": _fingerprint(db, seen)}))
    shutil.rmtree(final, ignore_errors=True)
    fresh.rename(final)


def load(folder: Path, db: sqlite3.Connection) -> tuple[Columns, int] | None:
    """The mirror and the highest event in it; None when there is none or it is not of this database."""
    final = folder / FOLDER
    try:
        whole = json.loads((final / "whole.json").read_text())
        if whole["mark"] != _fingerprint(db, whole["seen"]):
            return None

        def table(name: str, kind: Any) -> Any:
            return kind(**{f.name: np.load(final / f"{name}.{f.name}.npy", mmap_mode="r") for f in fields(kind)})

        return Columns(
            table("people", People), table("rows", Rows), table("acts", Acts), np.load(final / "start.npy", mmap_mode="r")
        ), int(whole["seen"])
    except (OSError, ValueError, KeyError):
        return None
