"""Bring in an event log; opens and clicks change scores, bounces and complaints change who may be mailed."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Callable, Iterable
from dataclasses import astuple
from pathlib import Path
from zoneinfo import ZoneInfo

from openmeadow.core.columns import Kind
from openmeadow.core.consent.gate import WITHDRAWN
from openmeadow.core.intake.events import NAMES, Event, places, read
from openmeadow.core.intake.report import Refusal, Report
from openmeadow.core.reports.bounces import bounce_class
from openmeadow.desk.bring_in import reading
from openmeadow.store import events as table
from openmeadow.store import subscribers, workspace
from openmeadow.store.database import Store

HARD_BOUNCE, COMPLAINT, UNSUBSCRIBED_FROM_ALL = 1, 2, 3
_CONSEQUENT = (Kind.BOUNCED, Kind.COMPLAINED, Kind.UNSUBSCRIBED)


def bring_in(store: Store, path: Path, now: int, who: str, *, dry_run: bool = False,
             progress: Callable[[int, int], None] | None = None) -> Report:
    """Take an event log (CSV with header, or NDJSON). Repeats are taken once; unknown addresses wait aside."""
    zone = ZoneInfo(str(workspace.setting(store.read(), "time_zone")))
    report, total = Report(dry_run=dry_run), path.stat().st_size if path.exists() else 0
    if reading.is_ndjson(path):
        chunks, where = reading.ndjson_chunks(path, NAMES), list(range(len(NAMES)))
    else:
        where = places(reading.header(path))
        chunks = reading.csv_chunks(path)
    for rows, bad, reached in chunks:
        taken = [read([cells[i] if 0 <= i < len(cells) else "" for i in where], line, zone) for line, cells in rows]
        for r in [*bad, *(t for t in taken if isinstance(t, Refusal))]:
            report.refuse(r)
        report.rows += len(rows)
        _take(store, [t for t in taken if isinstance(t, Event)], report, dry_run)
        if progress:
            progress(reached, total)
    if not dry_run:
        with store.atomic() as db:
            workspace.log(db, now, who, "brought in events", path.name, report.taken)
    return report


def _take(store: Store, events: list[Event], report: Report, dry_run: bool) -> None:
    ids = subscribers.ids_of(store.read(), list({e.email_key for e in events}))
    aside = [e for e in events if e.email_key not in ids]
    report.aside += len(aside)
    for e in aside[:50]:
        if e.email_key not in report.aside_shown and len(report.aside_shown) < 50:
            report.aside_shown.append(e.email_key)
    known = [e for e in events if e.email_key in ids]
    if dry_run:
        report.taken += len(known)
        return
    with store.atomic() as db:
        names = table.Names(db)
        new = write(db, names, known, ids)
        table.put_aside(db, [(e.email_key, json.dumps(astuple(e))) for e in aside])
        for name in names.made_messages:
            report.note(f"The message “{name}” was not there and has been made.")
    report.taken += new
    report.repeated += len(known) - new


def write(db: sqlite3.Connection, names: table.Names, events: list[Event], ids: dict[str, int]) -> int:
    """Store events of known people and what follows from them; the number that were new."""
    rows = []
    for e in events:
        message = names.message(e.message)
        rows.append((e.at, e.kind, ids[e.email_key], message, names.link(message, e.url) if e.url else 0,
                     names.agent(e.agent, e.ip) if e.agent or e.ip else 0, e.value, e.code, e.diagnostic, e.id))
    new = table.add(db, rows)
    consequences(db, [r[:4] + (e.code, e.diagnostic) for r, e in zip(rows, events, strict=True)
                      if e.kind in _CONSEQUENT])
    return new


def consequences(db: sqlite3.Connection, rows: Iterable[tuple[int, int, int, int, str | None, str | None]]) -> None:
    """Hard bounces and complaints suppress; an unsubscribe withdraws the message's purpose, else all.

    Rows are (at, kind, subscriber, message, code, diagnostic).
    """
    rows = list(rows)
    if not rows:
        return
    purposes = table.purposes_of_messages(db)
    suppress, withdraw = [], []
    for at, kind, subscriber, message, code, diagnostic in rows:
        if kind == Kind.COMPLAINED:
            suppress.append((subscriber, COMPLAINT, at, "complaint"))
        elif kind == Kind.BOUNCED and bounce_class(code, diagnostic) == "hard":
            suppress.append((subscriber, HARD_BOUNCE, at, diagnostic or code or "bounce"))
        elif kind == Kind.UNSUBSCRIBED:
            if message in purposes:
                withdraw.append((subscriber, purposes[message], WITHDRAWN, at, "unsubscribe", None))
            else:
                suppress.append((subscriber, UNSUBSCRIBED_FROM_ALL, at, "unsubscribe"))
    subscribers.add_suppressions(db, suppress)
    subscribers.add_consents(db, withdraw)


def take_aside(store: Store) -> int:
    """Events kept aside whose address has become known are taken now."""
    taken = 0
    while True:
        with store.atomic() as db:
            waiting = table.aside_now_known(db, reading.CHUNK)
            if not waiting:
                return taken
            events = [Event(*json.loads(r["row"])) for r in waiting]
            taken += write(db, table.Names(db), events,
                           subscribers.ids_of(db, list({e.email_key for e in events})))
            table.forget_aside(db, [r["id"] for r in waiting])
