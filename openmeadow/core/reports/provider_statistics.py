"""Providers' own figures from a CSV: date, provider, complaint_rate, standing, domain; a row that cannot be read is said."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import date

MOST_ROWS = 100_000


@dataclass(frozen=True)
class Figure:
    """``day`` is ISO; ``complaint_rate`` a share from 0 to 1; one of the two figures is there at least."""

    provider: str
    domain: str
    day: str
    complaint_rate: float | None
    standing: str | None


def _share(text: str) -> float | None:
    """“0.12%” or “0.0012”, as a share; None for nothing. Raises ValueError."""
    clean = text.strip().replace(",", ".")
    if not clean:
        return None
    value = float(clean.removesuffix("%").strip()) / (100 if clean.endswith("%") else 1)
    if not 0 <= value <= 1:
        raise ValueError
    return value


def _each(rows: csv.DictReader[str], refused: list[str]) -> Iterator[dict[str, str]]:
    """Row by row, until one that is no CSV."""
    try:
        yield from rows
    except csv.Error:
        refused.append("Invalid CSV from here on.")


def read(text: str, providers: Sequence[str]) -> tuple[list[Figure], list[str]]:
    """The figures, and a sentence for every row that was refused. ``providers`` are the known names."""
    rows = csv.DictReader(io.StringIO(text.removeprefix("\ufeff")), restval="")
    try:
        head = {(h or "").strip().lower(): h for h in rows.fieldnames or []}
    except csv.Error:
        head = {}
    missing = [h for h in ("date", "provider") if h not in head]
    if missing or not ({"complaint_rate", "standing"} & head.keys()):
        return [], ["The first line must name the columns: date, provider, and complaint_rate or standing or both."]
    known = {p.lower(): p for p in providers}
    out: list[Figure] = []
    refused: list[str] = []
    for line, row in enumerate(_each(rows, refused), 2):
        cell = {name: (row.get(h) or "").strip() for name, h in head.items()}
        provider = known.get(cell["provider"].lower())
        try:
            day = date.fromisoformat(cell["date"]).isoformat()
            spam = _share(cell.get("complaint_rate", ""))
        except ValueError:
            refused.append(f"Line {line}: write dates like 2026-03-01 and rates like 0.12% or 0.0012.")
            continue
        said = cell.get("standing", "")[:40] or None
        if provider is None:
            refused.append(f"Line {line}: unknown provider “{cell['provider'][:40]}”; use one of {', '.join(providers)}.")
        elif spam is None and said is None:
            refused.append(f"Line {line}: it has no value.")
        else:
            out.append(Figure(provider, cell.get("domain", "").lower(), day, spam, said))
        if len(out) >= MOST_ROWS:
            refused.append(f"Stopped after {MOST_ROWS:,} rows.")
            break
    return out, refused
