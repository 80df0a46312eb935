"""What a look at a record found, and how records are written in a zone (RFC 1035 master format)."""

from __future__ import annotations

import ipaddress
from dataclasses import dataclass

PASS, WARNING, FAIL, UNKNOWN = "pass", "warning", "fail", "unknown"
TTL = 3600
UNFOUND = "DNS timeout; the result is unknown. Try again later."


@dataclass(frozen=True)
class RecordFinding:
    """``publish`` is the exact line for the zone, "" where there is nothing to publish."""

    record: str
    state: str
    expected: str
    found: str
    meaning: str
    publish: str = ""


def txt_line(name: str, value: str) -> str:
    """A TXT line; strings of at most 255 octets."""
    pieces = " ".join(
        '"' + value[i : i + 255].replace("\\", "\\\\").replace('"', '\\"') + '"' for i in range(0, len(value), 255)
    )
    return f"{name}. {TTL} IN TXT {pieces}"


def line(name: str, kind: str, value: str) -> str:
    """A line of any other kind."""
    return f"{name}. {TTL} IN {kind} {value}"


def reverse_name(ip: str) -> str:
    """The name an address has in the reverse tree."""
    return ipaddress.ip_address(ip).reverse_pointer


def overall(findings: list[RecordFinding]) -> str:
    """The worst of the records' states; unknown before warning, since it is no proof."""
    states = {f.state for f in findings}
    return next((s for s in (FAIL, UNKNOWN, WARNING) if s in states), PASS)
