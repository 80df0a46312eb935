"""Tables as Parquet files, written by DuckDB from numpy columns or from rows of our database."""

from __future__ import annotations

import json
import zlib
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from types import ModuleType
from typing import Any

import numpy as np

from openmeadow.core.arrays import Array
from openmeadow.core.errors import CannotOpen
from openmeadow.core.warehouse.tables import TABLES, Table

MEMORY = "80MB"  # of the engine
BLOCK = 5_000  # rows read at once
DIALECTS = ("duckdb", "spark")


@dataclass
class Exported:
    """Rows by table, and the files that were written anew of all."""

    rows: dict[str, int] = field(default_factory=dict)
    written: int = 0
    files: int = 0


MONTHS = np.arange("1970-01", "2039-01", dtype="datetime64[M]").astype("datetime64[s]").astype(np.int64)


def _with_months(pieces: Iterator[dict[str, Array]], at: str) -> Iterator[tuple[dict[str, Array], Array]]:
    """Each piece with the months of its rows, counted from January 1970."""
    for piece in pieces:
        yield piece, (np.searchsorted(MONTHS, piece[at], side="right") - 1).astype(np.int16)


def _typed(table: Table, empty: dict[str, int | None]) -> str:
    """The columns of a table from those of the same names; ``empty`` gives the number that stands for nothing."""
    parts = []
    for c in table.columns:
        none = empty.get(c.name)
        of = f'"{c.name}"' if none is None else f'nullif("{c.name}", {none})'
        parts.append(f'CAST({of} AS {c.type}) AS "{c.name}"')
    return ", ".join(parts)


class Writer:
    """Writes tables with the engine that is given; what stands in the folder from before and fits is kept."""

    def __init__(self, engine: ModuleType, folder: Path, scratch: Path) -> None:
        self.folder, self.done = folder, Exported()
        self.db = engine.connect(str(scratch / "scratch.duckdb"))
        self.db.execute(f"SET memory_limit = '{MEMORY}'; SET threads = 1; SET preserve_insertion_order = true")
        self.db.execute(f"SET temp_directory = '{scratch / 'spill'}'")
        known = folder / "schema.json"
        self.before: dict[str, Any] = json.loads(known.read_text())["files"] if known.exists() else {}
        known.unlink(missing_ok=True)
        self.files: dict[str, dict[str, int]] = {}

    def _path(self, table: Table, name: str) -> Path:
        return self.folder / table.name / name if table.split else self.folder / name

    def _is_there(self, table: Table, name: str, rows: int, mark: int) -> bool:
        path = self._path(table, name)
        return self.before.get(str(path.relative_to(self.folder))) == {"rows": rows, "mark": mark} and path.exists()

    def _into(self, table: Table, name: str, select: str, rows: int, mark: int) -> None:
        path = self._path(table, name)
        self.files[str(path.relative_to(self.folder))] = {"rows": rows, "mark": mark}
        self.done.files += 1
        self.done.rows[table.name] = self.done.rows.get(table.name, 0) + rows
        if self._is_there(table, name, rows, mark):
            return
        path.parent.mkdir(parents=True, exist_ok=True)
        fresh = path.with_suffix(".new")
        self.db.execute(
            f"COPY ({select}) TO '{str(fresh).replace(chr(39), chr(39) * 2)}' (FORMAT parquet, COMPRESSION zstd)"
        )
        fresh.replace(path)
        self.done.written += 1

    def arrays(self, table: Table, name: str, given: dict[str, Array], empty: dict[str, int | None]) -> None:
        """One file of numpy columns; ``empty`` gives the number that stands for nothing in a column."""
        rows = len(next(iter(given.values())))
        mark = 0
        for values in given.values():
            mark = zlib.crc32(np.ascontiguousarray(values).tobytes(), mark)
        self.db.register("given", given)
        self._into(table, name, f"SELECT {_typed(table, empty)} FROM given", rows, mark)
        self.db.unregister("given")

    def monthly(
        self, table: Table, pieces: Callable[[], Iterator[dict[str, Array]]], empty: dict[str, int | None]
    ) -> None:
        """A file for each month of rows that come in pieces, in their order: gone through once to see which months have
        changed, and once more to write those."""
        count, mark = Counter[int](), Counter[int]()
        for piece, month in _with_months(pieces(), table.split):
            for m in np.unique(month).tolist():
                mine = month == m
                count[m] += int(mine.sum())
                for values in piece.values():
                    mark[m] = zlib.crc32(values[mine].tobytes(), mark[m])
        names = {m: f"{1970 + m // 12}-{m % 12 + 1:02}.parquet" for m in sorted(count)}
        changed = [m for m, name in names.items() if not self._is_there(table, name, count[m], mark[m])]
        columns = ", ".join(f'"{c.name}" {c.type}' for c in table.columns)
        self.db.execute(f"CREATE OR REPLACE TABLE gathered (month SMALLINT, {columns})")
        for piece, month in _with_months(pieces(), table.split) if changed else ():
            mine = np.isin(month, changed)
            self.db.register("given", {"month": month[mine], **{k: v[mine] for k, v in piece.items()}})
            self.db.execute(f"INSERT INTO gathered SELECT month, {_typed(table, empty)} FROM given")
            self.db.unregister("given")
        shown = ", ".join(f'"{c.name}"' for c in table.columns)
        if not names:  # so that there is a table, with its columns
            self._into(table, "empty.parquet", f"SELECT {shown} FROM gathered", 0, 0)
        for m, name in names.items():
            self._into(table, name, f"SELECT {shown} FROM gathered WHERE month = {m}", count[m], mark[m])
        self.db.execute("DROP TABLE gathered")

    def rows(self, table: Table, blocks: Iterator[list[tuple[object, ...]]]) -> None:
        """One file of rows that come some at a time."""
        columns = ", ".join(f'"{c.name}" {c.type}' for c in table.columns)
        self.db.execute(f"CREATE OR REPLACE TABLE gathered ({columns})")
        count = mark = 0
        for block in blocks:
            mark = zlib.crc32(repr(block).encode(), mark)
            given = {c.name: np.array([r[i] for r in block], object) for i, c in enumerate(table.columns)}
            self.db.register("given", {k: np.array(["" if x is None else str(x) for x in v]) for k, v in given.items()})
            missing = {f"{k}?": np.array([x is None for x in v]) for k, v in given.items()}
            self.db.register("missing", missing)
            parts = [f'CASE WHEN NOT m."{c.name}?" THEN CAST(g."{c.name}" AS {c.type}) END' for c in table.columns]
            self.db.execute(f"INSERT INTO gathered SELECT {', '.join(parts)} FROM given g POSITIONAL JOIN missing m")
            self.db.unregister("given")
            self.db.unregister("missing")
            count += len(block)
        self._into(table, f"{table.name}.parquet", "SELECT * FROM gathered", count, mark)
        self.db.execute("DROP TABLE gathered")

    def clear(self) -> None:
        """Files of months and tables that are not there any more."""
        for path in self.folder.rglob("*.parquet"):
            if str(path.relative_to(self.folder)) not in self.files:
                path.unlink()


def views(dialect: str, folder: str = ".") -> str:
    """Statements that make a view of each table, to be run in the folder or with its path."""
    lines = []
    for t in TABLES:
        place = f"{folder}/{t.name}/*.parquet" if t.split else f"{folder}/{t.name}.parquet"
        if dialect == "duckdb":
            lines.append(f"CREATE OR REPLACE VIEW {t.name} AS SELECT * FROM read_parquet('{place}');")
        else:
            lines.append(f"CREATE OR REPLACE TEMPORARY VIEW {t.name} USING parquet OPTIONS (path '{place}');")
    return "\n".join(lines) + "\n"


def rows_of(engine: ModuleType, file: Path) -> Iterator[list[str]]:
    """The head of a Parquet file and its rows as text, empty for nothing. CannotOpen where it is none."""
    with engine.connect() as db:
        try:
            db.execute("SELECT CAST(COLUMNS(*) AS VARCHAR) FROM read_parquet(?)", [str(file)])
        except engine.Error as e:
            raise CannotOpen(f"{file} cannot be read as Parquet: {str(e).splitlines()[0][:200]}") from None
        yield [column[0] for column in db.description]
        while rows := db.fetchmany(BLOCK):
            yield from (["" if c is None else c for c in row] for row in rows)
