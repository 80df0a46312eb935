"""One person under two addresses: found, and merged so that mail goes to one of them. What happened stays with the address
it happened at."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from openmeadow.core.addresses.aliases import alias_rules
from openmeadow.core.addresses.syntax import address_key
from openmeadow.core.consent.eligibility import GIVEN, SUPPRESSION_REASONS, WITHDRAWN
from openmeadow.core.engagement.bands import UNPROVEN
from openmeadow.core.errors import Missing, Refused
from openmeadow.core.ids import SubscriberId
from openmeadow.services import models
from openmeadow.services.workspace import Workspace
from openmeadow.store import undo_log
from openmeadow.store.rows import SqlValue
from openmeadow.store.segments.permission_facts import StoreFacts
from openmeadow.store.subscribers import consent, similarity, subscribers
from openmeadow.store.subscribers.consent import Claim
from openmeadow.store.subscribers.records import NamedEntry, SubscriberWithSource

MOST_SHOWN = 100
OTHER = 1 + SUPPRESSION_REASONS.index("other")
# what a person said; a bounce or a bad address is about the address alone
SAID = [1 + SUPPRESSION_REASONS.index(r) for r in ("complaint", "unsubscribed from all", "other")]
OWN = ("name", "time_zone", "language", "country")


@dataclass(frozen=True)
class _Taken:
    """What the person who stays takes over."""

    columns: dict[str, SqlValue]
    fields: list[str]
    lists: list[str]
    labels: list[str]
    claims: list[NamedEntry]
    suppressions: list[tuple[int, int]]  # reason, moment


def found(workspace: Workspace) -> list[models.Duplicate]:
    """Pairs that are most likely one person: two addresses of one mailbox, or one name with one part before the @. The
    more engaged one is proposed to stay. Suppressed ones are left out: no mail goes there twice."""
    view = workspace.view()
    assert isinstance(view.facts, StoreFacts)
    box = similarity.one_mailbox(view.facts, alias_rules(workspace.setting("alias_rules")))
    alike = similarity.one_name(view.facts)
    free = view.alive & (view.facts.suppressed() == 0)
    score, band, ids, out = view.scores.score, view.scores.band, view.facts.ids, list[models.Duplicate]()
    seen: set[tuple[int, int]] = set()
    for group, why in ((box, "same mailbox"), (alike, "same name, same part before the @")):
        some = np.flatnonzero(free & (group > 0))
        some = some[np.lexsort((some, -score[some], band[some] == UNPROVEN, group[some]))]
        first = some[0] if len(some) else 0
        for person in some.tolist():
            if group[person] != group[first]:
                first = person
            pair = (int(ids[first]), int(ids[person]))
            if person != first and pair not in seen and len(out) < MOST_SHOWN:
                seen.add(pair)
                out.append(models.Duplicate(keep=_line(workspace, pair[0]), other=_line(workspace, pair[1]), why=why))
    return out


def _line(workspace: Workspace, row_id: int) -> models.DuplicatePerson:
    row = subscribers.by_ids(workspace.store.read(), [row_id])[row_id]
    return models.DuplicatePerson(id=row.id, email=row.email, name=row.name or "")


def _both(workspace: Workspace, keep: SubscriberId, email: str) -> tuple[SubscriberWithSource, SubscriberWithSource]:
    db = workspace.store.read()
    other = subscribers.ids_of(db, [address_key(email.strip())]).get(address_key(email.strip()))
    if other is None:
        raise Missing(f"{email.strip()[:80]} is no subscriber.")
    if other == keep:
        raise Refused("This is the same address.")
    rows = [subscribers.subscriber(db, SubscriberId(i)) for i in (keep, other)]
    if rows[0] is None or rows[1] is None or rows[0].erased_at or rows[1].erased_at:
        raise Missing("This subscriber does not exist.")
    return rows[0], rows[1]


def _taken(workspace: Workspace, keep: SubscriberWithSource, other: SubscriberWithSource) -> _Taken:
    db = workspace.store.read()
    lists, labels = subscribers.lists_of(db, keep.id), subscribers.labels_of(db, keep.id)
    have = {s.reason for s in subscribers.suppressions_of(db, keep.id)}
    return _Taken(
        columns={c: getattr(other, c) for c in OWN if getattr(other, c) and not getattr(keep, c)},
        fields=[f for f, v in other.fields.items() if v and not keep.fields.get(f)],
        lists=[x for x in subscribers.lists_of(db, other.id) if x not in lists],
        labels=[x for x in subscribers.labels_of(db, other.id) if x not in labels],
        claims=_carried(subscribers.consent_history(db, keep.id), subscribers.consent_history(db, other.id)),
        suppressions=[
            (s.reason, s.at)
            for s in subscribers.suppressions_of(db, other.id)
            if s.reason in SAID and s.reason not in have
        ],
    )


def _carried(mine: list[NamedEntry], theirs: list[NamedEntry]) -> list[NamedEntry]:
    """Of the latest words at the other address, by purpose and channel: a withdrawal that is later than anything said at
    this one, and a consent where nothing was said at this one."""
    last = {(e.purpose, e.channel): e.at for e in reversed(mine)}
    latest = {(e.purpose, e.channel): e for e in reversed(theirs)}
    return [
        e
        for about, e in sorted(latest.items())
        if (e.state == WITHDRAWN and e.at >= last.get(about, 0)) or (e.state == GIVEN and about not in last)
    ]


def plan(workspace: Workspace, keep_id: SubscriberId, email: str) -> models.MergePlan:
    """What merging would do; nothing is changed."""
    keep, other = _both(workspace, keep_id, email)
    taken = _taken(workspace, keep, other)
    own = [*taken.columns, *taken.fields]
    takes = [f"{word} {', '.join(x)}" for word, x in (("Lists:", taken.lists), ("Labels:", taken.labels)) if x]
    if own:
        takes.append(f"Empty here, filled from there: {', '.join(c.replace('_', ' ') for c in own)}")
    for e in taken.claims:
        takes.append(f"Consent to {e.purpose_name} by {e.channel}: {'given' if e.state == GIVEN else 'withdrawn'} there")
    takes += [f"Suppression: {SUPPRESSION_REASONS[reason - 1]}" for reason, _ in taken.suppressions]
    people = [_line(workspace, row.id) for row in (keep, other)]
    return models.MergePlan(keep=people[0], other=people[1], takes=takes)


def merge(workspace: Workspace, keep_id: SubscriberId, email: str, who: str) -> int:
    """One person from now on: the one who stays takes over what ``plan`` says, the other gets no more mail. The action
    by which it is undone."""
    keep, other = _both(workspace, keep_id, email)
    taken, now, source = _taken(workspace, keep, other), workspace.now(), f"as {other.email}"
    with workspace.store.atomic() as db:
        action = undo_log.begin(db, now, who, "merged duplicates", f"{other.email} into {keep.email}", 2, "person")
        columns = dict(taken.columns)
        if taken.fields:
            columns["fields"] = subscribers.fields_json(keep.fields | {f: other.fields[f] for f in taken.fields})
        if columns:
            with undo_log.remembering(db, action):
                subscribers.set_person(db, keep.id, columns)
        of = {kind: [subscribers.named(db, kind, x)[0] for x in getattr(taken, kind)] for kind in ("lists", "labels")}
        subscribers.add_members(db, [(row_id, keep.id, now, action) for row_id in of["lists"]])
        subscribers.add_labels(db, [(row_id, keep.id, action) for row_id in of["labels"]])
        gone = [(other.id, OTHER, now, f"same person as {keep.email}", action)]
        subscribers.add_suppressions(db, gone + [(keep.id, r, at, source, action) for r, at in taken.suppressions])
        consent.add(db, [_claim(keep.id, e, other.email, action) for e in taken.claims])
        subscribers.people_changed(db)
    return action


def _claim(keep: SubscriberId, e: NamedEntry, email: str, action: int) -> Claim:
    source = f"{e.source}, as {email}" if e.source else f"as {email}"
    return Claim(
        keep, e.purpose, e.state, e.at, e.channel, e.method, source, e.wording_text or e.wording, e.reason, action=action
    )
