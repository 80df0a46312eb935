"""What comes back by mail or as files: bounces, complaints, aggregate reports; matched, kept, acted upon once.

Mail that anybody can send acts only by a signature of ours; files that an analyst imports also by bare address."""

from __future__ import annotations

import mailbox
import re
import sqlite3
import tempfile
from collections.abc import Sequence
from dataclasses import asdict, dataclass, replace
from pathlib import Path

from openmeadow.core.addresses.syntax import address_key
from openmeadow.core.authentication import dmarc
from openmeadow.core.errors import CannotOpen, Missing, Refused
from openmeadow.core.events import Kind
from openmeadow.core.ids import DeliveryId, MessageId, SubscriberId
from openmeadow.core.reports import aggregate
from openmeadow.core.reports.incoming import Incoming, parse, reports_in
from openmeadow.core.reports.limits import ARCHIVE_FILES, MESSAGE_BYTES
from openmeadow.core.reports.mail import BOUNCE, COMPLAINT, REPLY, Recipient, Returned, Unreadable
from openmeadow.net.signed_tokens import Tokens
from openmeadow.services.subscribers.import_events import consequences
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings, undo_log
from openmeadow.store.campaigns import deliveries
from openmeadow.store.engagement import events
from openmeadow.store.health import reports
from openmeadow.store.senders import senders
from openmeadow.store.subscribers import subscribers

_XML = re.compile(rb"\A(\xef\xbb\xbf)?\s*<")
KIND_OF = {"failed": Kind.BOUNCED, "delayed": Kind.DEFERRED, "complained": Kind.COMPLAINED}


@dataclass(frozen=True)
class TakenReport:
    """An aggregate report of a file; ``begin`` and ``end`` in UTC seconds, ``messages`` and ``aligned`` counted over its
    rows."""

    org: str
    report_id: str
    domain: str
    begin: int
    end: int
    rows: int
    messages: int
    aligned: int
    repeated: bool


@dataclass(frozen=True)
class TakenMail:
    """What became of one message of a file; None where that does not apply. ``what`` is the kind of one that is no
    report."""

    kind: str
    recipients: list[Recipient]
    file: str = ""
    reports: list[TakenReport] | None = None
    reason: str | None = None
    what: str | None = None
    repeated: bool | None = None
    matched: int | None = None

    def json(self) -> dict[str, object]:
        """As a document of the command line, without what does not apply."""
        found = {
            "file": self.file,
            "kind": self.kind,
            "recipients": [_json(r) for r in self.recipients],
            "reports": None if self.reports is None else [asdict(r) for r in self.reports],
            "reason": self.reason,
            "is": self.what,
            "repeated": self.repeated,
            "matched": self.matched,
        }
        return {k: v for k, v in found.items() if v is not None}


def take_from_file(workspace: Workspace, tokens: Tokens, raw: bytes, *, dry_run: bool = False) -> TakenMail:
    """One message of a file that an analyst imports: matched by signed Message-ID, else by address; kept once with its
    raw text. Attached aggregate reports are taken as such. Raises ``Unreadable``."""
    found = parse(raw)
    if found.reports:
        return TakenMail("aggregate", [], reports=_keep_reports(workspace, found.reports, dry_run))
    returned = found.returned
    out = TakenMail(returned.kind, list(returned.recipients))
    if dry_run or returned.kind not in (BOUNCE, COMPLAINT):
        return out
    db, now = workspace.store.read(), workspace.now()
    if reports.is_stored(db, raw):
        return replace(out, repeated=True)
    matched = 0
    with workspace.store.atomic() as w:
        for r in returned.recipients:
            subscriber, message = _match(workspace, tokens, returned, r)
            matched += _keep(w, raw, now, returned.kind, subscriber, message, r)
    return replace(out, matched=matched)


def take_signed(workspace: Workspace, tokens: Tokens, to: str, raw: bytes, found: Incoming, at: int) -> str:
    """One message of the intake: acts on the one delivery that its return path, or the Message-ID it quotes, was signed
    for, whatever addresses it names. The reason why nothing was done, "" where something was."""
    if found.reports:
        ours = {str(d.name) for d in senders.domains(workspace.store.read(), removed_too=True)}
        ours |= {dmarc.organisational_domain(name) for name in ours}
        own = [r for r in found.reports if r.domain in ours]
        _keep_reports(workspace, own, False)
        return "" if own else "An aggregate report about a domain that is not ours."
    returned = found.returned
    if returned.kind == REPLY:
        return "An automatic reply: neither engagement nor a bounce."
    if returned.kind not in (BOUNCE, COMPLAINT):
        return "Neither a bounce nor a complaint nor a report."
    delivery = tokens.delivery_of(to)
    if delivery is None:
        delivery = tokens.delivery_by_id(returned.original_id)
    d = deliveries.delivery(workspace.store.read(), delivery) if delivery is not None else None
    if d is None:
        return "It carries neither a return path nor a Message-ID that was signed here."
    if not returned.recipients:
        return "It names no recipient for whom anything failed."
    person = subscribers.subscriber(workspace.store.read(), d.subscriber)
    key = person.email_key if person is not None else ""
    report = next((r for r in returned.recipients if address_key(r.address[:320]) == key), returned.recipients[0])
    with workspace.store.atomic() as db:
        _keep(db, raw, at, returned.kind, d.subscriber, d.message, report)
    return ""


def unsubscribe_by_mail(workspace: Workspace, tokens: Tokens, address: str) -> bool:
    """A message to the address that a mail's List-Unsubscribe names: takes effect at once. False where the mail is not
    there any more, or was a test."""
    from openmeadow.services.campaigns import tracking

    delivery = tokens.unsubscribing(address)
    return delivery is not None and tracking.unsubscribed(workspace, DeliveryId(delivery))


def _keep(
    db: sqlite3.Connection,
    raw: bytes,
    at: int,
    kind: str,
    subscriber: SubscriberId | None,
    message: MessageId | None,
    r: Recipient,
) -> int:
    """Keep what a report says of one recipient and what follows from it; 1 where it is about somebody here."""
    kept = reports.save_mail(db, raw, at, kind, subscriber, message, (r.class_, r.code, r.diagnostic))
    if subscriber is None or r.action not in KIND_OF:
        return 0
    event = int(KIND_OF[r.action])
    outside = f"mail {kept} {subscriber}" if kept else None
    code, text = r.code or None, r.diagnostic or None
    if events.add(db, [(at, event, subscriber, message or 0, 0, 0, 0.0, code, text, outside)]):
        consequences(db, [(at, event, subscriber, message or 0, code, text)])
    return 1


def _json(r: Recipient) -> dict[str, str]:
    return {
        "address": r.address,
        "class": r.class_ or "unknown",
        "code": r.code,
        "diagnostic": r.diagnostic,
        "action": r.action,
    }


def _match(
    workspace: Workspace, tokens: Tokens, returned: Returned, r: Recipient
) -> tuple[SubscriberId | None, MessageId | None]:
    """(subscriber, message) that a report in a file is about."""
    db = workspace.store.read()
    delivery = tokens.delivery_by_id(returned.original_id)
    d = deliveries.delivery(db, delivery) if delivery is not None else None
    if d is not None:
        return d.subscriber, d.message
    for address in (r.address, returned.original_to):
        key = address_key(address) if "@" in address else ""
        row_id = subscribers.ids_of(db, [key]).get(key) if key else None
        if row_id is not None:
            return row_id, reports.last_message_of(db, row_id, workspace.now())
    return None, None


def _keep_reports(workspace: Workspace, found: Sequence[aggregate.Report], dry_run: bool) -> list[TakenReport]:
    out = []
    for r in found:
        new = True
        if not dry_run:
            with workspace.store.atomic() as db:
                new = reports.save_report(db, r, workspace.now())
                if new:
                    settings.log(
                        db, workspace.now(), "intake", "took aggregate report", f"{r.org}, {r.domain}", len(r.rows)
                    )
        out.append(
            TakenReport(
                org=r.org,
                report_id=r.id,
                domain=r.domain,
                begin=r.begin,
                end=r.end,
                rows=len(r.rows),
                messages=sum(x.messages for x in r.rows),
                aligned=sum(x.messages for x in r.rows if x.aligned),
                repeated=not new,
            )
        )
    return out


def take_file(workspace: Workspace, path: Path, *, dry_run: bool = False) -> list[TakenMail]:
    """A file of reports: .eml, mbox, aggregate XML, gzip, zip. One entry a message; what cannot be read says why."""
    try:
        size = path.stat().st_size
        data = path.read_bytes() if size <= MESSAGE_BYTES * 20 else b""
    except OSError as e:
        raise CannotOpen(f"The file {path} cannot be opened: {(e.strerror or 'unknown reason').lower()}.") from e
    tokens = Tokens(workspace.folder)

    def one(name: str, raw: bytes) -> TakenMail:
        try:
            if raw[:2] == b"\x1f\x8b" or raw[:2] == b"PK" or _XML.match(raw):
                found = _keep_reports(workspace, reports_in(path.name, raw), dry_run)
                return TakenMail("aggregate", [], name, found)
            taken = take_from_file(workspace, tokens, raw, dry_run=dry_run)
            if taken.kind in (BOUNCE, COMPLAINT, "aggregate"):
                return replace(taken, file=name)
            is_reply = taken.kind == REPLY
            why = "Automatic reply; ignored." if is_reply else "Not recognised as a bounce, complaint or report."
            return TakenMail("unreadable", [], name, reason=why, what=taken.kind)
        except Unreadable as e:
            return TakenMail("unreadable", [], name, reason=str(e))

    if size > MESSAGE_BYTES * 20:
        why = f"The file is larger than {MESSAGE_BYTES * 20 // 1024 // 1024} MB."
        return [TakenMail("unreadable", [], str(path), reason=why)]
    if data.startswith(b"From "):
        messages = _of_mbox(data)
        if len(messages) > ARCHIVE_FILES * 100:
            raise Refused(f"The mbox holds {len(messages):,} messages; the limit is {ARCHIVE_FILES * 100:,}.")
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


def undo_bounces(workspace: Workspace, provider: int, since: int, until: int, why: str, who: str) -> tuple[int, int]:
    """A provider bounced wrongly: everybody suppressed for a hard bounce there between two moments is taken off the
    list, in one act that can be undone. (action, how many)."""
    if not why.strip():
        raise Refused("Enter a reason, for example: the provider confirmed its mistake.")
    if until <= since:
        raise Refused("The end must be after the start.")
    from openmeadow.store.health.providers import names
    from openmeadow.store.subscribers import consent

    name = names(workspace.store.read())[provider]

    rows = reports.bounced_between(workspace.store.read(), provider, since, until)
    if not rows:
        raise Missing(f"No one at {name} was suppressed for a bounce in this period.")
    with workspace.store.atomic() as db:
        words = f"{name}: {why.strip()}"
        action = undo_log.begin(db, workspace.now(), who, "reversed bounces", words, len(rows), "lifted")
        for r in rows:
            taken = consent.lift(db, r.subscriber, [1])
            undo_log.put_away(db, action, "suppression", [(r.subscriber, list(t)) for t in taken])
    return action, len(rows)
