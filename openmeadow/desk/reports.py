"""What comes back by mail or as files: bounces, complaints, aggregate reports; matched, kept, acted upon once."""

from __future__ import annotations

import mailbox
import re
import tempfile
from pathlib import Path
from typing import Any

from openmeadow.core.addresses.syntax import address_key
from openmeadow.core.columns import Kind
from openmeadow.core.errors import Missing, Refused
from openmeadow.core.reports import aggregate
from openmeadow.core.reports.limits import ARCHIVE_FILES, MESSAGE_BYTES
from openmeadow.core.reports.mail import BOUNCE, COMPLAINT, Recipient, Returned, Unreadable, parsed, read
from openmeadow.desk.bring_in.events import consequences
from openmeadow.desk.desk import Desk
from openmeadow.store import deeds, events, ledger, reports, subscribers, workspace
from openmeadow.wire.tokens import Tokens

_OURS = re.compile(r"<d(\d+)\.c\d+@")
_VERP = re.compile(r"b\d+-[0-9a-f]{12}@", re.I)
_XML = re.compile(rb"\A(\xef\xbb\xbf)?\s*<")
KIND_OF = {"failed": Kind.BOUNCED, "delayed": Kind.DEFERRED, "complained": Kind.COMPLAINED}


def take_mail(desk: Desk, tokens: Tokens, to: str, raw: bytes, *, dry_run: bool = False) -> dict[str, Any]:
    """One message that came back, at the return path ``to`` ("" where it came as a file). Matched by VERP, then by
    Message-ID, then by address; kept once with its raw text. Attached aggregate reports are taken as such."""
    inner = _attached_reports(raw)
    if inner:
        found = [_take_aggregate(desk, name, data, dry_run) for name, data in inner]
        return {"kind": "aggregate", "recipients": [], "reports": found}
    returned = read(raw)
    out: dict[str, Any] = {"kind": returned.kind, "recipients": [_json(r) for r in returned.recipients]}
    if dry_run or returned.kind not in (BOUNCE, COMPLAINT):
        return out
    db, now = desk.store.read(), desk.now()
    if reports.was_kept(db, raw):
        return out | {"repeated": True}
    matched = 0
    with desk.store.atomic() as w:
        for r in returned.recipients:
            subscriber, message = _match(desk, tokens, to, returned, r)
            found_words = (r.class_, r.code, r.diagnostic)
            kept = reports.keep_mail(w, raw, now, returned.kind, subscriber, message, found_words)
            if subscriber is None or r.action not in KIND_OF:
                continue
            matched += 1
            kind = KIND_OF[r.action]
            outside = f"mail {kept} {subscriber}" if kept else None
            new = events.add(
                w, [(now, int(kind), subscriber, message or 0, 0, 0, 0.0, r.code or None, r.diagnostic or None, outside)]
            )
            if new:
                consequences(w, [(now, int(kind), subscriber, message or 0, r.code or None, r.diagnostic or None)])
    return out | {"matched": matched}


def _json(r: Recipient) -> dict[str, str]:
    return {
        "address": r.address,
        "class": r.class_ or "unknown",
        "code": r.code,
        "diagnostic": r.diagnostic,
        "action": r.action,
    }


def _match(desk: Desk, tokens: Tokens, to: str, returned: Returned, r: Recipient) -> tuple[int | None, int | None]:
    """(subscriber, message) a report is about. A return path that looks like ours and is not signed by us marks
    nobody."""
    if _VERP.match(to) and tokens.delivery_of(to) is None:
        return None, None
    db = desk.store.read()
    ours = _OURS.match(returned.original_id)
    for delivery in (tokens.delivery_of(to) if to else None, int(ours.group(1)) if ours else None):
        d = ledger.delivery(db, delivery) if delivery is not None else None
        if d is not None:
            return int(d["subscriber"]), int(d["message"])
    for address in (r.address, returned.original_to):
        key = address_key(address) if "@" in address else ""
        id = subscribers.ids_of(db, [key]).get(key) if key else None
        if id is not None:
            return id, reports.last_message_of(db, id, desk.now())
    return None, None


def _attached_reports(raw: bytes) -> list[tuple[str, bytes]]:
    """Aggregate reports mailed as attachments."""
    out = []
    for part in parsed(raw).walk():
        kind = part.get_content_type()
        name = part.get_filename() or ""
        if kind in ("application/gzip", "application/x-gzip", "application/zip", "application/x-zip-compressed") or (
            kind in ("text/xml", "application/xml", "application/octet-stream")
            and name.lower().endswith((".xml", ".gz", ".zip"))
        ):
            data = part.get_payload(decode=True)
            if isinstance(data, bytes) and data:
                out.append((name, data))
    return out


def _take_aggregate(desk: Desk, name: str, data: bytes, dry_run: bool) -> list[dict[str, Any]]:
    out = []
    for _, xml in aggregate.unpacked(data, name):
        r = aggregate.read(xml)
        new = True
        if not dry_run:
            with desk.store.atomic() as db:
                new = reports.keep_report(db, r, desk.now())
                if new:
                    workspace.log(db, desk.now(), "intake", "took aggregate report", f"{r.org}, {r.domain}", len(r.rows))
        out.append(
            {
                "org": r.org,
                "report_id": r.id,
                "domain": r.domain,
                "begin": r.begin,
                "end": r.end,
                "rows": len(r.rows),
                "messages": sum(x.messages for x in r.rows),
                "aligned": sum(x.messages for x in r.rows if x.aligned),
                "repeated": not new,
            }
        )
    return out


def take_file(desk: Desk, path: Path, *, dry_run: bool = False) -> list[dict[str, Any]]:
    """A file of reports: .eml, mbox, aggregate XML, gzip, zip. One entry a message; what cannot be read says why."""
    try:
        size = path.stat().st_size
        data = path.read_bytes() if size <= MESSAGE_BYTES * 20 else b""
    except OSError as e:
        raise Missing(f"The file {path} cannot be opened: {(e.strerror or 'unknown reason').lower()}.") from e
    tokens = Tokens(desk.folder)

    def one(name: str, raw: bytes) -> dict[str, Any]:
        try:
            if raw[:2] == b"\x1f\x8b" or raw[:2] == b"PK" or _XML.match(raw):
                found = _take_aggregate(desk, path.name, raw, dry_run)
                return {"file": name, "kind": "aggregate", "recipients": [], "reports": found}
            taken = take_mail(desk, tokens, "", raw, dry_run=dry_run)
            kind = taken.pop("kind")
            if kind in (BOUNCE, COMPLAINT, "aggregate"):
                return {"file": name, "kind": kind, **taken}
            why = {"automatic reply": "An automatic reply: neither an answer nor a bounce."}.get(
                kind, "Neither a bounce nor a complaint nor a report that is known."
            )
            return {"file": name, "kind": "unreadable", "recipients": [], "reason": why, "is": kind}
        except Unreadable as e:
            return {"file": name, "kind": "unreadable", "recipients": [], "reason": str(e)}

    if size > MESSAGE_BYTES * 20:
        why = f"The file is larger than {MESSAGE_BYTES * 20 // 1024 // 1024} MB."
        return [{"file": str(path), "kind": "unreadable", "recipients": [], "reason": why}]
    if data.startswith(b"From "):
        messages = _of_mbox(data)
        if len(messages) > ARCHIVE_FILES * 100:
            raise Refused(f"The mbox holds {len(messages):,} messages; {ARCHIVE_FILES * 100:,} are taken at most.")
        return [one(f"{path}#{n}", raw) for n, raw in enumerate(messages, start=1)]
    return [one(str(path), data)]


def _of_mbox(data: bytes) -> list[bytes]:
    with tempfile.NamedTemporaryFile(suffix=".mbox") as file:
        file.write(data)
        file.flush()
        box = mailbox.mbox(file.name, create=False)
        try:
            return [bytes(box.get_bytes(key)) for key in box.iterkeys()]
        finally:
            box.close()


def undo_bounces(desk: Desk, provider: int, since: int, until: int, why: str, who: str) -> tuple[int, int]:
    """A provider bounced wrongly: everybody suppressed for a hard bounce there between two moments is taken off the
    list, in one act that can be taken back. (deed, how many)."""
    if not why.strip():
        raise Refused("Say why, for the record: for example, the provider told us of its mistake.")
    if until <= since:
        raise Refused("The second moment must come after the first.")
    from openmeadow.core.addresses.providers import provider_names
    from openmeadow.store import consent

    rows = reports.bounced_between(desk.store.read(), provider, since, until)
    if not rows:
        raise Missing(f"Nobody at {provider_names()[provider]} was suppressed for a bounce between these moments.")
    with desk.store.atomic() as db:
        words = f"{provider_names()[provider]}: {why.strip()}"
        deed = deeds.begin(db, desk.now(), who, "undid bounces", words, len(rows), "lifted")
        for r in rows:
            taken = consent.lift(db, r["subscriber"], [1])
            deeds.put_away(db, deed, "suppression", [(r["subscriber"], list(t)) for t in taken])
    return deed, len(rows)
