"""Plans whose batches another program sends: drawn and kept here, sent there; the event log tells what came of them,
so that results, guardrails and the resend go by it."""

from __future__ import annotations

import io
import tempfile
import zipfile
from pathlib import Path

from openmeadow.core.arrays import I64
from openmeadow.core.errors import Refused
from openmeadow.core.ids import NO_MESSAGE, CampaignId, MessageId
from openmeadow.core.moments import MINUTE
from openmeadow.services.campaigns import batch_export, last_check, resend
from openmeadow.services.campaigns import campaigns as campaigns_service
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings, undo_log
from openmeadow.store.campaigns import batches as batch_table
from openmeadow.store.campaigns import campaigns, deliveries
from openmeadow.store.campaigns import external as external_table
from openmeadow.store.campaigns.delivery_records import Batch
from openmeadow.store.campaigns.records import Campaign
from openmeadow.store.engagement import events
from openmeadow.store.subscribers.subscribers import facts_changed

CHUNK = 5_000  # people the eligibility check is asked about at once
LONGEST_NAME = 200
OPEN = ("scheduled", "sending", "paused")
TOLD_AT_ONCE = 500  # people of one transaction, so that nobody waits long for the database


def start(workspace: Workspace, row_id: CampaignId, who: str) -> campaigns_service.Started:
    """Draw the batches and keep them; nothing is sent here."""
    return campaigns_service.start(workspace, row_id, who, external=True)


def message_name(workspace: Workspace, row: Campaign) -> str:
    """What the event log calls a campaign that was started: its name, with a number where an earlier mailing has it."""
    found = campaigns.message_names(workspace.store.read()).get(row.message or 0)
    return found[0] if found else row.name


def call(workspace: Workspace, row_id: CampaignId, name: str, who: str) -> None:
    """The other program's log calls the mailing so; what has come under that name already is the plan's."""
    row, name = campaigns_service.row_of(workspace, row_id), name.strip()
    if not row.external:
        raise Refused(f"“{row.name}” is not sent with another system.")
    if not name or len(name) > LONGEST_NAME:
        raise Refused(f"Enter the name from the “message” column of its log, at most {LONGEST_NAME} characters.")
    with workspace.store.atomic() as db:
        own = message_name(workspace, row)
        if name == own:
            return
        there, mine = campaigns.message_called(db, name), campaigns.message_called(db, own)
        if there is not None and there.campaign:
            raise Refused(f"“{name}” is the message of the campaign “{there.campaign}”.")
        if there is not None and mine is not None and mine.heard:
            raise Refused(f"Events exist under both names, “{own}” and “{name}”. Undo one of the two imports first.")
        campaigns.call_message(db, row_id, name)
        message = MessageId(campaigns_service.message_of(db, row_id))
        facts_changed(db)
        settings.log(db, workspace.now(), who, f"set log name to {name}", row.name)
    _tell(workspace, row_id, message, external_table.waiting_for_word(workspace.store.read(), row_id))
    if row.state in OPEN:
        _settle(workspace, row_id)


def tend(workspace: Workspace) -> int:
    """What the event log has told since, and resends that are due to be drawn; how many were told."""
    told, now, looked = 0, workspace.now(), workspace.part(_Looked).at
    for c in campaigns.external(workspace.store.read()):
        db = workspace.store.read()
        state = (events.highest(db), now // MINUTE, undo_log.events_version(db), c.message)
        before = looked.get(c.id)
        if before == state:
            continue
        row = campaigns_service.row_of(workspace, c.id)
        news = before is not None and before[0] <= state[0] and before[2:] == state[2:]
        some = (
            external_table.told_since(db, c.message, before[0])
            if before and news
            else external_table.waiting_for_word(db, c.id)
        )
        told += _tell(workspace, c.id, c.message, some)
        looked[c.id] = state
        for b in batch_table.batches(workspace.store.read(), c.id):
            if b.kind != "first" and b.state == "scheduled" and b.due_at <= now:
                _draw(workspace, row, b)
                looked.pop(c.id, None)  # whom this was drawn for may have been told of before
        _settle(workspace, c.id)
    return told


class _Looked:
    """At which event, minute, version of the events and message each plan was looked at last."""

    def __init__(self, _: Workspace) -> None:
        self.at: dict[CampaignId, tuple[int, int, int, int]] = {}


def _tell(workspace: Workspace, campaign: CampaignId, message: MessageId, some: I64) -> int:
    """Mark those whom the log says it was sent to, some at a time; how many were new."""
    told = 0
    for i in range(0, len(some), TOLD_AT_ONCE):
        with workspace.store.atomic() as db:
            told += external_table.report_external(db, campaign, message, some[i : i + TOLD_AT_ONCE].tolist())
    return told


def _draw(workspace: Workspace, row: Campaign, batch: Batch) -> None:
    if not batch.variant:
        resend.draw(workspace, row, batch)
    else:
        with workspace.store.atomic() as db:
            batch_table.set_batch(db, batch.id, "sending")


def _settle(workspace: Workspace, row_id: CampaignId) -> None:
    """Batches are under way from the first word of them, and gone when nobody waits in them any more."""
    with workspace.store.atomic() as db:
        for b in batch_table.batches(db, row_id):
            drawn = b.kind == "first" or b.state == "sending"
            if b.state in ("scheduled", "sending") and drawn and not b.waiting:
                batch_table.set_batch(db, b.id, "sent", sent_at=workspace.now())
            elif b.state == "scheduled" and b.sent:
                batch_table.set_batch(db, b.id, "sending")
        under_way = any(b.state in ("sending", "sent") for b in batch_table.batches(db, row_id))
        goes_on = (
            "scheduled",
            "sending",
            "finished",
        )  # where it is paused somebody decides; what is told is kept all the same
        if not batch_table.open_batches(db, row_id):
            campaigns.update_in(db, row_id, goes_on, {"state": "finished"})
        elif under_way:
            campaigns.update_in(db, row_id, goes_on, {"state": "sending"})


def _refused(workspace: Workspace, row: Campaign) -> batch_export.Refusals:
    """Who waits and may not be mailed any more, or has answered before their resend. Limits of messages a day go by when
    the other program sends."""
    db, out = workspace.store.read(), batch_export.Refusals()
    if not row.external or row.state not in OPEN:
        return {}
    for b in batch_table.batches(db, row.id):
        after = 0
        while waiting := deliveries.waiting_of(db, b.id, CHUNK, after):
            after = waiting[-1].subscriber
            why, _ = last_check.reasons(workspace, row, b, waiting, limits=False)
            out |= {d.id: why[d.subscriber] for d in waiting if d.subscriber in why}
    return out


def skip(workspace: Workspace, row_id: CampaignId) -> int:
    """Before the files are saved, the last moment known here: the eligibility check is asked again about everybody who waits, and
    whom it refuses is skipped. How many."""
    row = campaigns_service.row_of(workspace, row_id)
    if not row.external or row.state not in OPEN:
        return 0
    waiting = external_table.waiting_for_word(workspace.store.read(), row_id)
    _tell(workspace, row_id, row.message or NO_MESSAGE, waiting)  # who was sent to by now is not asked about
    refused = _refused(workspace, row)
    with workspace.store.atomic() as db:  # of whom the log has told meanwhile keeps that
        passed = sum(deliveries.skip(db, delivery, why, workspace.now()) for delivery, why in refused.items())
    _settle(workspace, row_id)
    return passed


def export(workspace: Workspace, name: str, out: Path, who: str) -> dict[str, int]:
    """A campaign's batches into a folder, see ``batch_export.export``; of a campaign that another program sends, after asking the
    eligibility check again. How many people a file."""
    row = batch_export.named(workspace, name)
    skip(workspace, row.id)
    return batch_export.export(workspace, batch_export.named(workspace, name), out, who)


def archive(workspace: Workspace, row_id: int, who: str) -> bytes:
    """The batches as CSV files and the plan as iCalendar, in one ZIP, without whom the eligibility check would refuse now."""
    row, out = campaigns_service.row_of(workspace, row_id), io.BytesIO()
    with tempfile.TemporaryDirectory() as name, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as z:
        batch_export.export(workspace, row, Path(name), who, _refused(workspace, row))
        for path in sorted(Path(name).iterdir()):
            z.write(path, path.name)
    return out.getvalue()
