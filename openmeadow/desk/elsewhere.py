"""Plans whose batches another program sends: drawn and kept here, handed over there; the event log tells what came of them,
so that results, guardrails and the resend go by it."""

from __future__ import annotations

import io
import tempfile
import zipfile
from pathlib import Path
from typing import Any

from openmeadow.core.errors import Refused
from openmeadow.desk import campaigns as desk_campaigns
from openmeadow.desk import outward, resending, sending
from openmeadow.desk.desk import Desk
from openmeadow.store import campaigns, events, ledger, workspace
from openmeadow.store.subscribers import facts_changed

CHUNK = 5_000  # people the gate is asked about at once
LONGEST_NAME = 200
OPEN = ("planned", "sending", "held")
_seen: dict[tuple[str, int], tuple[int, int]] = {}  # newest event and hour at the last look, by plan


def start(desk: Desk, id: int, who: str) -> dict[str, int]:
    """Draw the batches and keep them; nothing is handed over here."""
    return desk_campaigns.start(desk, id, who, elsewhere=True)


def message_name(desk: Desk, row: Any) -> str:
    """What the event log calls a campaign that was started: its name, with a number where an earlier mailing has it."""
    found = campaigns.message_names(desk.store.read()).get(row["message"] or 0)
    return found[0] if found else str(row["name"])


def call(desk: Desk, id: int, name: str, who: str) -> None:
    """The other program's log calls the mailing so; what has come under that name already is the plan's."""
    row, name = desk_campaigns.row_of(desk, id), name.strip()
    if not row["elsewhere"]:
        raise Refused(f"“{row['name']}” is not sent by another program.")
    if not name or len(name) > LONGEST_NAME:
        raise Refused(f"Write the name its log has in the column message, at most {LONGEST_NAME} characters.")
    with desk.store.atomic() as db:
        own = message_name(desk, row)
        if name == own:
            return
        there, mine = campaigns.message_called(db, name), campaigns.message_called(db, own)
        if there is not None and there["campaign"]:
            raise Refused(f"“{name}” is the message of the campaign “{there['campaign']}”.")
        if there is not None and mine is not None and mine["heard"]:
            raise Refused(f"A log has told of “{own}” and another of “{name}”: take one of these imports back first.")
        campaigns.call_message(db, id, name)
        ledger.told_elsewhere(db, id, campaigns.one(db, id)["message"])  # type: ignore[index]
        facts_changed(db)
        workspace.log(db, desk.now(), who, f"the log calls it {name}", row["name"])
    if row["state"] in OPEN:
        _settle(desk, id)


def tend(desk: Desk) -> int:
    """What the event log has told since, and resends that are due to be drawn; how many were told."""
    told, now = 0, desk.now()
    for c in campaigns.elsewhere(desk.store.read()):
        key, db = (str(desk.folder), int(c["id"])), desk.store.read()
        state = (events.highest(db), now // 60)
        if _seen.get(key) == state:
            continue
        _seen[key] = state
        row = campaigns.one(db, c["id"])
        with desk.store.atomic() as w:
            told += ledger.told_elsewhere(w, c["id"], c["message"])
        for b in ledger.batches(desk.store.read(), c["id"]):
            if b["kind"] != "first" and b["state"] == "waiting" and b["due_at"] <= now:
                _draw(desk, row, b)
        _settle(desk, c["id"])
    return told


def _draw(desk: Desk, row: Any, batch: Any) -> None:
    if not batch["variant"]:
        resending.draw(desk, row, ledger.batch(desk.store.read(), batch["id"]))
    else:
        with desk.store.atomic() as db:
            ledger.set_batch(db, batch["id"], "going out")


def _settle(desk: Desk, id: int) -> None:
    """Batches are under way from the first word of them, and gone when nobody waits in them any more."""
    with desk.store.atomic() as db:
        for b in ledger.batches(db, id):
            drawn = b["kind"] == "first" or b["state"] == "going out"
            if b["state"] in ("waiting", "going out") and drawn and not b["waiting"]:
                ledger.set_batch(db, b["id"], "gone", gone_at=desk.now())
            elif b["state"] == "waiting" and b["handed"]:
                ledger.set_batch(db, b["id"], "going out")
        under_way = any(b["state"] in ("going out", "gone") for b in ledger.batches(db, id))
        if campaigns.state_of(db, id) == "held":
            return  # somebody decides; what is told is kept all the same
        if not ledger.open_batches(db, id):
            campaigns.update(db, id, {"state": "finished"})
        elif under_way:
            campaigns.update(db, id, {"state": "sending"})


def _refused(desk: Desk, row: Any) -> outward.Refusals:
    """Who waits and may not be mailed any more, or has answered before their resend. Limits of messages a day go by when
    the other program sends."""
    db, out = desk.store.read(), outward.Refusals()
    if not row["elsewhere"] or row["state"] not in OPEN:
        return {}
    for b in ledger.batches(db, row["id"]):
        after = 0
        while waiting := ledger.waiting_of(db, b["id"], CHUNK, after):
            after = waiting[-1]["subscriber"]
            why, _ = sending.reasons(desk, row, b, waiting, limits=False)
            out |= {d["id"]: why[d["subscriber"]] for d in waiting if d["subscriber"] in why}
    return out


def pass_over(desk: Desk, id: int) -> int:
    """Before the files are saved, the last moment known here: the gate is asked again about everybody who waits, and
    whom it refuses is passed over. How many."""
    row = desk_campaigns.row_of(desk, id)
    if not row["elsewhere"] or row["state"] not in OPEN:
        return 0
    with desk.store.atomic() as db:  # who was sent to by now is not asked about
        ledger.told_elsewhere(db, id, row["message"])
    refused = _refused(desk, row)
    with desk.store.atomic() as db:  # of whom the log has told meanwhile keeps that
        passed = sum(ledger.pass_over(db, delivery, why, desk.now()) for delivery, why in refused.items())
    _settle(desk, id)
    return passed


def export(desk: Desk, name: str, out: Path, who: str) -> dict[str, int]:
    """A campaign's batches into a folder, see ``outward.export``; of a plan that another program sends, after asking the
    gate again."""
    row = outward.named(desk, name)
    pass_over(desk, row["id"])
    return outward.export(desk, outward.named(desk, name), out, who)


def archive(desk: Desk, id: int, who: str) -> bytes:
    """The batches as CSV files and the plan as iCalendar, in one ZIP, without whom the gate would refuse now."""
    row, out = desk_campaigns.row_of(desk, id), io.BytesIO()
    with tempfile.TemporaryDirectory() as name, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as z:
        outward.export(desk, row, Path(name), who, _refused(desk, row))
        for path in sorted(Path(name).iterdir()):
            z.write(path, path.name)
    return out.getvalue()
