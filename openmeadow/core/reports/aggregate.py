"""Aggregate reports (RFC 7489 appendix C), parsed safely: no entities, limits on everything, each refusal a sentence."""

from __future__ import annotations

import gzip
import io
import ipaddress
import zipfile
import zlib
from collections.abc import Iterator
from dataclasses import dataclass
from typing import IO
from xml.etree.ElementTree import Element, ParseError

import defusedxml.ElementTree as safe
from defusedxml.common import DefusedXmlException

from openmeadow.core.reports.limits import ARCHIVE_BYTES, ARCHIVE_FILES, XML_RECORDS
from openmeadow.core.reports.mail import Unreadable

_CHUNK = 1 << 20


@dataclass(frozen=True)
class Row:
    """``dkim`` and ``spf`` are the aligned results under policy_evaluated: pass or fail; the two domains are those whose
    own result is pass, and ``override`` why the receiver did not follow the policy."""

    ip: str
    messages: int
    disposition: str
    dkim: str
    spf: str
    header_from: str
    dkim_domain: str = ""
    spf_domain: str = ""
    override: str = ""

    @property
    def aligned(self) -> bool:
        """Whether DKIM or SPF passed for the domain of the From."""
        return "pass" in (self.dkim, self.spf)


@dataclass(frozen=True)
class Report:
    """One receiver's report about one domain. Moments in UTC seconds."""

    org: str
    id: str
    domain: str
    begin: int
    end: int
    policy: str
    rows: tuple[Row, ...]


def _bare(element: Element) -> str:
    return element.tag.rpartition("}")[2]


def _child(element: Element | None, *path: str) -> Element | None:
    for name in path:
        element = next((c for c in element if _bare(c) == name), None) if element is not None else None
    return element


def _text(element: Element | None, *path: str) -> str:
    found = _child(element, *path)
    return " ".join((found.text or "").split())[:500] if found is not None else ""


def _number(text: str, what: str) -> int:
    try:
        value = int(text)
    except ValueError:
        raise Unreadable(f"The report's {what}, “{text[:40]}”, is not a number.") from None
    if not 0 <= value < 1 << 53:
        raise Unreadable(f"The report's {what}, {text[:40]}, is impossible.")
    return value


def read(xml: bytes) -> Report:
    """One report's XML."""
    try:
        root = safe.fromstring(xml, forbid_dtd=False, forbid_entities=True, forbid_external=True)
    except DefusedXmlException:
        raise Unreadable("Rejected: the report defines XML entities.") from None
    except (ParseError, ValueError, LookupError):
        raise Unreadable("Invalid XML.") from None
    except RecursionError:
        raise Unreadable("The report's XML is nested too deep.") from None
    if _bare(root) != "feedback":
        raise Unreadable("The XML is not an aggregate report; its outermost element is not “feedback”.")
    meta, policy = _child(root, "report_metadata"), _child(root, "policy_published")
    domain = _text(policy, "domain").lower().rstrip(".")
    if meta is None or not domain:
        raise Unreadable("The report does not name its sender or domain.")
    rows = []
    for record in root:
        if _bare(record) == "record":
            rows.append(_row(record))
            if len(rows) > XML_RECORDS:
                raise Unreadable(f"The report has more than {XML_RECORDS:,} records.")
    return Report(
        _text(meta, "org_name") or "unnamed",
        _text(meta, "report_id") or "unnamed",
        domain,
        _number(_text(meta, "date_range", "begin"), "beginning"),
        _number(_text(meta, "date_range", "end"), "end"),
        _text(policy, "p") or "none",
        tuple(rows),
    )


def _row(record: Element) -> Row:
    row = _child(record, "row")
    ip = _text(row, "source_ip")
    try:
        ipaddress.ip_address(ip)
    except ValueError:
        raise Unreadable(f"The report has an invalid source address “{ip[:60]}”.") from None
    return Row(
        ip,
        _number(_text(row, "count") or "0", "count"),
        _text(row, "policy_evaluated", "disposition").lower() or "none",
        _text(row, "policy_evaluated", "dkim").lower() or "fail",
        _text(row, "policy_evaluated", "spf").lower() or "fail",
        _text(record, "identifiers", "header_from").lower(),
        _that_passed(record, "dkim"),
        _that_passed(record, "spf"),
        _text(row, "policy_evaluated", "reason", "type").lower().replace("_", " "),
    )


def _that_passed(record: Element, kind: str) -> str:
    """The domain of the first DKIM or SPF result that is pass; "" for none: a failed one proves nothing."""
    for result in _child(record, "auth_results") or ():
        if _bare(result) == kind and _text(result, "result").lower() == "pass":
            return _text(result, "domain").lower()
    return ""


_BOMB = f"It unpacks to more than {ARCHIVE_BYTES // 1024 // 1024} MB"


def _limited(stream: IO[bytes] | gzip.GzipFile, left: int) -> bytes:
    out = bytearray()
    while chunk := stream.read(_CHUNK):
        out += chunk
        if len(out) > left:
            raise Unreadable(f"{_BOMB}, so it was rejected.")
    return bytes(out)


def unpacked(data: bytes, name: str = "") -> Iterator[tuple[str, bytes]]:
    """The XML files within: the file itself, or what a gzip or zip file holds."""
    try:
        if data[:2] == b"\x1f\x8b":
            yield name.removesuffix(".gz"), _limited(gzip.GzipFile(fileobj=io.BytesIO(data)), ARCHIVE_BYTES)
        elif data[:4] == b"PK\x03\x04" or data[:4] == b"PK\x05\x06":
            yield from _zipped(data)
        else:
            yield name, data
    except (OSError, EOFError, zlib.error, zipfile.BadZipFile, NotImplementedError, RuntimeError, ValueError):
        raise Unreadable("The archive is damaged or of an unsupported type.") from None


def _zipped(data: bytes) -> Iterator[tuple[str, bytes]]:
    with zipfile.ZipFile(io.BytesIO(data)) as archive:
        files = [i for i in archive.infolist() if not i.is_dir()]
        if len(files) > ARCHIVE_FILES:
            raise Unreadable(f"The archive has {len(files):,} files; the limit is {ARCHIVE_FILES:,}.")
        if sum(i.file_size for i in files) > ARCHIVE_BYTES:
            raise Unreadable(f"{_BOMB}, so it was rejected.")
        if not files:
            raise Unreadable("The archive is empty.")
        left = ARCHIVE_BYTES
        for info in files:
            with archive.open(info) as stream:
                text = _limited(stream, left)
            left -= len(text)
            yield info.filename, text
