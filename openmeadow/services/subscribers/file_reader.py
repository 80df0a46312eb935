"""Reading files in chunks: CSV (comma, semicolon or tab), NDJSON and Parquet, never the whole file at once."""

from __future__ import annotations

import csv
import gc
import json
from collections.abc import Iterator
from contextlib import contextmanager
from itertools import islice
from pathlib import Path
from typing import IO

from openmeadow.core.errors import CannotOpen, MeadowError, NoSpace, Passing
from openmeadow.core.imports.report import Refusal, Report
from openmeadow.services.warehouse.engine import needed
from openmeadow.store import parquet

CHUNK = 10_000
Chunks = Iterator[tuple[list[tuple[int, list[str]]], list[Refusal], int]]
LONGEST_FIELD = 1 << 20
csv.field_size_limit(LONGEST_FIELD)


@contextmanager
def said_how_far(report: Report) -> Iterator[None]:
    """A file is taken in by chunks: one that the disk or the database ends says how much of it is in."""
    try:
        yield
    except Passing as e:
        if not report.taken:
            raise
        why = "The disk is full" if isinstance(e, NoSpace) else "The database was busy for too long"
        raise type(e)(
            f"{why}. {report.taken:,} of the file's rows were imported. Import the same file again for the rest; "
            "nothing is imported twice."
        ) from e


@contextmanager
def no_cycles() -> Iterator[None]:
    """Rows hold no cycles, so looking for them among millions of rows only costs time."""
    was = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was:
            gc.enable()


ENCODINGS = {"utf-8": "utf-8-sig", "utf-16": "utf-16", "windows-1252": "cp1252"}  # our word: Python's


def encoding_of(path: Path) -> str:
    """UTF-8 or UTF-16 by their marks; Windows-1252 when the beginning is no UTF-8 but would be that."""
    try:
        with path.open("rb") as f:
            begin = f.read(1 << 20)
    except OSError as e:
        raise CannotOpen(f"The file {path} cannot be opened: {(e.strerror or 'unknown reason').lower()}.") from e
    if begin.startswith((b"\xff\xfe", b"\xfe\xff")):
        return "utf-16"
    try:
        begin.decode("utf-8")
    except UnicodeDecodeError as e:
        return "utf-8" if e.start > len(begin) - 4 or b"\0" in begin else "windows-1252"
    return "utf-8"


def _open(path: Path, encoding: str = "utf-8") -> IO[str]:
    if encoding not in ENCODINGS:
        raise MeadowError(f"“{encoding}” is not a supported encoding; use one of {', '.join(ENCODINGS)}.")
    try:
        # undecodable bytes survive as surrogates, so that one bad cell costs one row
        errors = "surrogateescape" if encoding == "utf-8" else "replace"
        return path.open(encoding=ENCODINGS[encoding], errors=errors, newline="")
    except OSError as e:
        raise CannotOpen(f"The file {path} cannot be opened: {(e.strerror or 'unknown reason').lower()}.") from e


def _delimiter(first: str) -> str:
    return max(",;\t", key=first.count)


def is_ndjson(path: Path) -> bool:
    """Whether a file is read as one JSON object a line."""
    with _open(path) as f:
        return f.read(4096).lstrip().startswith("{")


def separator_of(path: Path, encoding: str = "utf-8") -> str:
    """Comma, semicolon or tab, whichever the heading holds most of."""
    with _open(path, encoding) as f:
        return {",": "comma", ";": "semicolon", "\t": "tab"}[_delimiter(f.readline(1 << 20))]


def header(path: Path, encoding: str = "utf-8") -> list[str]:
    """The heading row, or a sentence when the file is not a table."""
    with _open(path, encoding) as f:
        first = f.readline(1 << 20)
        if "\0" in first:
            raise MeadowError(f"{path.name} is not a text file. A CSV in UTF-8 is needed.")
        if not first.strip():
            raise MeadowError(f"{path.name} is empty; its first line must name the columns.")
        f.seek(0)
        try:
            cells = next(csv.reader(f, delimiter=_delimiter(first)))
            return [c.encode("utf-8", "replace").decode() for c in cells]  # letters that cannot be read show as such
        except csv.Error as e:
            raise MeadowError(f"The heading of {path.name} cannot be read: {e}.") from e


def csv_chunks(path: Path, encoding: str = "utf-8") -> Chunks:
    """Chunks of (line, cells), with the rows the reader itself could not take and the bytes read so far."""
    with _open(path, encoding) as f:
        first = f.readline()
        f.seek(0)
        reader = csv.reader(f, delimiter=_delimiter(first))
        next(reader)
        rows: list[tuple[int, list[str]]] = []
        bad: list[Refusal] = []
        begin = reader.line_num + 1
        while True:
            try:
                for cells in reader:
                    if cells:
                        rows.append((begin, cells))
                    begin = reader.line_num + 1
                    if len(rows) >= CHUNK:
                        break
                else:
                    yield rows, bad, f.buffer.tell()  # type: ignore[attr-defined]
                    return
            except csv.Error as e:
                bad.append(
                    Refusal(begin, "", "a cell is over 64 kB" if "limit" in str(e) else f"the row cannot be read: {e}")
                )
                begin = reader.line_num + 1
                continue
            yield rows, bad, f.buffer.tell()  # type: ignore[attr-defined]
            rows, bad = [], []


def ndjson_chunks(path: Path, names: tuple[str, ...]) -> Chunks:
    """The same for NDJSON objects: cells in the order of ``names``; numbers are taken as text."""
    with _open(path) as f:
        numbered = enumerate(f, start=1)
        while part := list(islice(numbered, CHUNK)):
            rows, bad = [], []
            for line, text in part:
                if not text.strip():
                    continue
                try:
                    thing = json.loads(text)
                    if not isinstance(thing, dict):
                        raise ValueError
                except (ValueError, RecursionError):
                    bad.append(Refusal(line, "", "the line is not a JSON object"))
                    continue
                rows.append(
                    (line, ["" if (v := thing.get(n)) is None else v if isinstance(v, str) else str(v) for n in names])
                )
            yield rows, bad, f.buffer.tell()  # type: ignore[attr-defined]


def parquet_chunks(path: Path) -> tuple[list[str], Chunks]:
    """The same for Parquet, with its heading: every cell as text, a row's number for its line."""
    _open(path).close()  # one that is not there is said as for any other file
    rows = parquet.rows_of(needed("duckdb"), path)
    head = next(rows)
    numbered = enumerate(rows, start=1)
    whole = path.stat().st_size

    def chunks() -> Chunks:
        while part := list(islice(numbered, CHUNK)):
            yield part, [], 0
        yield [], [], whole

    return head, chunks()


class RefusedFile:
    """The refused rows as a CSV of their own: the cells as they were, the line and the reason."""

    def __init__(self, path: Path, head: list[str]) -> None:
        path.parent.mkdir(parents=True, exist_ok=True)
        self._file = path.open("w", encoding="utf-8", errors="surrogateescape", newline="")
        self._csv = csv.writer(self._file)
        self._csv.writerow([*head, "refused_line", "refused_reason"])
        self._width = len(head)

    def write(self, r: Refusal) -> None:
        """Add a refused row with its reason."""
        cells = (r.cells + [""] * self._width)[: self._width]
        self._csv.writerow([*cells, r.line, f"{r.column}: {r.reason}" if r.column else r.reason])

    def close(self) -> None:
        """Close the file, where one was begun."""
        self._file.close()
