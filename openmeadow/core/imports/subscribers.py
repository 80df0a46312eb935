"""The subscribers CSV: which column is what, and a row's record or the reason it cannot be taken."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cached_property
from zoneinfo import ZoneInfo, available_timezones

from openmeadow.core.addresses.syntax import address_key, syntax_problem
from openmeadow.core.consent.eligibility import SUPPRESSION_REASONS
from openmeadow.core.errors import MeadowError
from openmeadow.core.fields import FieldType, kept
from openmeadow.core.imports.dates import moment, moment_as
from openmeadow.core.imports.headings import column_of_addresses, meant
from openmeadow.core.imports.values import consent_state, mapped

KNOWN = (
    "email",
    "name",
    "joined_at",
    "list",
    "labels",
    "time_zone",
    "language",
    "country",
    "suppressed",
    "suppressed_at",
)
CONSENT = ("consent", "consent_at", "consent_source", "consent_wording")
CHANNELS = ("email", "post", "phone")
LONGEST_CELL = 65_536
MOST_COLUMNS = 2_000
_ZONES = available_timezones()


@dataclass(frozen=True)
class ConsentClaim:
    purpose: str
    channel: str
    state: int
    at: int | None
    source: str | None
    wording: str | None


@dataclass(frozen=True)
class Record:
    """One row, read. None means "the file does not say"."""

    email: str
    key: str
    name: str | None
    joined_at: int | None
    lists: tuple[str, ...]
    labels: tuple[str, ...]
    time_zone: str | None
    language: str | None
    country: str | None
    suppressed: int | None
    suppressed_at: int | None
    consents: tuple[ConsentClaim, ...]
    fields: dict[str, str]


def split_channel(target: str) -> tuple[str, str]:
    """``Season news:post`` as purpose and channel; without a channel it is email."""
    purpose, colon, channel = target.rpartition(":")
    if colon and channel.strip().lower() in CHANNELS:
        return purpose.strip(), channel.strip().lower()
    return target.strip(), "email"


class BadCell(MeadowError):
    """A cell that keeps its row out."""

    def __init__(self, column: str, reason: str) -> None:
        super().__init__(reason)
        self.column = column


def is_date(target: str) -> bool:
    """True for the columns that hold a moment."""
    return target in ("joined_at", "suppressed_at") or target.startswith("consent_at:")


def match_columns(
    header: Sequence[str], corrections: dict[str, str], guess: bool = False, rows: Sequence[Sequence[str]] = ()
) -> list[str]:
    """What each column of the file is: a known word, ``consent…:<purpose>``, a field's name, or "" for left out.

    ``corrections`` maps a column's heading to what it is; with ``guess``, headings that mean a known word in other
    words are proposed as that. Where no heading says which column has the addresses, the first ``rows`` do. More than one
    ``email`` is refused; whether there is one is for the caller to look at.
    """
    if len(header) > MOST_COLUMNS:
        raise MeadowError(f"This file has {len(header):,} columns; the limit is {MOST_COLUMNS:,}.")
    out = []
    for heading in header:
        clean = heading.strip()
        low = clean.lower().replace(" ", "_")
        target = corrections.get(clean, corrections.get(heading))
        if target is None:
            prefix, colon, purpose = clean.partition(":")
            if low in KNOWN:
                target = low
            elif colon and prefix.lower().strip() in CONSENT:
                target = f"{prefix.lower().strip()}:{purpose.strip()}"
            else:
                target = clean
        out.append(target)
    free = [i for i, h in enumerate(header) if h.strip() not in corrections and out[i] == h.strip()]
    if "email" not in out:
        full = column_of_addresses(rows, len(header))
        called = [i for i in free if meant(header[i]) == "email"]
        place = full if full in (called or free) else called[0] if called else None
        if place is not None:
            out[place] = "email"
    for i in free if guess else ():
        word = meant(header[i])
        if word and word != "email" and word not in out:
            out[i] = word
    missing = [c for c in corrections if c not in {h.strip() for h in header}]
    if missing:
        raise MeadowError(f"There is no column “{missing[0]}” in this file; it has {', '.join(header[:8])}.")
    if out.count("email") > 1:
        raise MeadowError("Two columns are mapped to email. Choose the one that has the addresses.")
    return out


def suppression(word: str) -> int:
    """The stored code of a suppression reason: 1 + its place; words of others count as ``other``."""
    clean = word.strip().lower().replace("_", " ")
    aliases = {
        "bounce": 0,
        "hard": 0,
        "bounced": 0,
        "complained": 1,
        "spam": 1,
        "unsubscribed": 2,
        "unsubscribe": 2,
        "invalid": 4,
    }
    if clean in SUPPRESSION_REASONS:
        return 1 + SUPPRESSION_REASONS.index(clean)
    return 1 + aliases.get(clean, len(SUPPRESSION_REASONS) - 1)


@dataclass(frozen=True)
class Reading:
    """How a file is read: what each column is, and what holds for all rows."""

    targets: list[str]
    zone: ZoneInfo
    source: str | None = None
    consent: dict[str, str] = field(default_factory=dict)
    list_name: str | None = None
    wording: str | None = None  # of the consents that bring none
    values: dict[str, dict[str, str]] = field(default_factory=dict)  # column -> what a value (in lower case) stands for
    suppressed: str = ""  # a reason for everybody in the file: the previous sender's suppression list
    dates: dict[str, str] = field(default_factory=dict)  # column -> one of moments.STYLES, where not RFC 3339
    types: dict[str, FieldType] = field(default_factory=dict)  # of fields that hold numbers or dates
    unfit: Counter[str] = field(default_factory=Counter)  # values that were none, by field; counted while reading

    @cached_property
    def _asked(self) -> list[tuple[str, str, str, str, str, str, str]]:
        """Every purpose the file or its reader speaks of: target, purpose, channel, and the columns of its consent."""
        spoken = {t.partition(":")[2] for t in self.targets if t.startswith("consent:")} | set(self.consent)
        columns = ((t, *split_channel(t), *(f"{c}:{t}" for c in CONSENT)) for t in sorted(spoken))
        return [(t, p, c, state, at, source, wording) for t, p, c, state, at, source, wording in columns]

    @cached_property
    def _own_fields(self) -> frozenset[str]:
        return frozenset(t for t in self.targets if t and t not in KNOWN and t.partition(":")[0] not in CONSENT)

    def _typed(self, column: str, text: str) -> str:
        """A value as its field keeps it; what is none stays as it is, and is counted."""
        kind = self.types.get(column)
        if kind in (None, FieldType.TEXT):
            return text
        typed = kept(text, kind, self.dates.get(column, ""))
        self.unfit[column] += typed is None
        return text if typed is None else typed

    def _time(self, column: str, text: str) -> int | None:
        if not text:
            return None
        try:
            style = self.dates.get(column)
            return moment_as(text, style, self.zone) if style else moment(text, self.zone)
        except (ValueError, OverflowError):
            raise BadCell(column, f"“{text[:40]}” is not a date; write it like 2026-03-12") from None

    def _consents(self, cells: dict[str, str]) -> tuple[ConsentClaim, ...]:
        claims = []
        for target, purpose, channel, state, at, source, wording in self._asked:
            word = cells.get(state, "").strip() or self.consent.get(target, "")
            if not word:
                continue
            agreed = consent_state(word)
            if agreed is None:
                raise BadCell(state, f"“{word[:40]}” is not a consent state; use given, withdrawn, pending or none")
            claims.append(
                ConsentClaim(
                    purpose,
                    channel,
                    agreed,
                    self._time(at, cells.get(at, "").strip()),
                    cells.get(source, "").strip() or self.source,
                    cells.get(wording, "").strip() or self.wording,
                )
            )
        return tuple(claims)

    def record(self, row: Sequence[str]) -> Record:
        """The row's record, or ``BadCell``."""
        if len(row) > len(self.targets):
            raise BadCell("", f"the row has {len(row)} cells and the header {len(self.targets)}")
        cells: dict[str, str] = {}
        for target, cell in zip(self.targets, row, strict=False):
            if len(cell) > LONGEST_CELL:
                raise BadCell(target, "the cell is over 64 kB")
            if target and cell and target not in cells:
                cells[target] = mapped(cell, self.values.get(target))
        email = cells.get("email", "").strip()
        if not email:
            raise BadCell("email", "there is no address")
        if (problem := syntax_problem(email)) is not None:
            raise BadCell("email", f"“{email[:60]}” is not an address: {problem}")
        zone = cells.get("time_zone", "").strip() or None
        if zone and zone not in _ZONES:
            raise BadCell("time_zone", f"“{zone[:40]}” is not a time zone; use a name such as Europe/Lisbon")
        lists = [x.strip() for x in cells.get("list", "").split(";") if x.strip()]
        if self.list_name and self.list_name not in lists:
            lists.append(self.list_name)
        suppressed = cells.get("suppressed", "").strip() or self.suppressed
        return Record(
            email,
            address_key(email),
            cells.get("name", "").strip() or None,
            self._time("joined_at", cells.get("joined_at", "").strip()),
            tuple(lists),
            tuple(x.strip() for x in cells.get("labels", "").split(";") if x.strip()),
            zone,
            cells.get("language", "").strip() or None,
            cells.get("country", "").strip() or None,
            suppression(suppressed) if suppressed else None,
            self._time("suppressed_at", cells.get("suppressed_at", "").strip()),
            self._consents(cells) if self._asked else (),
            {t: self._typed(t, c) for t, c in cells.items() if t in self._own_fields} if self._own_fields else {},
        )
