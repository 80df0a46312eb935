"""The figures of a message, in people: the one place where delivered, opened, clicked and the rest are counted."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from openmeadow.core.arrays import FAR, I64, NEVER, Mask
from openmeadow.core.columns import MACHINE, UNSURE
from openmeadow.core.events import Kind
from openmeadow.core.ids import CampaignId, MessageId
from openmeadow.core.moments import MINUTE
from openmeadow.core.rules.conditions import View
from openmeadow.core.states import SendKind
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.campaigns import deliveries, delivery_columns, guardrail_counts
from openmeadow.store.campaigns.delivery_columns import DeliveryColumns
from openmeadow.store.engagement import event_counts, events
from openmeadow.store.subscribers.subscribers import people_version

SURE = 0
MOST_KEPT = 2  # campaigns whose deliveries are kept


@dataclass(frozen=True)
class Whole:
    """A message's figures as a whole."""

    sent: int
    delivered: int
    opened: int
    clicked: int
    machine_only: int


class MessageFigures:
    """One message: who was sent it and what they did about it. Arrays with one entry a person, by store id."""

    def __init__(self, view: View, message: MessageId) -> None:
        rows, now = view.rows_of(message), view.now
        sent = np.flatnonzero(rows.first_at <= now)
        self.person, people = rows.person[sent], view.columns.people.id
        self.ids: I64 = people[self.person]
        self.delivered: Mask = np.asarray(rows.failed_at[sent] > now)
        opened_at = np.minimum(rows.opened_at[sent], rows.reacted_at[sent])
        self.opened: Mask = np.asarray(self.delivered & (opened_at <= now))
        self.clicked: Mask = np.asarray(self.delivered & (rows.clicked_at[sent] <= now))
        self.machine: Mask = np.asarray(self.delivered & ~self.opened & (rows.machine_at[sent] <= now))
        acts = view.acts_of(message)
        past = np.flatnonzero(acts.at <= now)
        self.act_person, self.act_at, self.act_kind = people[acts.person[past]], acts.at[past], acts.kind[past]
        self.act_by, self.act_value = acts.by[past], acts.value[past]

    def of(self, mask: Mask) -> dict[str, int]:
        """Sent, delivered, opened, clicked and machine only among some of the people."""
        return {
            "sent": int(mask.sum()),
            "delivered": int((mask & self.delivered).sum()),
            "opened": int((mask & self.opened).sum()),
            "clicked": int((mask & self.clicked).sum()),
            "machine_only": int((mask & self.machine).sum()),
        }

    @property
    def everybody(self) -> Mask:
        """A mask of all deliveries of the message."""
        return np.ones(len(self.ids), bool)

    @property
    def bookings(self) -> Mask:
        """Which of the acts are bookings."""
        return np.asarray((self.act_kind == Kind.BOOKED) & (self.act_by != MACHINE))

    def among(self, subscribers: I64, *values: Mask) -> list[Mask]:
        """For each of these people (ascending ids) what each of ``values`` says of them; False where they were sent
        nothing."""
        place, there = self.places(subscribers)
        return [np.asarray(there & v[place]) if len(self.ids) else there for v in values]

    def places(self, subscribers: I64) -> tuple[I64, Mask]:
        """Where each of these people stands, and whether they do."""
        place = np.minimum(np.searchsorted(self.ids, subscribers), max(len(self.ids) - 1, 0))
        there = self.ids[place] == subscribers if len(self.ids) else np.zeros(len(subscribers), bool)
        return place, np.asarray(there)

    def unsure(self, subscribers: I64) -> Mask:
        """Whose opens and clicks are all uncertain."""
        unsure, sure = (self._acted(subscribers, self.act_by == by) for by in (UNSURE, SURE))
        return unsure & ~sure

    def _acted(self, subscribers: I64, which: Mask) -> Mask:
        """Which of these people (ascending ids) did one of some acts."""
        out, acted = np.zeros(len(subscribers), bool), self.act_person[which]
        place = np.searchsorted(subscribers, acted)
        ok = place < len(subscribers)
        ok[ok] = subscribers[place[ok]] == acted[ok]
        out[place[ok]] = True
        return out

    def last_act(self, subscribers: I64, kind: Kind | None = None) -> I64:
        """When each of these people (ascending ids) last engaged with it by themselves; NEVER where they did not."""
        human = self.act_by != MACHINE
        if kind is not None:
            human &= self.act_kind == kind
        out = np.full(len(subscribers), NEVER, np.int64)
        place = np.searchsorted(subscribers, self.act_person[human])
        ok = place < len(subscribers)
        ok[ok] = subscribers[place[ok]] == self.act_person[human][ok]
        out[place[ok]] = self.act_at[human][ok]  # in the order of time within a person: the last one stays
        return out


class Outcomes:
    """When each person first complained about a message, unsubscribed from it, or it bounced."""

    def __init__(self, workspace: Workspace, message: MessageId, now: int) -> None:
        self.first = event_counts.first_of_message(workspace.store.read(), message, now)

    def at(self, kind: Kind, subscribers: I64) -> I64:
        """For each of these people (ascending ids) when it happened; FAR where it did not."""
        out = np.full(len(subscribers), FAR, np.int64)
        found = self.first.get(kind, {})
        if found and len(subscribers):
            ids, at = (np.fromiter(x, np.int64, len(found)) for x in (found.keys(), found.values()))
            place = np.minimum(np.searchsorted(subscribers, ids), len(subscribers) - 1)
            ok = subscribers[place] == ids
            out[place[ok]] = at[ok]
        return out


class _Deliveries:
    """The deliveries of the campaigns looked at last, read again when any of them has changed."""

    def __init__(self, workspace: Workspace) -> None:
        self.workspace = workspace
        self.kept: dict[CampaignId, tuple[object, dict[SendKind, DeliveryColumns]]] = {}

    def of(self, campaign: CampaignId) -> dict[SendKind, DeliveryColumns]:
        store = self.workspace.store
        db = store.read()
        changed = guardrail_counts.last_change(db, campaign)
        # some change their state and keep the moment of their last try, or change by an act that is logged
        counts = tuple(sorted(deliveries.state_counts(db, campaign).items()))
        mark = (changed, counts, settings.last_activity(db), people_version(db))
        found = self.kept.pop(campaign, None)
        if found is None or found[0] != mark or changed >= self.workspace.now() - 1:
            found = (mark, {kind: delivery_columns.of_campaign(store.read, campaign, kind) for kind in SendKind})
        while len(self.kept) >= MOST_KEPT:
            self.kept.pop(next(iter(self.kept)))
        self.kept[campaign] = found
        return found[1]


def deliveries_of(workspace: Workspace, campaign: CampaignId) -> dict[SendKind, DeliveryColumns]:
    """The deliveries of each of a campaign's sends."""
    return workspace.part(_Deliveries).of(campaign)


class _Every:
    """The figures of every message, kept until other events are there or the minute is over."""

    def __init__(self, workspace: Workspace) -> None:
        self.workspace = workspace
        self.kept: tuple[tuple[int, int], dict[int, Whole]] | None = None

    def see(self) -> dict[int, Whole]:
        mark = (events.highest(self.workspace.store.read()), self.workspace.now() // MINUTE)
        if self.kept is None or self.kept[0] != mark:
            self.kept = (mark, _count_every(self.workspace.view()))
        return self.kept[1]


def _count_every(view: View) -> dict[int, Whole]:
    total: dict[int, list[int]] = {}
    for part in view.parts():
        rows, now = part.columns.rows, view.now
        sent = rows.first_at <= now
        sent &= part.counts(rows.person)
        delivered = sent & (rows.failed_at > now)
        opened = delivered & ((rows.opened_at <= now) | (rows.reacted_at <= now))
        machine = delivered & ~opened & (rows.machine_at <= now)
        clicked = delivered & (rows.clicked_at <= now)
        counts = [np.bincount(rows.message[m]) for m in (sent, delivered, opened, clicked, machine)]
        for message in np.flatnonzero(counts[0]).tolist():
            values = [int(c[message]) if message < len(c) else 0 for c in counts]
            total[message] = [a + b for a, b in zip(total.get(message, [0] * 5), values, strict=True)]
    return {message: Whole(*values) for message, values in total.items()}


def every(workspace: Workspace) -> dict[int, Whole]:
    """The figures of each message that was sent, by its id."""
    return workspace.part(_Every).see()
