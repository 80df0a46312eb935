"""Rules as trees of clauses. Each clause can say itself, be written as JSON, and mark people on a ``View``."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, field, fields
from functools import cached_property
from typing import Any, ClassVar, Protocol

import numpy as np

from openmeadow.core.columns import DAY, I32, I64, NEVER, Columns, Kind, Mask
from openmeadow.core.engagement.score import BANDS, Scores, last_answers
from openmeadow.core.rules.streams import Streams


class Facts(Protocol):
    """What rules ask beyond the event columns. Masks and arrays have one entry a person; names that do not
    exist raise ``Missing`` with the nearest known one."""

    def in_list(self, name: str) -> Mask: ...
    def has_label(self, name: str) -> Mask: ...
    def field_is(self, name: str, value: str) -> Mask: ...
    def message_ids(self, name: str) -> list[int]: ...
    def segment(self, name: str) -> Rule: ...
    def frozen(self, name: str, day: str) -> Mask: ...
    def permitted(self, purpose: str) -> Mask: ...
    def consent_is(self, purpose: str, channel: str, state: str) -> Mask: ...
    def provider_is(self, name: str) -> Mask: ...
    def came_by(self, door: str) -> Mask: ...
    def language_is(self, name: str) -> Mask: ...
    def country_is(self, name: str) -> Mask: ...
    def consent_given_at(self, purpose: str) -> I64: ...
    def consent_came_from(self, purpose: str, source: str) -> Mask: ...
    def suppressed_mask(self, reason: str | None) -> Mask: ...
    def address_is(self, verdicts: tuple[str, ...]) -> Mask: ...
    def inside_sequence(self, name: str, step: str | None) -> Mask: ...
    def finished_sequence(self, name: str) -> I64: ...
    def soft_failures(self) -> tuple[I32, I64]: ...


MOST_KEPT = 100  # masks of clauses a view remembers


@dataclass
class View:
    """Columns, scores and facts at one moment; ``alive`` are the people who exist then. ``scored`` makes the
    scores when they are first asked for: most rules never do."""

    columns: Columns
    streams: Streams
    scored: Callable[[], Scores]
    facts: Facts
    alive: Mask
    now: int
    known: dict[Rule, Mask] = field(default_factory=dict, repr=False)

    def mask(self, rule: Rule) -> Mask:
        """Whom a rule holds for; worked out once a view, as sieves and counts ask for the same clauses."""
        found = self.known.get(rule)
        if found is None:
            found = rule.mask(self)
            if len(self.known) < MOST_KEPT or isinstance(rule, InSegment):  # each segment is worked out once
                self.known[rule] = found
        return found

    @cached_property
    def scores(self) -> Scores:
        return self.scored()

    @cached_property
    def last_answer(self) -> I64:
        """As in ``Scores``, without working out the scores where they are not there yet."""
        return self.scores.last_answer if "scores" in self.__dict__ else last_answers(self.columns, self.now)


def quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def earlier(at: I64, edge: float) -> Mask:
    """Moments strictly before an edge; whole numbers are compared as such, which is twice as quick."""
    return np.asarray(at < math.ceil(edge))


def later(at: I64, edge: float) -> Mask:
    """Moments strictly after an edge."""
    return np.asarray(at > math.floor(edge))


def number(value: float) -> str:
    return f"{value:g}" if value != int(value) else str(int(value))


@dataclass(frozen=True)
class Rule:
    """A clause or a group. ``place`` is where it stands in the text, and is no part of its meaning."""

    word: ClassVar[str] = ""
    place: int = field(default=0, compare=False, kw_only=True)

    def text(self) -> str:
        raise NotImplementedError

    def mask(self, view: View) -> Mask:
        raise NotImplementedError

    def tree(self) -> dict[str, Any]:
        out: dict[str, Any] = {"clause": self.word}
        for f in fields(self):
            value = getattr(self, f.name)
            if f.name == "place" or value is None:
                continue
            if isinstance(value, Rule):
                value = value.tree()
            elif isinstance(value, tuple):
                value = [v.tree() if isinstance(v, Rule) else v for v in value]
            out[f.name] = value
        return out


@dataclass(frozen=True)
class AllOf(Rule):
    word = "and"
    parts: tuple[Rule, ...]

    def text(self) -> str:
        return " and ".join(bracketed(p) for p in self.parts)

    def mask(self, view: View) -> Mask:
        out = view.alive.copy()
        for part in self.parts:
            out &= view.mask(part)
        return out


@dataclass(frozen=True)
class AnyOf(Rule):
    word = "or"
    parts: tuple[Rule, ...]

    def text(self) -> str:
        return " or ".join(bracketed(p) for p in self.parts)

    def mask(self, view: View) -> Mask:
        out = np.zeros(len(view.alive), bool)
        for part in self.parts:
            out |= view.mask(part)
        return out


@dataclass(frozen=True)
class Negated(Rule):
    word = "not"
    part: Rule

    def text(self) -> str:
        return f"not ({self.part.text()})"

    def mask(self, view: View) -> Mask:
        return view.alive & ~view.mask(self.part)


def bracketed(rule: Rule) -> str:
    return f"({rule.text()})" if isinstance(rule, AllOf | AnyOf) else rule.text()


@dataclass(frozen=True)
class Bound:
    """``at least`` or ``at most`` a number."""

    side: str
    value: float

    def text(self) -> str:
        return f"at {self.side} {number(self.value)}"

    def holds(self, values: Any) -> Mask:
        value = int(self.value) if self.value == int(self.value) else self.value
        return np.asarray(values >= value if self.side == "least" else values <= value)


@dataclass(frozen=True)
class Counted(Rule):
    """Clauses that count something in a window: ``verb at least N [of "X"] [in D days]``."""

    side: str
    value: float
    days: float | None = None

    @property
    def bound(self) -> Bound:
        return Bound(self.side, self.value)

    def window(self, now: int) -> int:
        return int(NEVER) if self.days is None else int(now - self.days * DAY)

    def text(self) -> str:
        of = getattr(self, "of", None)
        return (
            f"{self.word} {self.bound.text()}"
            + (f" of {quoted(of)}" if of is not None else "")
            + (f" in {number(self.days)} days" if self.days is not None else "")
        )

    def counts(self, view: View) -> Any:
        raise NotImplementedError

    def mask(self, view: View) -> Mask:
        return view.alive & self.bound.holds(self.counts(view))


@dataclass(frozen=True)
class OfMessages(Counted):
    of: str | None = None
    stream: ClassVar[str] = ""

    def counts(self, view: View) -> Any:
        only = None if self.of is None else view.facts.message_ids(self.of)
        return view.streams.messages(self.stream, self.window(view.now), view.now, only)


class Opened(OfMessages):
    word = "opened"
    stream = "opened"


class OpenedByAnyone(OfMessages):
    word = "opened by anyone"
    stream = "looked"


class Clicked(OfMessages):
    word = "clicked"
    stream = "clicked"


class Replied(OfMessages):
    word = "replied"
    stream = "replied"


class Got(OfMessages):
    word = "got"

    def counts(self, view: View) -> Any:
        only = None if self.of is None else view.facts.message_ids(self.of)
        return view.streams.delivered(self.window(view.now), view.now, only)


class Booked(Counted):
    word = "booked"
    weighted = False

    def counts(self, view: View) -> Any:
        acts = view.columns.acts
        hit = (acts.kind == Kind.BOOKED) & (acts.at > self.window(view.now)) & (acts.at <= view.now)
        weights = acts.value[hit] if self.weighted else None
        return np.bincount(acts.person[hit], weights, minlength=len(view.alive))


class Worth(Booked):
    word = "booked worth"
    weighted = True


class Unanswered(Counted):
    word = "unanswered"

    def counts(self, view: View) -> Any:
        return view.scores.unanswered


class SoftBounced(Counted):
    """Soft failures since the last delivered message."""

    word = "soft bounced"

    def text(self) -> str:
        return f"{self.word} {self.bound.text()} in a row"

    def counts(self, view: View) -> Any:
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

    def counts(self, view: View) -> Any:
        return view.scores.score


@dataclass(frozen=True)
class Left(Rule):
    word = "left"
    message: str

    def text(self) -> str:
        return f"left {quoted(self.message)} unanswered"

    def mask(self, view: View) -> Mask:
        rows, now = view.columns.rows, view.now
        hit = np.isin(rows.message, view.facts.message_ids(self.message))
        hit &= (rows.first_at <= now) & (rows.failed_at > now) & (rows.opened_at > now) & (rows.reacted_at > now)
        return view.alive & (np.bincount(rows.person[hit], minlength=len(view.alive)) > 0)


@dataclass(frozen=True)
class NeverAnswered(Rule):
    word = "never answered"

    def text(self) -> str:
        return self.word

    def mask(self, view: View) -> Mask:
        return np.asarray(view.alive & (view.last_answer == NEVER))


@dataclass(frozen=True)
class NoAnswer(Rule):
    word = "no answer"
    days: float

    def text(self) -> str:
        return f"no answer in {number(self.days)} days"

    def mask(self, view: View) -> Mask:
        return view.alive & ~later(view.last_answer, view.now - self.days * DAY)


@dataclass(frozen=True)
class Ago(Rule):
    """``… more/less than D days ago``, both strictly; a moment that never was holds for neither."""

    side: str
    days: float

    def text(self) -> str:
        return f"{self.word} {self.side} than {number(self.days)} days ago"

    def moments(self, view: View) -> Any:
        raise NotImplementedError

    def mask(self, view: View) -> Mask:
        at, edge = self.moments(view), view.now - self.days * DAY
        if self.side == "less":
            return np.asarray(view.alive & later(at, edge))
        return np.asarray(view.alive & (at > NEVER) & earlier(at, edge))


class LastAnswer(Ago):
    word = "last answer"

    def moments(self, view: View) -> Any:
        return view.last_answer


class Joined(Ago):
    word = "joined"

    def moments(self, view: View) -> Any:
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
    word = "rejoined"

    def text(self) -> str:
        return self.word

    def mask(self, view: View) -> Mask:
        since = view.columns.people.since
        return view.alive & (since > NEVER) & (since <= view.now)


@dataclass(frozen=True)
class Named(Rule):
    """Clauses that are a word and a name; ``ask`` is the question put to the facts."""

    name: str
    before: ClassVar[str] = ""
    ask: ClassVar[str] = ""

    def text(self) -> str:
        return f"{self.before} {quoted(self.name)}"

    def mask(self, view: View) -> Mask:
        return np.asarray(view.alive & getattr(view.facts, self.ask)(self.name))


class Permitted(Named):
    word, before, ask = "permitted", "permitted for", "permitted"


class InList(Named):
    word, before, ask = "in list", "in list", "in_list"


class HasLabel(Named):
    word, before, ask = "has label", "has label", "has_label"


class ProviderIs(Named):
    word, before, ask = "provider", "provider is", "provider_is"


class LanguageIs(Named):
    word, before, ask = "language", "language is", "language_is"


class CountryIs(Named):
    word, before, ask = "country", "country is", "country_is"


@dataclass(frozen=True)
class InsideSequence(Rule):
    """``inside sequence "X"``, anywhere or ``at "its step"``."""

    word = "inside sequence"
    name: str
    step: str | None = None

    def text(self) -> str:
        return f"{self.word} {quoted(self.name)}" + ("" if self.step is None else f" at {quoted(self.step)}")

    def mask(self, view: View) -> Mask:
        return np.asarray(view.alive & view.facts.inside_sequence(self.name, self.step))


class CameBy(Named):
    word, before, ask = "came by", "came by", "came_by"


class InSegment(Named):
    word, before = "in segment", "in segment"

    def mask(self, view: View) -> Mask:
        return view.alive & view.mask(view.facts.segment(self.name))


@dataclass(frozen=True)
class InFrozen(Rule):
    """The people a segment had when it was frozen on a day (``YYYY-MM-DD``, in UTC)."""

    word = "in frozen segment"
    name: str
    day: str

    def text(self) -> str:
        return f"in segment {quoted(self.name)} as frozen on {self.day}"

    def mask(self, view: View) -> Mask:
        return view.alive & view.facts.frozen(self.name, self.day)


@dataclass(frozen=True)
class FieldIs(Rule):
    word = "field"
    name: str
    value: str

    def text(self) -> str:
        return f"field {quoted(self.name)} is {quoted(self.value)}"

    def mask(self, view: View) -> Mask:
        return view.alive & view.facts.field_is(self.name, self.value)


@dataclass(frozen=True)
class ConsentIs(Rule):
    word = "consent"
    purpose: str
    channel: str
    state: str

    def text(self) -> str:
        return f"consent to {quoted(self.purpose)} by {self.channel} is {self.state}"

    def mask(self, view: View) -> Mask:
        return view.alive & view.facts.consent_is(self.purpose, self.channel, self.state)


@dataclass(frozen=True)
class AddressIs(Rule):
    word = "address"
    verdicts: tuple[str, ...]

    def text(self) -> str:
        return f"address is {' or '.join(self.verdicts)}"

    def mask(self, view: View) -> Mask:
        return view.alive & view.facts.address_is(self.verdicts)


@dataclass(frozen=True)
class ConsentAge(Ago):
    """Whose consent by email stands as given since more or less than so many days."""

    word = "consent given"
    purpose: str

    def text(self) -> str:
        return f"consent to {quoted(self.purpose)} given {self.side} than {number(self.days)} days ago"

    def moments(self, view: View) -> Any:
        return view.facts.consent_given_at(self.purpose)


@dataclass(frozen=True)
class ConsentFrom(Rule):
    """Whose latest word about a purpose came from a stated source."""

    word = "consent from"
    purpose: str
    source: str

    def text(self) -> str:
        return f"consent to {quoted(self.purpose)} came from {quoted(self.source)}"

    def mask(self, view: View) -> Mask:
        return np.asarray(view.alive & view.facts.consent_came_from(self.purpose, self.source))


@dataclass(frozen=True)
class Suppressed(Rule):
    """Suppressed for any reason, or for one: ``suppressed for "let go"``."""

    word = "suppressed"
    reason: str | None = None

    def text(self) -> str:
        return self.word + ("" if self.reason is None else f" for {quoted(self.reason)}")

    def mask(self, view: View) -> Mask:
        return np.asarray(view.alive & view.facts.suppressed_mask(self.reason))


@dataclass(frozen=True)
class FinishedSequence(Rule):
    """``finished sequence "X"``, and when: ``more/less than D days ago``."""

    word = "finished sequence"
    name: str
    side: str | None = None
    days: float | None = None

    def text(self) -> str:
        tail = "" if self.days is None else f" {self.side} than {number(self.days)} days ago"
        return f"{self.word} {quoted(self.name)}{tail}"

    def mask(self, view: View) -> Mask:
        at = view.facts.finished_sequence(self.name)
        out = view.alive & (at > NEVER)
        if self.days is not None:
            edge = view.now - self.days * DAY
            out &= earlier(at, edge) if self.side == "more" else later(at, edge)
        return np.asarray(out)


def walk(rule: Rule) -> list[Rule]:
    """The rule and everything below it, in reading order."""
    below = rule.parts if isinstance(rule, AllOf | AnyOf) else (rule.part,) if isinstance(rule, Negated) else ()
    return [rule, *(deeper for part in below for deeper in walk(part))]
