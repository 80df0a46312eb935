"""What a sequence does: who stands where, what was sent and answered, what resends add, why people left."""

from __future__ import annotations

import csv
import io
import time
from collections import Counter, defaultdict
from dataclasses import dataclass, field, replace

from openmeadow.core.arrays import FAR
from openmeadow.core.delivery.uplift import VariantCount, lift
from openmeadow.core.ids import MessageId, SequenceId
from openmeadow.core.imports.dates import rfc3339
from openmeadow.core.moments import DAY
from openmeadow.core.sequences import admission, state_machine
from openmeadow.core.sequences.definition import MAILS, Definition
from openmeadow.core.states import HOLDOUT, CampaignState, DeliveryState, SendKind, SequenceState
from openmeadow.services import models
from openmeadow.services.sequences import editing, validation
from openmeadow.services.sequences.conditions import condition
from openmeadow.services.sequences.loading import definition_of, pass_of, row_of
from openmeadow.services.subscribers.export import safe
from openmeadow.services.workspace import Workspace
from openmeadow.store.campaigns import batches as batch_table
from openmeadow.store.campaigns import campaigns
from openmeadow.store.campaigns.records import Campaign
from openmeadow.store.sequences import enrolments, sequences
from openmeadow.store.sequences.records import SentMail, Sequence

WEEK, CHEAP = 7 * DAY, 0.25
MOST_PORTIONS = 8  # days of a queue that are shown
NOT_YET = int(FAR)
CAME = {
    "joins a list": "no one joined the list “{}”",
    "confirms": "no one confirmed “{}”",
    "sign-up pending": "no sign-up for “{}” is pending",
    "gets a label": "no one got the label “{}”",
    "enters a segment": "no one entered the segment “{}”",
    "a date": "no date in the field “{}” was due",
    "books": "no one booked",
}


@dataclass
class Figures:
    """One step's: people who stand there, how many passed it, and of its mail who got, opened and clicked it."""

    here: int = 0
    mailing: int = 0
    next_at: int | None = None
    passed: int = 0
    sent: int = 0
    opened: int = 0
    expected: float | None = None  # of those whose chance is known
    of: int = 0  # how many these are
    clicked: int = 0
    deferred: int = 0
    failed: int = 0
    passed_over: int = 0
    left: list[models.SequenceLeft] = field(default_factory=list)


def _answers(workspace: Workspace, message: MessageId) -> dict[int, tuple[int, int]]:
    """Of a message: when each person first opened it and first did more."""
    view = workspace.view()
    rows = view.rows_of(message)
    ids = view.columns.people.id[rows.person].tolist()
    opened, more = rows.opened_at.tolist(), rows.reacted_at.tolist()
    return {int(s): (int(o), int(r)) for s, o, r in zip(ids, opened, more, strict=True)}


Counted = tuple[dict[int, Figures], list[models.ResendAdds], models.HoldoutComparison | None]
SHARE = 10  # a page that asks again and again takes at most one part in so many of the time
_counted: dict[tuple[str, int, int], tuple[float, float, Counted]] = {}


def per_step(workspace: Workspace, row_id: int, definition: Definition, version: int) -> Counted:
    """(figures by step, what resends add by message, against whom was kept as a random control group). Counting that
    takes long is
    done again only after ten times as long."""
    key = str(workspace.folder), row_id, version
    kept = _counted.get(key)
    if kept and time.monotonic() - kept[0] < kept[1] * SHARE:
        return kept[2]
    begun = time.monotonic()
    found = _count_all(workspace, row_id, definition)
    if len(_counted) > 200:
        _counted.clear()
    _counted[key] = (time.monotonic(), max(0.0, time.monotonic() - begun - CHEAP), found)
    return found


def _count_all(workspace: Workspace, row_id: int, definition: Definition) -> Counted:
    db = workspace.store.read()
    out = {s.key: Figures() for s in definition.steps}
    for r in sequences.steps(db, row_id):
        if r.step in out:
            f = out[r.step]
            f.here, f.mailing, f.next_at = r.people, r.mailing, r.next
    for key, n in sequences.passages(db, row_id).items():
        if key in out:
            out[key].passed = n
    for gone in sequences.left(db, row_id):
        if gone.step in out:
            out[gone.step].left.append(models.SequenceLeft(why=gone.why or "", people=gone.people))
    by_mail: dict[int, dict[SendKind, list[SentMail]]] = defaultdict(lambda: defaultdict(list))
    messages: dict[int, int] = {}
    for d in sequences.sent(db, row_id):
        by_mail[d.step][d.kind].append(d)
        if d.message:
            messages[d.step] = d.message
    added: list[models.ResendAdds] = []
    kept, again_people = [0, 0], [0, 0]
    step_of = {pass_of(definition, s): s.key for s in definition.steps if s.kind in MAILS}
    for key, passes in by_mail.items():
        answers = _answers(workspace, MessageId(messages[key])) if key in messages else {}
        first = {d.subscriber: d.at for d in passes.get(SendKind.FIRST, []) if d.state == DeliveryState.SENT}
        again: dict[int, int] = {}
        held: dict[int, int] = {}
        for kind in (SendKind.RESEND, SendKind.SECOND_RESEND):
            for d in passes.get(kind, []):
                if d.state == DeliveryState.SENT:
                    again.setdefault(d.subscriber, d.at)
                elif d.reason == HOLDOUT:
                    held.setdefault(d.subscriber, d.at)
        for kind, rows in passes.items():
            if (step := step_of.get((key, kind))) is not None:
                _count(out[step], rows, answers, again if kind == SendKind.FIRST else {})
        if not first:
            continue
        when = {s: min(answers.get(s, (NOT_YET, NOT_YET))) for s in first}
        together = sum(t < NOT_YET for t in when.values())
        late = sum(t < NOT_YET and s in again and t >= again[s] for s, t in when.items())
        added.append(models.ResendAdds(step=key, sent=len(first), first=together - late, again=late, together=together))
        for group, box in ((again, again_people), (held, kept)):
            box[0] += len(group)
            box[1] += sum(NOT_YET > min(answers.get(s, (NOT_YET, NOT_YET))) >= at for s, at in group.items())
    compared = None
    if kept[0]:
        x = lift(VariantCount("resent", *again_people), VariantCount("holdout", *kept))
        gap = x.difference
        compared = models.HoldoutComparison(
            resent=again_people[0],
            resend_engaged=again_people[1],
            holdout=kept[0],
            holdout_engaged=kept[1],
            points=gap.point,
            low=gap.low,
            high=gap.high,
            verdict=x.verdict,
        )
    return out, added, compared


def _count(f: Figures, rows: list[SentMail], answers: dict[int, tuple[int, int]], until: dict[int, int]) -> None:
    """What came of a send; of a first one, before it was resent to them (``until``), and how many of them would usually
    engage, by their chances when the step came."""
    states = Counter(d.state for d in rows)
    f.sent, f.deferred, f.failed = (
        states[DeliveryState.SENT],
        states[DeliveryState.DEFERRED],
        states[DeliveryState.FAILED],
    )
    f.passed_over = sum(d.state == DeliveryState.SKIPPED and d.reason != HOLDOUT for d in rows)
    for d in rows:
        if d.state == DeliveryState.SENT:
            opened, more = answers.get(d.subscriber, (NOT_YET, NOT_YET))
            end = until.get(d.subscriber, NOT_YET)
            f.opened += end > min(opened, more) >= d.at
            f.clicked += end > more >= d.at
    sent = (d for d in rows if d.kind == SendKind.FIRST and d.state == DeliveryState.SENT)
    known = [d.chance / 10_000 for d in sent if d.chance is not None]
    if known:
        f.expected, f.of = sum(known), len(known)


def see(workspace: Workspace, row_id: SequenceId) -> models.SequenceFigures:
    """Everything a sequence's page shows of it."""
    row, db = row_of(workspace, row_id), workspace.store.read()
    definition, mails = definition_of(row), sequences.mails(db, row_id)
    figures, added, compared = per_step(workspace, row_id, definition, row.version)
    missing = validation.missing(workspace, row_id) if row.state != SequenceState.ENDED else []
    inside = sum(f.here for f in figures.values())
    entering = next((r.people for r in sequences.steps(db, row_id) if r.step == 0), 0)
    queued = enrolments.in_queue(db, row_id)
    why: Counter[str] = Counter()
    for r in sequences.left(db, row_id):
        why[r.why or ""] += r.people
    draft = row.state == SequenceState.DRAFT
    begin = replace(definition.begin, first_day=0) if inside + finished_of(workspace, row_id) else definition.begin
    return models.SequenceFigures(
        id=row_id,
        name=row.name,
        state=row.state,
        paused_why=row.paused_why,
        version=row.version,
        versions=[models.SequenceVersion.read_from(v) for v in sequences.versions(db, row_id)],
        started_at=row.started_at,
        purpose=row.purpose,
        purpose_name=row.purpose_name or "",
        from_address=row.from_address,
        from_name=row.from_name,
        definition=models.DefinitionIn.model_validate(definition.json()),
        next_key=sequences.highest_key(db, row_id) + 1,
        steps=_steps(definition, mails, figures),
        missing=[models.StepLack.read_from(x) for x in missing],
        active=inside + entering,
        queued=queued,
        there=int(condition(workspace, workspace.view(), definition.begin).sum()) if draft else 0,
        finished=finished_of(workspace, row_id),
        left=[models.SequenceLeft(why=w, people=n) for w, n in why.most_common()],
        added=added,
        compared=compared,
        portions=admission.portions(queued, begin)[:MOST_PORTIONS],
        beside=beside(workspace, row_id),
        empty=_empty(row, inside + entering + queued),
    )


def finished_of(workspace: Workspace, row_id: int) -> int:
    """How many people have come to the end of a sequence."""
    return next((r.finished for r in sequences.every(workspace.store.read()) if r.id == row_id), 0)


def _steps(definition: Definition, mails: dict[int, Campaign], figures: dict[int, Figures]) -> list[models.StepShown]:
    days, titles, out = state_machine.days(definition), definition.titles(), []
    for s in definition.steps:
        mail = mails.get(pass_of(definition, s)[0]) if s.kind in MAILS else None
        stopped = mail is not None and mail.state == CampaignState.PAUSED and mail.paused_why != editing.PAUSED
        out.append(
            models.StepShown(
                key=s.key,
                title=titles[s.key],
                day=list(days[s.key]) if s.key in days else None,
                campaign=mail.id if mail is not None else None,
                subject=s.subject or (mail.subject if mail is not None else ""),
                state=mail.state if mail is not None else "",
                paused_why=mail.paused_why if mail is not None and stopped else "",
                figures=models.StepFigures.read_from(figures[s.key]),
            )
        )
    return out


def _empty(row: Sequence, inside: int) -> str:
    """Why nobody is inside a sequence that runs."""
    if row.state != "running" or inside:
        return ""
    begin = definition_of(row).begin
    if begin.on == "manual":
        return "No one is active: people are added manually, and no one was added or all have exited."
    came = CAME[begin.on].format(begin.what)
    return f"No one is active: {came} since the start, or all have exited. Earlier matches are not added."


def beside(workspace: Workspace, row_id: int) -> models.Beside:
    """Campaigns that go out within a week and leave people inside alone: how many, and of how many people inside some
    campaign would have been about the same purpose."""
    db, now = workspace.store.read(), workspace.now()
    soon = {b.campaign for b in batch_table.coming(db, now, now + WEEK) if b.campaign_state in ("scheduled", "sending")}
    alone = [c for c in soon if (r := campaigns.one(db, c)) is not None and not r.with_sequences]
    over = sequences.passed_over_inside(db, row_id, alone) if alone else 0
    return models.Beside(campaigns=len(alone), people=over)


@dataclass(frozen=True)
class Stopped:
    """A sequence, or a step of one, that waits for a decision; and why."""

    sequence: SequenceId
    title: str
    why: str


def held(workspace: Workspace) -> list[Stopped]:
    """What waits for a decision: steps whose mail has paused itself, sequences that paused themselves."""
    db, out = workspace.store.read(), []
    for row in sequences.every(db):
        if row.paused_why:
            out.append(Stopped(row.id, f"{row.name} was paused automatically.", row.paused_why))
        for mail in sequences.mails(db, row.id).values():
            if mail.state == CampaignState.PAUSED and mail.paused_why != editing.PAUSED:
                out.append(Stopped(row.id, f"A step of {row.name} is paused.", mail.paused_why))
    return out


def every(workspace: Workspace) -> list[models.SequenceLine]:
    """All sequences, with who is inside."""
    out = []
    for r in sequences.every(workspace.store.read()):
        definition = definition_of(r)
        out.append(
            models.SequenceLine(
                id=r.id,
                name=r.name,
                state=r.state,
                started_at=r.started_at,
                active=r.active,
                finished=r.finished,
                queued=r.queued,
                purpose=r.purpose_name or "",
                messages=sum(s.kind in MAILS and not s.off for s in definition.steps),
                days=max([b for _, b in state_machine.days(definition).values()], default=0) // DAY,
                begins=begins(definition),
            )
        )
    return out


def begins(definition: Definition) -> str:
    """When it begins, as a sentence."""
    b = definition.begin
    words = {
        "manual": "Starts when people are added manually",
        "joins a list": f"Starts when someone joins {b.what or '…'}",
        "confirms": f"Starts when someone confirms {b.what or '…'}",
        "sign-up pending": f"Starts when a sign-up is pending for {b.what or '…'}",
        "gets a label": f"Starts when someone gets the label {b.what or '…'}",
        "enters a segment": f"Starts when someone enters the segment {b.what or '…'}",
        "a date": f"Starts on the date in the field {b.what or '…'}{', every year' if b.yearly else ''}",
        "books": "Starts when someone books",
    }[b.on]
    again = (
        "once per person"
        if b.again_after is None
        else f"again after {b.again_after // DAY} days"
        if b.again_after
        else "whenever they match"
    )
    limits = []
    if b.first_day:
        limits.append(f"{b.first_day:,} on the first day")
    if b.a_day:
        limits.append(f"at most {b.a_day:,} {'per day' if not b.first_day else 'per day after that'}")
    if b.a_provider:
        limits.append(f"{b.a_provider:,} per provider")
    order = "in random order" if b.random else "first come, first served"
    return f"{words}, {again}." + (f" {', '.join(limits).capitalize()}, {order}." if limits else "")


def at_step_csv(workspace: Workspace, row_id: int, step: int) -> str:
    """Who stands at a step: address, name, since when, and when the next step is due (RFC 3339; empty while sending)."""
    row_of(workspace, SequenceId(row_id))
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(("email", "name", "since", "next_step_at"))
    for r in sequences.at_step(workspace.store.read(), row_id, step, -1):
        goes = r.due_at or r.again
        writer.writerow((safe(r.email), safe(r.name or ""), rfc3339(r.since), rfc3339(goes) if goes else ""))
    return out.getvalue()
