"""One message that came back, read whole: a bounce, a complaint, or the aggregate reports it carries."""

from __future__ import annotations

from dataclasses import dataclass

from openmeadow.core.reports import aggregate
from openmeadow.core.reports.limits import ARCHIVE_BYTES
from openmeadow.core.reports.mail import Returned, Unreadable, parsed, read

_ARCHIVES = {"application/gzip", "application/x-gzip", "application/zip", "application/x-zip-compressed"}
_PERHAPS = {"text/xml", "application/xml", "application/octet-stream"}
MALFORMED = "The message is malformed: {} cannot be read."


@dataclass(frozen=True)
class Incoming:
    """``kind`` as in ``mail``, or ``aggregate`` with its ``reports``."""

    kind: str
    returned: Returned
    reports: tuple[aggregate.Report, ...] = ()


def parse(raw: bytes, unpacked: int = ARCHIVE_BYTES) -> Incoming:
    """What a message says. Raises ``Unreadable`` with a sentence for all that cannot be read, whatever is wrong with it;
    ``unpacked`` is how many octets its archives may hold."""
    try:
        attached = _attached(raw)
    except Unreadable:
        raise
    except Exception as e:  # the library trips over parameters that are broken
        raise Unreadable(MALFORMED.format("one of its headers")) from e
    if attached:
        found = tuple(r for name, data in attached for r in reports_in(name, data, unpacked))
        return Incoming("aggregate", Returned("aggregate", ()), found)
    try:
        returned = read(raw)
    except Unreadable:
        raise
    except Exception as e:
        raise Unreadable(MALFORMED.format("one of its parts")) from e
    return Incoming(returned.kind, returned)


def reports_in(name: str, data: bytes, unpacked: int = ARCHIVE_BYTES) -> list[aggregate.Report]:
    """The aggregate reports in a file: XML, gzip or zip."""
    out, size = [], 0
    for _, xml in aggregate.unpacked(data, name):
        size += len(xml)
        if size > unpacked:
            raise Unreadable(f"The report unpacks to more than {unpacked // 1024 // 1024} MB.")
        out.append(aggregate.read(xml))
    return out


def _attached(raw: bytes) -> list[tuple[str, bytes]]:
    """Aggregate reports mailed as attachments."""
    out = []
    for part in parsed(raw).walk():
        kind, name = part.get_content_type(), part.get_filename() or ""
        if kind in _ARCHIVES or (kind in _PERHAPS and name.lower().endswith((".xml", ".gz", ".zip"))):
            data = part.get_payload(decode=True)
            if isinstance(data, bytes) and data:
                out.append((name, data))
    return out
