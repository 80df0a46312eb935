"""Clauses about what subscribers received and did: counts, engagement, score and bands."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from openmeadow.core.arrays import I64, NEVER, Figures, Mask
from openmeadow.core.engagement.bands import BANDS
from openmeadow.core.engagement.bot_detection import MACHINE
from openmeadow.core.events import Kind
from openmeadow.core.rules.conditions import Counted, OfMessages, Rule, View, quoted
from openmeadow.core.rules.spans import Span


def earlier(at: I64, edge: float) -> Mask:
    """Times strictly before an edge; whole numbers are compared as such, which is twice as quick."""
    return np.asarray(at < math.ceil(edge))


def later(at: I64, edge: float) -> Mask:
    """Times strictly after an edge."""
    return np.asarray(at > math.floor(edge))


@dataclass(frozen=True)
class Acted(OfMessages):
    """Different messages that somebody did something with in the window, by the time of the act."""

    stream: ClassVar[str] = ""

    def counts(self, view: View) -> Figures:
        return view.streams.messages(self.stream, self.since(view.now), view.now, self.only(view))


class Opened(Acted):
    word = stream = "opened"


class OpenedByAnyone(Acted):
    word = "opened by anyone"
    stream = "opened by anyone"


class Clicked(Acted):
    word = stream = "clicked"


class Replied(Acted):
    word = stream = "replied"


class Engaged(Acted):
    """Opened by a person, clicked, replied to or booked; a booking that belongs to no message counts for itself."""

    word = stream = "engaged"


class Received(OfMessages):
    word = "received"

    def counts(self, view: View) -> Figures:
        return view.streams.delivered(self.since(view.now), view.now, self.only(view))


class Booked(OfMessages):
    word = "booked"
    by_value: ClassVar[bool] = False

    def counts(self, view: View) -> Figures:
        acts = view.columns.acts
        hit = (acts.kind == Kind.BOOKED) & (acts.at > self.since(view.now)) & (acts.at <= view.now)
        if (only := self.only(view)) is not None:
            hit &= np.isin(acts.message, only)
        weights = acts.value[hit] if self.by_value else None
        return np.bincount(acts.person[hit], weights, minlength=len(view.alive))


class BookedWorth(Booked):
    """The sum of what was booked, in the workspace's currency."""

    word = "booked worth"
    by_value = True


@dataclass(frozen=True)
class EngagedWithin(Rule):
    """Engaged at least once within a span of joining."""

    word = "engaged within"
    span: Span

    def text(self) -> str:
        return f"engaged within {self.span.text()} of joining"

    def mask(self, view: View) -> Mask:
        acts, joined = view.columns.acts, view.columns.people.joined_at
        after = acts.at - joined[acts.person]
        hit = (acts.by != MACHINE) & (acts.at <= view.now) & (after >= 0) & (after <= self.span.seconds)
        return np.asarray(view.alive & (np.bincount(acts.person[hit], minlength=len(view.alive)) > 0))


class IgnoredInARow(Counted):
    """Messages received since the last engagement; all of them for who never engaged."""

    word = "ignored"

    def text(self) -> str:
        return f"{self.word} {self.bound.text()} in a row"

    def counts(self, view: View) -> Figures:
        return view.scores.ignored


class SoftBounced(Counted):
    """Soft failures since the last delivered message."""

    word = "soft bounced"

    def text(self) -> str:
        return f"{self.word} {self.bound.text()} in a row"

    def counts(self, view: View) -> Figures:
        person, at = view.facts.soft_failures()
        rows, now = view.columns.rows, view.now
        affected = np.unique(person)
        last = np.full(len(view.alive), NEVER, np.int64)
        for p in affected.tolist():
            mine = slice(int(view.columns.start[p]), int(view.columns.start[p + 1]))
            delivered = (rows.first_at[mine] <= now) & (rows.failed_at[mine] > now)
            if delivered.any():
                last[p] = rows.first_at[mine][delivered].max()
        return np.bincount(person[at > last[person]], minlength=len(view.alive))


class ScoreIs(Counted):
    word = "score"
    limits = (0, 100)

    def counts(self, view: View) -> Figures:
        return view.scores.score


class LikelyActive(Counted):
    """How likely somebody is still active, in per cent."""

    word = "likely active"
    limits = (0, 100)

    def text(self) -> str:
        return f"{super().text()}%"

    def counts(self, view: View) -> Figures:
        return 100.0 * view.scores.active


@dataclass(frozen=True)
class Ignored(Rule):
    """Received a message, and neither opened, clicked, replied nor booked."""

    word = "ignored message"
    message: str

    def text(self) -> str:
        return f"ignored {quoted(self.message)}"

    def mask(self, view: View) -> Mask:
        rows, now = view.columns.rows, view.now
        hit = np.isin(rows.message, view.facts.message_ids(self.message))
        hit &= (rows.first_at <= now) & (rows.failed_at > now) & (rows.opened_at > now) & (rows.reacted_at > now)
        return view.alive & (np.bincount(rows.person[hit], minlength=len(view.alive)) > 0)


@dataclass(frozen=True)
class NeverEngaged(Rule):
    word = "never engaged"

    def text(self) -> str:
        return self.word

    def mask(self, view: View) -> Mask:
        return np.asarray(view.alive & (view.last_engaged == NEVER))


@dataclass(frozen=True)
class NotEngaged(Rule):
    """No engagement in a span; who never engaged is among them."""

    word = "not engaged"
    span: Span

    def text(self) -> str:
        return f"not engaged in {self.span.text()}"

    def mask(self, view: View) -> Mask:
        return view.alive & ~later(view.last_engaged, view.now - self.span.seconds)


@dataclass(frozen=True)
class Ago(Rule):
    """``… more/less than D days ago``, both strictly; a time that never was matches neither."""

    side: str
    span: Span

    def text(self) -> str:
        return f"{self.word} {self.side} than {self.span.text()} ago"

    def times(self, view: View) -> I64:
        """UTC seconds a subscriber; NEVER for none."""
        raise NotImplementedError

    def mask(self, view: View) -> Mask:
        at, edge = self.times(view), view.now - self.span.seconds
        if self.side == "less":
            return np.asarray(view.alive & later(at, edge))
        return np.asarray(view.alive & (at > NEVER) & earlier(at, edge))


class LastEngaged(Ago):
    word = "last engaged"

    def times(self, view: View) -> I64:
        return view.last_engaged


class Joined(Ago):
    word = "joined"

    def times(self, view: View) -> I64:
        return view.columns.people.joined_at


@dataclass(frozen=True)
class BandIs(Rule):
    word = "band"
    bands: tuple[str, ...]

    def text(self) -> str:
        return f"band is {' or '.join(self.bands)}"

    def mask(self, view: View) -> Mask:
        wanted = np.isin(np.arange(len(BANDS)), [BANDS.index(b) for b in self.bands])
        return np.asarray(view.alive & wanted[view.scores.band])


@dataclass(frozen=True)
class Rejoined(Rule):
    """Consent given again after an unsubscribe."""

    word = "rejoined"

    def text(self) -> str:
        return self.word

    def mask(self, view: View) -> Mask:
        since = view.columns.people.since
        return view.alive & (since > NEVER) & (since <= view.now)
