"""A campaign's batches as files, for sending elsewhere: CSV a batch, and the plan as iCalendar."""

from __future__ import annotations

import csv
import json
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from icalendar import Calendar, Event

from openmeadow.core.errors import Missing, Refused
from openmeadow.core.intake.moments import rfc3339
from openmeadow.desk import recipients
from openmeadow.desk.desk import Desk
from openmeadow.desk.exports import safe
from openmeadow.desk.planning import draw_schedule
from openmeadow.store import campaigns, ledger, subscribers, workspace

FILES = {"first": "batch", "resend": "resend", "second resend": "second-resend"}
COLUMNS = ("email", "name", "batch", "due_at", "pass")
LEFT_OUT = "left-out.csv"
Refusals = dict[int, str]  # by delivery: why it is not to be mailed now


def named(desk: Desk, name: str) -> Any:
    """The campaign of a name, with all its columns."""
    db = desk.store.read()
    found = campaigns.named(db, name)
    row = campaigns.one(db, found["id"]) if found else None
    if row is None:
        raise Missing(f"There is no campaign “{name}”.")
    return row


def _batches(desk: Desk, row: Any, refused: Refusals) -> list[dict[str, Any]]:
    """Every batch with its people: as drawn when it was started, or as it would be drawn now. Apart from them, with the
    reason, whoever was passed over since or is refused."""
    db, out = desk.store.read(), []
    if row["state"] != "draft":
        for b in ledger.batches(db, row["id"]):
            people, left = [], []
            for d in ledger.people_of_batch(db, b["id"]):
                if d["state"] == ledger.PASSED_OVER or d["id"] in refused:
                    left.append((d["subscriber"], refused.get(d["id"], d["reason"] or "")))
                else:
                    people.append((d["subscriber"], d["state"]))
            out.append({"kind": b["kind"], "n": b["n"], "due_at": b["due_at"], "people": people, "left out": left})
        return out
    who = recipients.work_out(desk, row)
    drawn = draw_schedule(desk, row, who)
    for i, at in enumerate(drawn.moments):
        mine = who.subscriber[drawn.batch == i].tolist()
        people = [(s, ledger.WAITING) for s in mine]
        out.append({"kind": "first", "n": i + 1, "due_at": at, "people": people, "left out": []})
    return out


def calendar(desk: Desk, row: Any, batches: list[dict[str, Any]]) -> bytes:
    """The plan as iCalendar (RFC 5545), an event a batch."""
    cal = Calendar()
    cal.add("prodid", "-//Open Meadow//plan//EN")
    cal.add("version", "2.0")
    stamp = datetime.fromtimestamp(desk.now(), UTC)
    for b in batches:
        event = Event()
        kind = "batch" if b["kind"] == "first" else f"{b['kind']} of batch"
        event.add("uid", f"c{row['id']}-{b['kind']}-{b['n']}@openmeadow")
        event.add("dtstamp", stamp)
        event.add("dtstart", datetime.fromtimestamp(b["due_at"], UTC))
        event.add("dtend", datetime.fromtimestamp(b["due_at"] + 900, UTC))
        people = f"{len(b['people']):,} people" if b["people"] else "people drawn then"
        event.add("summary", f"{row['name']}: {kind} {b['n']}, {people}")
        cal.add_component(event)
    return bytes(cal.to_ical())


def plan_ics(desk: Desk, row: Any) -> bytes:
    return calendar(desk, row, _batches(desk, row, {}))


def _sheet(desk: Desk, path: Path, last: str, batches: list[dict[str, Any]], people: str) -> int:
    """A CSV of some people of batches, with their fields; how many. Nobody who was erased."""
    db, n = desk.store.read(), 0
    rows = subscribers.by_ids(db, [s for b in batches for s, _ in b[people]])
    fields = sorted({f for r in rows.values() for f in json.loads(r["fields"])})
    with path.open("w", encoding="utf-8", newline="") as f:
        writer = csv.writer(f)
        writer.writerow([*COLUMNS, last, *fields])
        for b in batches:
            head = (str(b["n"]), rfc3339(b["due_at"]), b["kind"])
            for s, word in b[people]:
                r = rows[s]
                if r["erased_at"]:
                    continue
                own = json.loads(r["fields"])
                cells = (r["email"], r["name"] or "", *head, word, *(str(own.get(x, "")) for x in fields))
                writer.writerow([safe(c) for c in cells])
                n += 1
    return n


def export(desk: Desk, row: Any, out: Path, who: str, refused: Refusals | None = None) -> dict[str, int]:
    """``batch-01.csv`` … , ``resend-01.csv`` … with those to be mailed or mailed, ``left-out.csv`` with those passed over
    or ``refused`` and why, and ``plan.ics``. How many people a file."""
    batches = _batches(desk, row, refused or {})
    if not any(b["people"] or b["left out"] for b in batches):
        raise Refused(f"Nobody is in “{row['name']}” yet: choose its segments first.")
    counts: dict[str, int] = {}
    try:
        out.mkdir(parents=True, exist_ok=True)
        (out / "plan.ics").write_bytes(calendar(desk, row, batches))
        for b in batches:
            if b["people"]:
                file = f"{FILES[b['kind']]}-{b['n']:02d}.csv"
                counts[file] = _sheet(desk, out / file, "state", [b], "people")
        sent = sum(counts.values())
        if any(b["left out"] for b in batches):
            counts[LEFT_OUT] = _sheet(desk, out / LEFT_OUT, "reason", batches, "left out")
    except OSError as e:
        raise Missing(f"{out} cannot be opened for writing: {(e.strerror or 'unknown reason').lower()}.") from e
    with desk.store.atomic() as db:
        workspace.log(db, desk.now(), who, "exported batches", row["name"], sent)
    return counts
