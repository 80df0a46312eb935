"""Import an event log; opens and clicks change scores, bounces and complaints change who may be mailed."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from zoneinfo import ZoneInfo

from openmeadow.core.consent.eligibility import WITHDRAWN
from openmeadow.core.events import Kind
from openmeadow.core.ids import PurposeId, SubscriberId
from openmeadow.core.imports.event_log import NAMES, Chunk, Event, places, read_many
from openmeadow.core.imports.report import Report
from openmeadow.core.reports.bounces import bounce_class
from openmeadow.core.states import BounceClass
from openmeadow.services.subscribers import file_reader
from openmeadow.services.subscribers.event_window import WINDOW, Columns, Window
from openmeadow.store import settings, undo_log
from openmeadow.store.bulk import Many
from openmeadow.store.connection import Store, roomily
from openmeadow.store.engagement import events as table
from openmeadow.store.subscribers import consent, subscribers
from openmeadow.store.turns import Turns

BYTES_A_ROW = 100
HARD_BOUNCE, COMPLAINT, UNSUBSCRIBED_FROM_ALL = 1, 2, 3
_CONSEQUENT = {int(k) for k in (Kind.BOUNCED, Kind.COMPLAINED, Kind.UNSUBSCRIBED)}


@dataclass
class _HowFar:
    """How far an import is, in bytes of its file: half of the way is reading, half is writing."""

    report: Report
    total: int
    progress: Callable[[int, int], None] | None
    read_to: int = 0
    written_to: int = 0

    def tell(self) -> None:
        """Say it."""
        r = self.report
        done = r.taken + r.repeated + r.aside + r.refused_count
        self.written_to = max(self.written_to, int(self.read_to * done / max(1, r.rows)))
        if self.progress:
            self.progress((self.read_to + self.written_to) // 2, self.total)


@roomily
def run(
    store: Store,
    path: Path,
    now: int,
    who: str,
    *,
    dry_run: bool = False,
    progress: Callable[[int, int], None] | None = None,
    refused_to: Path | None = None,
) -> Report:
    """Take an event log (CSV with header, NDJSON or Parquet). Repeats are taken once; unknown addresses wait aside."""
    zone = ZoneInfo(str(settings.setting(store.read(), "time_zone")))
    report, total = Report(dry_run=dry_run), path.stat().st_size if path.exists() else 0
    action: int | None = None
    if path.suffix.lower() == ".parquet":
        head, chunks = file_reader.parquet_chunks(path)
        where = places(head)
    elif file_reader.is_ndjson(path):
        chunks, where = file_reader.ndjson_chunks(path, NAMES), list(range(len(NAMES)))
    else:
        where = places(file_reader.header(path))
        chunks = file_reader.csv_chunks(path)
    names, turns, window = table.Names(store.writer), Turns(store), Window()
    far = _HowFar(report, total, progress)
    file = file_reader.RefusedFile(refused_to, list(NAMES)) if refused_to else None
    with file_reader.no_cycles(), file_reader.said_how_far(report):
        names.expect(total // BYTES_A_ROW)
        if not dry_run:
            with store.atomic() as db:
                action = undo_log.begin(db, now, who, "imported events", path.name, 0, "events")
                table.expect(db, total // BYTES_A_ROW)
        for rows, bad, far.read_to in chunks:
            taken, refused = read_many(rows, where, zone)
            for r in [*bad, *refused]:
                report.refuse(r)
                if file:
                    file.write(r)
            report.rows += len(rows) + len(bad)
            _take(turns, names, taken, report, action, window)
            if action is not None and len(window) >= WINDOW:
                _write_window(turns, window, report, action, far)
            far.tell()
        if action is not None:
            _write_window(turns, window, report, action, far)
    if file:
        file.close()
    if action is not None:
        with store.atomic() as db:
            table.indexed(db)
            undo_log.counted(db, action, report.taken)
        report.action = action
    return report


def _take(turns: Turns, names: table.Names, chunk: Chunk, report: Report, action: int | None, window: Window) -> None:
    """One chunk of the file, of which what can be taken waits in the window; an action of None is a dry run."""
    ids = names.people(chunk.email_key)
    aside: list[Event] = []
    if not all(map(ids.__contains__, chunk.email_key)):
        events = list(map(Event, *chunk))
        aside = [e for e in events if e.email_key not in ids]
        chunk = Chunk.of([e for e in events if e.email_key in ids])
    report.aside += len(aside)
    for e in aside[:50]:
        if e.email_key not in report.aside_shown and len(report.aside_shown) < 50:
            report.aside_shown.append(e.email_key)
    if action is None:
        report.taken += len(chunk.at)
        return
    names.made_messages.clear()
    turns.store.queue.give_way()
    with turns.store.atomic():
        window.add(resolved(names, chunk, ids))
    for kept in turns.over(aside):
        with turns.part(kept) as db:
            table.put_aside(db, [(e.email_key, json.dumps(e), action) for e in kept])
    for name in names.made_messages:
        report.note(f"Created message “{name}”.")


def _write_window(turns: Turns, window: Window, report: Report, action: int, far: _HowFar) -> None:
    """What waits, in its best order; then nothing waits."""

    def put(db: sqlite3.Connection, some: Sequence[int]) -> int:
        first = table.highest(db) + 1
        new = written(db, window.at(some), action)
        undo_log.took_events(db, action, first, table.highest(db))
        return new

    def stands(rows: int, new: int) -> None:
        report.taken += new
        report.repeated += rows - new
        far.tell()

    by_person = len(window) > 0 and table.is_little(turns.store.read(), *window.span())
    turns.each(window.order(by_person=by_person), put, stands)
    window.clear()


def resolved(names: table.Names, c: Chunk, ids: Mapping[str, int]) -> Columns:
    """Events of known people as columns of ``table.Row``; messages, links and agents that are new are made."""
    messages = names.messages(c.message)
    links, agents = names.links(messages, c.url), names.agents(c.agent, c.ip)
    people = [ids[k] for k in c.email_key]
    return c.at, c.kind, people, messages, links, agents, c.value, c.code, c.diagnostic, c.id


def written(db: sqlite3.Connection, columns: Columns, action: int | None) -> int:
    """Store events and what follows from them; the number that were new."""
    at, kind, people, messages, _, _, _, code, diagnostic, _ = columns
    new = table.add(db, zip(*columns, strict=True))
    if not _CONSEQUENT.isdisjoint(kind):
        told = zip(at, kind, people, messages, code, diagnostic, strict=True)
        consequences(db, [row for row in told if row[1] in _CONSEQUENT], action)
    return new


def write(db: sqlite3.Connection, names: table.Names, c: Chunk, ids: Mapping[str, int], action: int | None = None) -> int:
    """Store events of known people and what follows from them; the number that were new."""
    return written(db, resolved(names, c, ids), action)


def consequences(
    db: sqlite3.Connection,
    rows: Many[tuple[int, int, int, int, str | None, str | None]],
    action: int | None = None,
    *,
    live: bool = False,
) -> None:
    """Hard bounces and complaints suppress; an unsubscribe withdraws the message's purpose, else all.

    Rows are (at, kind, subscriber, message, code, diagnostic). ``live``: it happens now, and is not told by a file.
    """
    rows = list(rows)
    if not rows:
        return
    purposes = table.purposes_of_messages(db)
    suppress, withdraw = [], []
    for at, kind, subscriber, message, code, diagnostic in rows:
        if kind == Kind.COMPLAINED:
            suppress.append((subscriber, COMPLAINT, at, "complaint", action))
        elif kind == Kind.BOUNCED and bounce_class(code, diagnostic) == BounceClass.HARD:
            suppress.append((subscriber, HARD_BOUNCE, at, diagnostic or code or "bounce", action))
        elif kind == Kind.UNSUBSCRIBED:
            if message in purposes:
                withdraw.append(
                    consent.Claim(
                        SubscriberId(subscriber),
                        PurposeId(purposes[message]),
                        WITHDRAWN,
                        at,
                        method="unsubscribe",
                        action=action,
                        live=live,
                    )
                )
            else:
                suppress.append((subscriber, UNSUBSCRIBED_FROM_ALL, at, "unsubscribe", action))
    subscribers.add_suppressions(db, suppress)
    consent.add(db, withdraw)


def take_aside(store: Store) -> int:
    """Events kept aside whose address has become known are taken now."""
    taken = 0
    while True:
        with store.atomic() as db:
            waiting = table.aside_now_known(db, file_reader.CHUNK)
            if not waiting:
                return taken
            chunk = Chunk.of([Event(*json.loads(r.row)) for r in waiting])
            names = table.Names(db)
            taken += write(db, names, chunk, names.people(chunk.email_key))
            table.forget_aside(db, [r.id for r in waiting])
