"""One subscriber: why this score, everything that happened, why they will or won't receive each purpose."""

from __future__ import annotations

import sqlite3
from zoneinfo import available_timezones

import numpy as np

from openmeadow.core.addresses.syntax import address_key
from openmeadow.core.addresses.verdicts import VERDICTS
from openmeadow.core.arrays import NEVER
from openmeadow.core.consent.eligibility import CONSENT_STATES, SUPPRESSION_REASONS
from openmeadow.core.engagement.bands import BANDS
from openmeadow.core.engagement.bot_detection import BY_OF_REASON, REASONS, WORDS
from openmeadow.core.engagement.explanation import explain as explained
from openmeadow.core.errors import Missing, Refused
from openmeadow.core.events import Kind
from openmeadow.core.fields import FieldType, kept
from openmeadow.core.ids import SubscriberId
from openmeadow.core.moments import DAY
from openmeadow.core.rules.conditions import View
from openmeadow.services import models
from openmeadow.services.workspace import Workspace
from openmeadow.store import undo_log
from openmeadow.store.engagement import events
from openmeadow.store.engagement.records import SubscriberEvent
from openmeadow.store.health import reports
from openmeadow.store.health.providers import names as provider_names
from openmeadow.store.rows import SqlValue
from openmeadow.store.segments.permission_facts import StoreFacts
from openmeadow.store.subscribers import fields as field_table
from openmeadow.store.subscribers import selections, subscribers
from openmeadow.store.subscribers.records import SubscriberWithSource, Verdict

TRACE = 24


def find(workspace: Workspace, email: str) -> SubscriberId:
    """The subscriber with an address; Missing where there is none."""
    ids = subscribers.ids_of(workspace.store.read(), [address_key(email.strip())])
    if not ids:
        raise Missing(f"There is no subscriber with the address {email}.")
    return next(iter(ids.values()))


def trace(view: View, person: int, length: int = TRACE) -> str:
    """One letter a message, oldest first: c clicked, o opened, m machine only, n nothing, b bounced."""
    columns, place = view.of_person(person)
    rows, a, b = columns.rows, int(columns.start[place]), int(columns.start[place + 1])
    out = []
    for r in range(b - 1, a - 1, -1):
        if rows.first_at[r] > view.now:
            continue
        out.append(
            "b"
            if rows.failed_at[r] <= view.now
            else "c"
            if rows.reacted_at[r] <= view.now
            else "o"
            if rows.opened_at[r] <= view.now
            else "m"
            if rows.machine_at[r] <= view.now
            else "n"
        )
        if len(out) == length:
            break
    return "".join(reversed(out))


def explain(workspace: Workspace, subscriber: SubscriberId, as_of: int | None = None) -> models.Why:
    """Score, band and every term of it."""
    view = workspace.view(as_of) if as_of is not None else _alone(workspace, subscriber)
    return _explained(workspace, view, workspace.index_of(view, subscriber))


def _alone(workspace: Workspace, subscriber: SubscriberId) -> View:
    """What is true of one person now, at a cost that does not follow the workspace's size."""
    return workspace.view_of(np.array([subscriber], np.int64), workspace.pace())


def _explained(workspace: Workspace, view: View, p: int) -> models.Why:
    s, names = view.scores, events.message_names(workspace.store.read())
    columns, place = view.of_person(p)
    told = explained(columns, place, s, hidden=bool(s.hidden[p]))
    last = int(s.last_engaged[p])
    return models.Why(
        score=round(100 * told.chance, 4),
        chance=told.chance,
        active=told.active,
        rate=told.rate,
        band=BANDS[s.band[p]],
        engaged=int(s.engaged[p]),
        ignored=int(s.ignored[p]),
        counted=told.counted,
        counted_engaged=told.engaged,
        last_engaged_at_message=told.last,
        ignored_now=told.ignored_now,
        ignored_before=told.ignored_before,
        if_engaged=told.if_engaged,
        if_ignored=told.if_ignored,
        masked=told.masked,
        own_history=s.basis.models.reading.is_own,
        last_engaged=None if last == NEVER else last,
        as_of=view.now,
        window_days=s.cadence.window,
        settled_days=round(s.cadence.settled / DAY, 2),
        steps=[
            models.Step(message=names.get(t.message, ""), at=t.at, what=t.what, counts=t.counts, chance=t.chance)
            for t in reversed(told.steps)
        ],
    )


def in_words(why: models.Why) -> str:
    """Why somebody has their score, in counts."""
    verb, doing = ("clicked in", "clicks in") if why.masked else ("engaged with", "engages with")
    if not why.counted:
        return "no message counts yet; this is the chance of a newcomer"
    said = [f"{verb} {why.counted_engaged} of the last {why.counted}"]
    if why.ignored_now:
        usual = f" (usual for them: up to {why.ignored_before})" if why.counted_engaged else ""
        last = f"the last {why.ignored_now}" if why.ignored_now > 1 else "the last one"
        said.append(f"{'did not click in' if why.masked else 'ignored'} {last}{usual}")
    said.append(f"{100 * why.active:.0f}% likely still active")
    said.append(f"{doing} {100 * why.rate:.0f}% of messages while active: {100 * why.chance:.0f}")
    return "; ".join(said)


def _permission(db: sqlite3.Connection, view: View, p: int) -> list[models.Permission]:
    """For each purpose, whether they may be mailed now, and every reason against it."""
    assert isinstance(view.facts, StoreFacts)
    gates = []
    for purpose in subscribers.names(db, "purposes"):
        answer = view.facts.may(purpose.name, limits=True)
        gates.append(
            models.Permission(purpose=purpose.name, permitted=bool(answer.permitted[p]), reasons=answer.why_not(p))
        )
    return gates


def _activity(db: sqlite3.Connection, view: View, p: int, subscriber: SubscriberId, most: int) -> list[models.Happened]:
    """What happened, the newest first, with who each open and click was."""
    why = _why(view, p)
    return [
        models.Happened(
            at=e.at,
            event=Kind(e.kind).name.lower(),
            message=e.message_name or "",
            link=e.url or "",
            agent=e.agent_text or "",
            ip=e.ip or "",
            code=e.code or "",
            diagnostic=e.diagnostic or "",
            value=e.value,
            delivery=events.delivery_of(e),
            who=WORDS[BY_OF_REASON[why[e.at, e.kind, e.message]]] if _looked(e, why) else "",
            because=REASONS[why[e.at, e.kind, e.message]] if _looked(e, why) else "",
        )
        for e in events.of_subscriber(db, subscriber, most)
    ]


def _consent(db: sqlite3.Connection, subscriber: SubscriberId) -> list[models.ConsentEntry]:
    """Every entry of their consent record."""
    return [
        models.ConsentEntry(
            purpose=c.purpose_name,
            channel=c.channel,
            state=CONSENT_STATES[c.state],
            at=c.at,
            source=c.source or "",
            wording=c.wording or "",
            wording_text=c.wording_text or "",
            method=c.method,
            page=c.page or "",
        )
        for c in subscribers.consent_history(db, subscriber)
    ]


def page(workspace: Workspace, subscriber: SubscriberId, most: int = 2_000) -> models.Person:
    """Everything a person's page shows."""
    db = workspace.store.read()
    row = subscribers.subscriber(db, subscriber)
    if row is None or row.erased_at:
        raise Missing("This subscriber was erased." if row else "This subscriber does not exist.")
    view = _alone(workspace, subscriber)
    p = workspace.index_of(view, subscriber)
    assert isinstance(view.facts, StoreFacts)
    verdict = subscribers.verdict(db, subscriber)
    why = _explained(workspace, view, p)
    soft_people, soft_at = view.facts.soft_failures()
    last_delivered = max((t.at for t in why.steps), default=0)
    soft = int(((soft_people == p) & (soft_at > last_delivered)).sum())
    return models.Person(
        id=subscriber,
        email=row.email,
        name=row.name or "",
        joined_at=row.joined_at,
        source=row.source_name or "",
        provider=provider_names(workspace.store.read())[row.provider],
        time_zone=row.time_zone or "",
        language=row.language or "",
        country=row.country or "",
        lists=subscribers.lists_of(db, subscriber),
        labels=subscribers.labels_of(db, subscriber),
        fields=row.fields,
        trace=trace(view, p, 60),
        why=why,
        signs=_signs(row, soft, verdict),
        notes=[models.Note.read_from(n) for n in subscribers.notes(db, subscriber)],
        sequences=[
            models.Enrolment(name=q.name, entered_at=q.entered_at, left_at=q.left_at, finished=bool(q.finished))
            for q in subscribers.enrolments(db, subscriber)
        ],
        verdict=None
        if verdict is None
        else models.Verdict(
            verdict=VERDICTS[verdict.verdict], reasons=verdict.reasons, suggestion=verdict.suggestion or "", at=verdict.at
        ),
        permission=_permission(db, view, p),
        events=_activity(db, view, p, subscriber, most),
        consent=_consent(db, subscriber),
        returned=[
            models.ReturnedMail(id=r.id, at=r.at, kind=r.kind, diagnostic=r.diagnostic or "")
            for r in reports.mail_of(db, subscriber)
        ],
        suppressed=[
            models.Suppressed(reason=SUPPRESSION_REASONS[s.reason - 1], at=s.at, source=s.source)
            for s in subscribers.suppressions_of(db, subscriber)
        ],
    )


def _looked(event: SubscriberEvent, why: dict[tuple[int, int, int], int]) -> bool:
    return (event.at, event.kind, event.message) in why


def _why(view: View, person: int) -> dict[tuple[int, int, int], int]:
    """The reason behind each of a person's opens and clicks, by moment, kind and message."""
    acts = view.columns.acts
    a, b = np.searchsorted(acts.person, (person, person + 1))
    return {
        (int(acts.at[i]), int(acts.kind[i]), int(acts.message[i])): int(acts.why[i])
        for i in range(a, b)
        if acts.kind[i] in (Kind.OPENED, Kind.CLICKED)
    }


def _signs(row: SubscriberWithSource, soft: int, verdict: Verdict | None) -> list[str]:
    """What stands beside the score and is not in it."""
    out = []
    if soft:
        out.append(f"{soft} soft {'bounce' if soft == 1 else 'bounces'} in a row since the last delivered message")
    if row.rejoined_at:
        out.append("rejoined after an unsubscribe; the band starts again from then")
    if verdict is not None and VERDICTS[verdict.verdict] in ("risky", "undeliverable"):
        out.append(f"the address is {VERDICTS[verdict.verdict]}: {'; '.join(verdict.reasons)}")
    return out


def edit(workspace: Workspace, subscriber: SubscriberId, values: models.PersonChanges, who: str) -> int:
    """Change a person's name, time zone, language, country, fields or labels; the action by which it is undone.

    ``fields`` and ``labels`` are given whole: what is not among them is taken off.
    """
    row = subscribers.subscriber(workspace.store.read(), subscriber)
    if row is None or row.erased_at:
        raise Missing("This subscriber does not exist.")
    if (zone := values.get("time_zone")) and zone not in available_timezones():
        raise Refused(f"“{zone}” is not a time zone; use a name such as Europe/Lisbon.")
    columns: dict[str, SqlValue] = {
        k: str(v) if v else None for k, v in values.items() if k in ("name", "time_zone", "language", "country")
    }
    if "fields" in values:
        given = {k.strip(): v.strip() for k, v in values["fields"].items() if k.strip() and v.strip()}
        fields = _as_typed(workspace, given, row.fields)
        columns["fields"] = subscribers.fields_json(fields)
    with workspace.store.atomic() as db:
        action = undo_log.begin(db, workspace.now(), who, "changed", row.email, 1, "person")
        with undo_log.remembering(db, action):
            if columns:
                subscribers.set_person(db, subscriber, columns)
        if "fields" in values:
            field_table.add(db, fields)
        if "labels" in values:
            wanted = {v.strip() for v in values["labels"] if v.strip()}
            have = set(subscribers.labels_of(db, subscriber))
            ids = {name: subscribers.named(db, "labels", name)[0] for name in wanted - have}
            subscribers.add_labels(db, [(row_id, subscriber, action) for row_id in ids.values()])
            for name in have - wanted:
                selections.take_label_off(db, name, [subscriber], action)
    return action


def _as_typed(workspace: Workspace, given: dict[str, str], before: dict[str, str]) -> dict[str, str]:
    """Values as their fields keep them. Refused where a changed one is no number, or no date."""
    types, out = field_table.types(workspace.store.read()), {}
    for name, value in given.items():
        kind = types.get(name, FieldType.TEXT)
        typed = kept(value, kind)
        if typed is None and before.get(name) != value:
            like = "12.5" if kind == FieldType.NUMBER else "2026-03-12"
            raise Refused(f"“{value[:40]}” is not a {kind} for “{name}”; write it like {like}.")
        out[name] = value if typed is None else typed
    return out


MOST_TRACED = 100_000  # messages in the line of everything that happened


def everything(workspace: Workspace, subscriber: SubscriberId, who: str) -> models.Person:
    """All that is known about one person, as one document (GDPR art. 15), with a record that it was given out."""
    found = page(workspace, subscriber, most=1_000_000)
    view = _alone(workspace, subscriber)
    found = found.model_copy(update={"trace": trace(view, workspace.index_of(view, subscriber), MOST_TRACED)})
    with workspace.store.atomic() as db:
        undo_log.begin(db, workspace.now(), who, "exported everything about", f"subscriber {subscriber}", 1, None)
    return found


def note(workspace: Workspace, subscriber: SubscriberId, text: str, who: str) -> int:
    """Write a note about a person."""
    if not text.strip():
        raise Refused("Write a note first.")
    if subscribers.subscriber(workspace.store.read(), subscriber) is None:
        raise Missing("This subscriber does not exist.")
    with workspace.store.atomic() as db:
        return subscribers.add_note(db, subscriber, workspace.now(), who, text.strip())


def drop_note(workspace: Workspace, subscriber: SubscriberId, row_id: int) -> None:
    """Remove a note about a person."""
    with workspace.store.atomic() as db:
        if not subscribers.remove_note(db, subscriber, row_id):
            raise Missing("This note does not exist.")
