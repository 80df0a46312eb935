"""A campaign's batches as files, for sending external: CSV a batch, and the plan as iCalendar."""

from __future__ import annotations

import csv
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from icalendar import Calendar, Event

from openmeadow.core.errors import CannotOpen, Missing, Refused
from openmeadow.core.imports.dates import rfc3339
from openmeadow.core.states import DeliveryState, SendKind
from openmeadow.services.campaigns import recipients
from openmeadow.services.campaigns.schedule import draw_schedule
from openmeadow.services.subscribers.export import safe
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.campaigns import batches as batch_table
from openmeadow.store.campaigns import campaigns, deliveries
from openmeadow.store.campaigns.records import Campaign
from openmeadow.store.subscribers import subscribers

FILES = {"first": "batch", "resend": "resend", "second resend": "second-resend"}
COLUMNS = ("email", "name", "batch", "due_at", "send")
LEFT_OUT = "excluded.csv"
Refusals = dict[int, str]  # by delivery: why it is not to be mailed now


def named(workspace: Workspace, name: str) -> Campaign:
    """The campaign of a name, with all its columns."""
    db = workspace.store.read()
    found = campaigns.named(db, name)
    row = campaigns.one(db, found.id) if found else None
    if row is None:
        raise Missing(f"There is no campaign “{name}”.")
    return row


@dataclass(frozen=True)
class ExportedBatch:
    """A batch with its people: (subscriber, state), and apart from them who is left out: (subscriber, reason)."""

    kind: SendKind
    n: int
    due_at: int
    people: list[tuple[int, str]]
    excluded: list[tuple[int, str]]


def _batches(workspace: Workspace, row: Campaign, refused: Refusals) -> list[ExportedBatch]:
    """Every batch with its people: as drawn when it was started, or as it would be drawn now. Apart from them, with the
    reason, who was skipped since or is refused."""
    db, out = workspace.store.read(), []
    if row.state != "draft":
        for b in batch_table.batches(db, row.id):
            people: list[tuple[int, str]] = []
            left: list[tuple[int, str]] = []
            for d in deliveries.people_of_batch(db, b.id):
                if d.state == deliveries.SKIPPED or d.id in refused:
                    left.append((d.subscriber, refused.get(d.id, d.reason or "")))
                else:
                    people.append((d.subscriber, d.state))
            out.append(ExportedBatch(b.kind, b.n, b.due_at, people, left))
        return out
    who = recipients.work_out(workspace, row)
    drawn = draw_schedule(workspace, row, who)
    for i, at in enumerate(drawn.moments):
        mine = who.subscriber[drawn.batch == i].tolist()
        queued: list[tuple[int, str]] = [(s, DeliveryState.QUEUED) for s in mine]
        out.append(ExportedBatch(SendKind.FIRST, i + 1, at, queued, []))
    return out


def calendar(workspace: Workspace, row: Campaign, batches: list[ExportedBatch]) -> bytes:
    """The plan as iCalendar (RFC 5545), an event a batch."""
    cal = Calendar()
    cal.add("prodid", "-//Open Meadow//plan//EN")
    cal.add("version", "2.0")
    stamp = datetime.fromtimestamp(workspace.now(), UTC)
    for b in batches:
        event = Event()
        kind = "batch" if b.kind == "first" else f"{b.kind} of batch"
        event.add("uid", f"c{row.id}-{b.kind}-{b.n}@openmeadow")
        event.add("dtstamp", stamp)
        event.add("dtstart", datetime.fromtimestamp(b.due_at, UTC))
        event.add("dtend", datetime.fromtimestamp(b.due_at + 900, UTC))
        people = f"{len(b.people):,} people" if b.people else "recipients chosen then"
        event.add("summary", f"{row.name}: {kind} {b.n}, {people}")
        cal.add_component(event)
    return bytes(cal.to_ical())


def plan_ics(workspace: Workspace, row: Campaign) -> bytes:
    """The batches of a plan as events of a calendar (RFC 5545)."""
    return calendar(workspace, row, _batches(workspace, row, {}))


def _sheet(workspace: Workspace, path: Path, last: str, batches: list[ExportedBatch], people: str) -> int:
    """A CSV of some people of batches, with their fields; how many. Nobody who was erased."""
    db, n = workspace.store.read(), 0
    rows = subscribers.by_ids(db, [s for b in batches for s, _ in getattr(b, people)])
    fields = sorted({f for r in rows.values() for f in r.fields})
    with path.open("w", encoding="utf-8", newline="") as f:
        writer = csv.writer(f)
        writer.writerow([*COLUMNS, last, *fields])
        for b in batches:
            head = (str(b.n), rfc3339(b.due_at), b.kind)
            for s, word in getattr(b, people):
                r = rows[s]
                if r.erased_at:
                    continue
                own = r.fields
                cells = (r.email, r.name or "", *head, word, *(str(own.get(x, "")) for x in fields))
                writer.writerow([safe(c) for c in cells])
                n += 1
    return n


def export(workspace: Workspace, row: Campaign, out: Path, who: str, refused: Refusals | None = None) -> dict[str, int]:
    """``batch-01.csv`` … , ``resend-01.csv`` … with those to be mailed or mailed, ``excluded.csv`` with those skipped
    or ``refused`` and why, and ``plan.ics``. How many people a file."""
    batches = _batches(workspace, row, refused or {})
    if not any(b.people or b.excluded for b in batches):
        raise Refused(f"“{row.name}” has no recipients yet. Choose its segments first.")
    counts: dict[str, int] = {}
    try:
        out.mkdir(parents=True, exist_ok=True)
        (out / "plan.ics").write_bytes(calendar(workspace, row, batches))
        for b in batches:
            if b.people:
                file = f"{FILES[b.kind]}-{b.n:02d}.csv"
                counts[file] = _sheet(workspace, out / file, "state", [b], "people")
        sent = sum(counts.values())
        if any(b.excluded for b in batches):
            counts[LEFT_OUT] = _sheet(workspace, out / LEFT_OUT, "reason", batches, "excluded")
    except OSError as e:
        raise CannotOpen(f"{out} cannot be opened for writing: {(e.strerror or 'unknown reason').lower()}.") from e
    with workspace.store.atomic() as db:
        settings.log(db, workspace.now(), who, "exported batches", row.name, sent)
    return counts
