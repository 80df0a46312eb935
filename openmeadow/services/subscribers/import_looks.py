"""What a file of subscribers seems to be, before anything of it is imported."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from zoneinfo import ZoneInfo

from openmeadow.core.consent.eligibility import CONSENT_STATES
from openmeadow.core.fields import FieldType
from openmeadow.core.imports.dates import styles_of
from openmeadow.core.imports.subscribers import is_date, match_columns
from openmeadow.core.imports.values import consent_state, different
from openmeadow.services.subscribers import file_reader
from openmeadow.store import settings
from openmeadow.store.connection import Store
from openmeadow.store.subscribers import fields
from openmeadow.store.subscribers import subscribers as table

SAMPLE = 8
LOOKED_AT = 2_000  # rows whose cells are tried


@dataclass(frozen=True)
class Looked:
    """What a file seems to be: the meaning of each column, its first rows, its encoding and how its dates are written.

    ``dates`` maps a heading to the writings that fit the most of the dates looked at, the likeliest first; ``values`` maps
    the heading of a consent to its values, each with how often it is there and the state it is taken for ("" for none).
    """

    header: list[str]
    targets: list[str]
    sample: list[list[str]]
    encoding: str
    separator: str
    dates: dict[str, list[str]]
    values: dict[str, list[tuple[str, int, str]]]
    remembered: bool


def signature(header: list[str]) -> str:
    """What headings are remembered by."""
    return "\x1f".join(h.strip().lower() for h in header)


def look(store: Store, path: Path, encoding: str = "", corrections: dict[str, str] | None = None) -> Looked:
    """A file from its looks, with the matches that were chosen the last time for the same headings."""
    zone = ZoneInfo(str(settings.setting(store.read(), "time_zone")))
    encoding = encoding or file_reader.encoding_of(path)
    header = file_reader.header(path, encoding)
    found = table.column_mappings(store.read(), signature(header))
    rows = first_rows(path, encoding)
    if corrections:
        targets = match_columns(header, corrections)
    elif found is not None and found.count("email") == 1 and corrections is None:
        targets = found
    else:
        targets = match_columns(header, {}, guess=True, rows=rows)

    def cells(i: int) -> list[str]:
        return [c for row in rows if (c := "".join(row[i : i + 1]).strip())]

    dates, values, types = {}, {}, fields.types(store.read())
    for i, target in enumerate(targets):
        if is_date(target) or types.get(target) == FieldType.DATE:
            dates[header[i]] = styles_of(cells(i), zone)
        if target.startswith("consent:"):
            values[header[i]] = [(word, n, _state(word)) for word, n in different(cells(i))]
    separator = file_reader.separator_of(path, encoding)
    return Looked(header, targets, rows[:SAMPLE], encoding, separator, dates, values, found is not None)


def _state(word: str) -> str:
    state = consent_state(word)
    return "" if state is None else CONSENT_STATES[state]


def first_rows(path: Path, encoding: str) -> list[list[str]]:
    """The cells of the first rows."""
    rows, _, _ = next(file_reader.csv_chunks(path, encoding), ([], [], 0))
    return [cells for _, cells in rows[:LOOKED_AT]]
