"""Fields of a workspace's own: what they may be called, what kind of values they hold, and how those are kept."""

from __future__ import annotations

import re
from datetime import date
from enum import StrEnum

from openmeadow.core.errors import Refused
from openmeadow.core.imports.dates import moment_as, rfc3339

LONGEST_NAME = 80


class FieldType(StrEnum):
    """``NUMBER`` is kept with a point, ``DATE`` as YYYY-MM-DD: as rules compare them."""

    TEXT = "text"
    NUMBER = "number"
    DATE = "date"


_PLAIN_NUMBER = re.compile(r"[+-]?[0-9]{1,30}(?:\.[0-9]{1,30})?")
_COMMA = re.compile(r"[+-]?[0-9]{1,30},[0-9]{1,30}")
_GROUPED = (  # by what sets thousands apart, and the sign before the decimals
    ("", re.compile(r"[+-]?[0-9]{1,3}(?:[ '’][0-9]{3}){1,9}(?:[.,][0-9]{1,30})?")),
    (",", re.compile(r"[+-]?[0-9]{1,3}(?:,[0-9]{3}){1,9}\.[0-9]{1,30}")),
    (".", re.compile(r"[+-]?[0-9]{1,3}(?:\.[0-9]{3}){1,9},[0-9]{1,30}")),
    (",", re.compile(r"[+-]?[0-9]{1,3}(?:,[0-9]{3}){2,9}")),
    (".", re.compile(r"[+-]?[0-9]{1,3}(?:\.[0-9]{3}){2,9}")),
)
_DAY_FIRST_10 = re.compile(r"[0-9]{4}-[0-9]{2}-[0-9]{2}(?:[T ].{0,40})?")


def kept(value: str, kind: FieldType, style: str = "") -> str | None:
    """A value as a field of this type keeps it; None where it is none. ``style`` is the writing of dates that are not
    year first (one of ``STYLES``). 1,234 may be a thousand or a little more than one: it is no number here."""
    clean = value.strip()
    if kind == FieldType.TEXT:
        return clean
    return _number(clean) if kind == FieldType.NUMBER else _day(clean, style)


def _number(text: str) -> str | None:
    text = text.replace("\u00a0", " ").replace("\u202f", " ")
    if _PLAIN_NUMBER.fullmatch(text):
        return text
    if _COMMA.fullmatch(text) and (len(text.partition(",")[2]) != 3 or text.lstrip("+-").startswith("0,")):
        return text.replace(",", ".")
    for apart, form in _GROUPED:
        if form.fullmatch(text):
            return re.sub("[ '’]", "", text).replace(apart, "").replace(",", ".")
    return None


def _day(text: str, style: str) -> str | None:
    try:
        if _DAY_FIRST_10.fullmatch(text):
            date.fromisoformat(text[:10])
            return text
        return rfc3339(moment_as(text, style or "year first"))[:10]
    except (ValueError, OverflowError):
        return None


def checked_name(name: str, taken: frozenset[str] | set[str]) -> str:
    """A name for a field, without spaces around it. Refused where an import could not tell it from a column of its own."""
    clean = " ".join(name.split())
    if not clean:
        raise Refused("A field needs a name.")
    if len(clean) > LONGEST_NAME:
        raise Refused(f"A field's name has at most {LONGEST_NAME} characters.")
    if ":" in clean or '"' in clean:
        raise Refused("A field's name cannot contain a colon or quotation marks.")
    if clean.lower().replace(" ", "_") in taken:
        raise Refused(f"“{clean}” is the name of a column that every import knows; choose another.")
    return clean
