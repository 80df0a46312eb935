"""When this workspace's people answer, by local hour."""

from __future__ import annotations

from datetime import UTC, datetime
from zoneinfo import ZoneInfo, available_timezones

import numpy as np

from openmeadow.core.arrays import I8, I32, I64, Mask
from openmeadow.core.columns import MACHINE
from openmeadow.core.delivery.hours import best, own_hours
from openmeadow.core.delivery.time_zones import NO_HOUR
from openmeadow.core.events import Kind
from openmeadow.core.moments import DAY, HOUR
from openmeadow.core.rules.conditions import View
from openmeadow.services import models
from openmeadow.services.campaigns import waits
from openmeadow.services.workspace import Workspace
from openmeadow.store.segments.permission_facts import StoreFacts
from openmeadow.store.subscribers.similarity import zones
from openmeadow.store.subscribers.subscribers import facts_version

HARDLY_TRIED = 0.8
DAYS, FEW = 365, 100
QUARTER = HOUR // 4  # clocks are ahead of UTC by whole quarters of an hour


def zones_of(workspace: Workspace, view: View) -> tuple[list[ZoneInfo], I32]:
    """The zones in use and each person's place in them; the first is the workspace's, for those without one."""
    assert isinstance(view.facts, StoreFacts)
    names, place = zones(view.facts)
    known, home = available_timezones(), str(workspace.setting("time_zone"))
    return [ZoneInfo(n if n in known else home) for n in names], place


class _Learned:
    """What is known of everybody's hours, kept for the day; in a small workspace until anything comes."""

    def __init__(self, workspace: Workspace) -> None:
        self.workspace = workspace
        self.mark: object = None

    def see(self, view: View) -> _Learned:
        db = self.workspace.store.read()
        mark = (
            *waits.mark(self.workspace, view),
            facts_version(db),
            self.workspace.setting("time_zone"),
            len(view.alive),
        )
        if mark != self.mark:
            self._learn(view)
            self.mark = mark
        return self

    def _learn(self, view: View) -> None:
        known, zone = zones_of(self.workspace, view)
        since, now = view.now - DAYS * DAY, view.now
        person, at = [], []
        self.went = np.zeros(24, np.int64)
        for part in view.parts():
            acts, rows = part.columns.acts, part.columns.rows
            hit = (acts.at > since) & (acts.at <= now) & (acts.by != MACHINE)
            hit &= (acts.kind == Kind.OPENED) | (acts.kind == Kind.CLICKED)
            hit &= part.counts(acts.person)
            person.append(part.everybodys(acts.person[hit]).astype(np.int32))
            at.append(acts.at[hit])
            sent = (rows.first_at > since) & (rows.first_at <= now)
            sent &= part.counts(rows.person)
            here = zone[part.everybodys(rows.person[sent])]
            self.went += np.bincount(local_hours(rows.first_at[sent], here, known), minlength=24)
        self.person = np.concatenate(person)
        self.hour = local_hours(np.concatenate(at), zone[self.person], known)
        self.own: I8 = own_hours(self.person, self.hour, len(view.alive))


def local_hours(at: I32 | I64, zone: I32, known: list[ZoneInfo]) -> I8:
    """The hour of the day of moments, each by its zone; a day's changes of clocks count from its noon. One look into a
    table of the hours at every quarter of the time that they are of."""
    if not len(at):
        return np.zeros(0, np.int8)
    first, last = int(at.min()) // DAY, int(at.max()) // DAY
    quarters = np.arange(first * DAY, (last + 1) * DAY, QUARTER)
    table = np.zeros((len(known), len(quarters)), np.int8)
    for z in np.flatnonzero(np.bincount(zone, minlength=len(known))).tolist():
        ahead = np.array([_ahead(d * DAY + DAY // 2, known[z]) for d in range(first, last + 1)])
        table[z] = (quarters + np.repeat(ahead, DAY // QUARTER)) // HOUR % 24
    place = at // QUARTER
    place += zone * len(quarters) - first * (DAY // QUARTER)
    return np.asarray(table.ravel()[place], np.int8)


def _ahead(at: int, zone: ZoneInfo) -> int:
    offset = datetime.fromtimestamp(at, UTC).astimezone(zone).utcoffset()
    return int(offset.total_seconds()) if offset else 0


def best_hours(workspace: Workspace, view: View, who: Mask | None = None) -> models.BestHours | None:
    """The best three hours for some people, with how sure that is;
    ``own`` is how many have an hour of their own, ``sent_at`` the hour at which nearly all
    mail went out, so that no other was tried (None where several were). None where there are too few answers."""
    learned = workspace.part(_Learned).see(view)
    hour = learned.hour if who is None else learned.hour[who[learned.person]]
    found = best(np.bincount(hour, minlength=24))
    if found is None:
        return None
    own, went = learned.own != NO_HOUR, learned.went
    around = sum(int(went[(int(np.argmax(went)) + i) % 24]) for i in (-1, 0, 1)) / max(1, int(went.sum()))
    return models.BestHours(
        sent_at=int(np.argmax(went)) if around > HARDLY_TRIED else None,
        begin=found.begin,
        share=found.share.point,
        low=found.share.low,
        high=found.share.high,
        sure=found.sure,
        engagements=len(hour),
        counts=found.counts,
        own=int((own if who is None else own & who).sum()),
    )


def hours_of_each(workspace: Workspace, view: View) -> I8:
    """Everybody's own hour; NO_HOUR where too little is known."""
    return workspace.part(_Learned).see(view).own
