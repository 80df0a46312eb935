"""What the step machine asks about people: questions of steps, reasons to leave, the condition of entering."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo, available_timezones

import numpy as np

from openmeadow.core.arrays import Mask
from openmeadow.core.consent.eligibility import CONSENT_STATES, GIVEN, SUPPRESSION_REASONS, WITHDRAWN
from openmeadow.core.engagement.bot_detection import MACHINE
from openmeadow.core.errors import Missing
from openmeadow.core.events import Kind
from openmeadow.core.ids import NO_MESSAGE, MessageId, SubscriberId
from openmeadow.core.rules.conditions import View
from openmeadow.core.rules.parser import parse
from openmeadow.core.sequences.definition import Begin, Definition, Step
from openmeadow.services.workspace import Workspace
from openmeadow.store.segments.permission_facts import StoreFacts
from openmeadow.store.sequences import enrolments
from openmeadow.store.sequences.records import Enrolment

ANSWERS = (Kind.OPENED, Kind.CLICKED, Kind.REPLIED, Kind.BOOKED)
STRONGER = (Kind.CLICKED, Kind.REPLIED, Kind.BOOKED)
_ZONES = available_timezones()


def zones(home: str, own: str | None) -> Callable[[Step], ZoneInfo]:
    """By which clock each step waits: the workspace's, or a person's own where the step goes by it and it is known."""
    known = ZoneInfo(own) if own and own in _ZONES else ZoneInfo(home)
    return lambda step: known if step.own_zone else ZoneInfo(home)


class Asked:
    """Answers about the people of some open stays, each question worked out once for all of them."""

    def __init__(
        self, workspace: Workspace, definition: Definition, messages: dict[int, MessageId], them: Collection[Enrolment]
    ) -> None:
        """``messages`` gives each mailing step's message."""
        self.workspace, self.definition, self.messages = workspace, definition, messages
        by_id = sorted(them, key=lambda t: t.subscriber)
        self.ids = np.array([t.subscriber for t in by_id], np.int64)
        self.entered = np.array([t.entered_at for t in by_id], np.int64)
        self.enrolment = {int(t.subscriber): int(t.id) for t in by_id}
        self._view: View | None = None
        self._answers: dict[int, Mask] = {}

    @property
    def view(self) -> View:
        if self._view is None:
            self._view = self.workspace.view_of(self.ids, self.workspace.pace())
        return self._view

    def place(self, subscriber: SubscriberId) -> int:
        return int(np.searchsorted(self.ids, subscriber))

    def answer(self, step: Step, subscriber: SubscriberId) -> bool:
        """A step's question about one person; a repeat asks whether its message was answered."""
        if step.key not in self._answers:
            if step.kind == "condition" and step.asks == "rule":
                found = self.rule(step.rule)
            else:
                kinds = STRONGER if step.asks == "clicked" and step.kind == "condition" else ANSWERS
                found = self.acted(kinds, {self.messages.get(step.of, NO_MESSAGE)})
                if step.kind == "resend":  # who never got it left nothing ignored
                    found |= ~self.got(self.messages.get(step.of, NO_MESSAGE))
            self._answers[step.key] = found
        return bool(self._answers[step.key][self.place(subscriber)])

    def rule(self, text: str) -> Mask:
        return self.view.mask(self.workspace.checked_rule(text, self.view))

    def acted(self, kinds: Sequence[Kind], messages: set[MessageId] | None) -> Mask:
        """Who did one of these, themselves, since entering; about some messages, or anything."""
        acts = self.view.columns.acts
        hit = (acts.by != MACHINE) & np.isin(acts.kind, [int(k) for k in kinds]) & (acts.at <= self.view.now)
        hit &= acts.at >= self.entered[acts.person] if len(self.entered) else False
        if messages is not None:
            hit &= np.isin(acts.message, sorted(messages))
        out = np.zeros(len(self.ids), bool)
        out[acts.person[hit]] = True
        return out

    def got(self, message: MessageId) -> Mask:
        """To whom a message was sent, or may have been, in this enrolment."""
        db = self.workspace.store.read()
        return np.isin(self.ids, enrolments.received(db, list(self.enrolment.values()), message), assume_unique=True)

    def leaving(self, purpose: str) -> dict[int, str]:
        """Who leaves at once, and why: subscriber -> the reason; the first that applies."""
        facts, leave = self.workspace.facts_of(self.ids), self.definition.leave
        suppressed = facts.suppressed()
        consent = facts.consent(purpose) if purpose else np.zeros(len(self.ids), np.int8)
        reasons: list[tuple[str, Mask]] = [
            ("erased", facts.erased),
            ("consent withdrawn", np.asarray(consent == WITHDRAWN)),
            *((why, np.asarray(suppressed == 1 + i)) for i, why in enumerate(SUPPRESSION_REASONS)),
        ]
        if leave.confirmed:
            reasons.append(("confirmed", np.asarray(consent == GIVEN)))
        if leave.booked:
            reasons.append(("booked", self.acted((Kind.BOOKED,), None)))
        if leave.engaged:
            reasons.append(("engaged", self.acted(ANSWERS, set(self.messages.values()))))
        if leave.rule.strip():
            reasons.append((leave.rule.strip(), self.rule(leave.rule)))
        out: dict[int, str] = {}
        for why, mask in reasons:
            for i in np.flatnonzero(mask).tolist():
                out.setdefault(int(self.ids[i]), why)
        return out


def _its_day(facts: StoreFacts, begin: Begin, now: int, home: str) -> Mask:
    """For whom the date in the field is today: by the workspace's day, and already by their own where theirs is ahead, so
    that ten in the morning there is not missed."""
    utc = datetime.fromtimestamp(now, UTC)
    today = utc.astimezone(ZoneInfo(home)).date()
    found = facts.date_is(begin.what, today, begin.yearly)
    if ahead := sorted(z for z in _ZONES if utc.astimezone(ZoneInfo(z)).date() > today):
        found = found | facts.date_is(begin.what, today + timedelta(days=1), begin.yearly, ahead)
    return found


def condition(workspace: Workspace, view: View, begin: Begin) -> Mask:
    """For whom the condition of entering holds now."""
    facts = view.facts
    assert isinstance(facts, StoreFacts)
    nobody = np.zeros(len(view.alive), bool)
    try:
        if begin.on == "joins a list":
            found = facts.in_list(begin.what)
        elif begin.on == "gets a label":
            found = facts.has_label(begin.what)
        elif begin.on == "enters a segment":
            found = view.mask(facts.segment(begin.what))
        elif begin.on == "confirms":
            found = np.asarray(facts.consent(begin.what) == GIVEN)
        elif begin.on == "sign-up pending":
            found = np.asarray(facts.consent(begin.what) == CONSENT_STATES.index("pending"))
        elif begin.on == "books":
            found = view.mask(parse("booked at least 1 in 1 days"))
        elif begin.on == "a date":
            found = _its_day(facts, begin, view.now, str(workspace.setting("time_zone")))
        else:
            found = nobody
    except Missing:
        return nobody  # what it named is not there any more; the page says so
    return found & view.alive
