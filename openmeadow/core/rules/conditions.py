"""Rules as trees: what every clause can do, groups of clauses, and the view they are matched against."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, fields, is_dataclass
from functools import cached_property
from typing import ClassVar, Protocol

import numpy as np

from openmeadow.core.arrays import I32, I64, NEVER, Figures, Mask
from openmeadow.core.columns import Acts, Columns, Rows
from openmeadow.core.engagement.score import Scores, last_engaged
from openmeadow.core.rules.activity_index import Streams
from openmeadow.core.rules.spans import Bound, Span


class Facts(Protocol):
    """What rules ask beyond the event columns. Masks and arrays have one entry a subscriber; a name that does not
    exist raises ``Missing`` with the nearest known one."""

    def in_list(self, name: str) -> Mask: ...
    def has_label(self, name: str) -> Mask: ...
    def field(self, name: str, test: str, *values: str | float) -> Mask: ...
    def message_ids(self, name: str) -> list[int]: ...
    def segment(self, name: str) -> Rule: ...
    def snapshot(self, name: str, day: str) -> Mask: ...
    def permitted(self, purpose: str) -> Mask: ...
    def consent_is(self, purpose: str, channel: str, state: str) -> Mask: ...
    def provider_is(self, name: str) -> Mask: ...
    def source_is(self, name: str) -> Mask: ...
    def language_is(self, name: str) -> Mask: ...
    def country_is(self, name: str) -> Mask: ...
    def consent_given_at(self, purpose: str) -> I64: ...
    def consent_from(self, purpose: str, source: str) -> Mask: ...
    def suppressed_mask(self, reason: str | None) -> Mask: ...
    def address_is(self, states: tuple[str, ...]) -> Mask: ...
    def in_sequence(self, name: str, step: str | None) -> Mask: ...
    def finished_sequence(self, name: str) -> I64: ...
    def soft_failures(self) -> tuple[I32, I64]: ...


MOST_KEPT = 100  # masks of clauses a view remembers


@dataclass(frozen=True)
class Part:
    """Columns of some people. ``at`` are their places among everybody, None where they are everybody; ``stale`` marks
    those who stand in another part."""

    columns: Columns
    at: I64 | None = None
    stale: Mask | None = None

    def counts(self, person: I32) -> Mask:
        """Which entries of a table, by its people, count here."""
        return np.ones(len(person), bool) if self.stale is None else ~self.stale[person]

    def everybodys(self, person: I32) -> I64 | I32:
        """Places among everybody."""
        return person if self.at is None else self.at[person]


@dataclass
class View:
    """Columns, scores and facts at one time; ``alive`` are the subscribers who exist then. ``scored`` makes the
    scores when they are first asked for: most rules never do."""

    columns: Columns
    streams: Streams
    scored: Callable[[], Scores]
    facts: Facts
    alive: Mask
    now: int
    known: dict[Rule, Mask] = field(default_factory=dict, repr=False)

    def mask(self, rule: Rule) -> Mask:
        """Who matches a rule; worked out once a view, as breakdowns and counts ask for the same clauses."""
        found = self.known.get(rule)
        if found is None:
            found = rule.mask(self)
            if len(self.known) < MOST_KEPT or rule.names_a_segment:  # each segment is worked out once
                self.known[rule] = found
        return found

    @cached_property
    def scores(self) -> Scores:
        return self.scored()

    def parts(self) -> list[Part]:
        """The columns as they lie; together they know everybody once."""
        return [Part(self.columns)]

    @property
    def settled(self) -> Columns:
        """The columns of everybody, without the news of the last minutes where that stands beside them: for what is
        counted over weeks, to which it makes no difference."""
        return self.parts()[0].columns

    def rows_of(self, message: int) -> Rows:
        """The rows of one message, by person."""
        rows = self.columns.rows
        mine = np.flatnonzero(rows.message == message)
        return Rows(**{f.name: getattr(rows, f.name)[mine] for f in fields(rows)})

    def acts_of(self, message: int) -> Acts:
        """What was done about one message, by person and, of each, by time."""
        acts = self.columns.acts
        mine = np.flatnonzero(acts.message == message)
        return Acts(**{f.name: getattr(acts, f.name)[mine] for f in fields(acts)})

    def of_person(self, person: int) -> tuple[Columns, int]:
        """The columns in which all that is known of a person stands, and the place there."""
        return self.columns, person

    @cached_property
    def last_engaged(self) -> I64:
        """As in ``Scores``, without working out the scores where they are not there yet."""
        return self.scores.last_engaged if "scores" in self.__dict__ else last_engaged(self.columns, self.now)


def quoted(name: str) -> str:
    """A name as rules write it; a quote inside is doubled."""
    return '"' + name.replace('"', '""') + '"'


def _plain(value: object) -> object:
    """A part of a clause as JSON."""
    if isinstance(value, Rule):
        return value.tree()
    if isinstance(value, tuple):
        return [_plain(v) for v in value]
    if is_dataclass(value) and not isinstance(value, type):
        return {f.name: _plain(getattr(value, f.name)) for f in fields(value)}
    return value


@dataclass(frozen=True)
class Rule:
    """A clause or a group. ``place`` is where it begins in the text, and is no part of its meaning."""

    word: ClassVar[str] = ""
    names_a_segment: ClassVar[bool] = False
    place: int = field(default=0, compare=False, kw_only=True)

    def text(self) -> str:
        """The rule as it is written."""
        raise NotImplementedError

    def mask(self, view: View) -> Mask:
        """Who matches, one entry a subscriber."""
        raise NotImplementedError

    def parts_below(self) -> tuple[Rule, ...]:
        return ()

    def size(self) -> int:
        """How many clauses it has."""
        return sum(part.size() for part in self.parts_below()) or 1

    def tree(self) -> dict[str, object]:
        """As JSON: ``clause`` and the clause's parts, those that are not given left out."""
        parts = ((f.name, getattr(self, f.name)) for f in fields(self) if f.name != "place")
        return {"clause": self.word, **{name: _plain(value) for name, value in parts if value is not None}}


@dataclass(frozen=True)
class AllOf(Rule):
    word = "and"
    parts: tuple[Rule, ...]

    def text(self) -> str:
        return " and ".join(bracketed(p) for p in self.parts)

    def parts_below(self) -> tuple[Rule, ...]:
        return self.parts

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

    def parts_below(self) -> tuple[Rule, ...]:
        return self.parts

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

    def parts_below(self) -> tuple[Rule, ...]:
        return (self.part,)

    def mask(self, view: View) -> Mask:
        return view.alive & ~view.mask(self.part)


def bracketed(rule: Rule) -> str:
    """A rule's text as part of a group."""
    return f"({rule.text()})" if isinstance(rule, AllOf | AnyOf) else rule.text()


@dataclass(frozen=True)
class Counted(Rule):
    """A clause that compares a figure of each subscriber; ``limits`` is the least and most it can be."""

    limits: ClassVar[tuple[float, float]] = (0, float("inf"))
    bound: Bound

    def text(self) -> str:
        return f"{self.word} {self.bound.text()}"

    def counts(self, view: View) -> Figures:
        """The figure of each subscriber."""
        raise NotImplementedError

    def mask(self, view: View) -> Mask:
        return view.alive & self.bound.met_by(self.counts(view))


@dataclass(frozen=True)
class OfMessages(Counted):
    """``verb at least N [of "Message"] [in D days]``."""

    window: Span | None = None
    of: str | None = None

    def text(self) -> str:
        of = "" if self.of is None else f" of {quoted(self.of)}"
        return f"{self.word} {self.bound.text()}{of}" + ("" if self.window is None else f" in {self.window.text()}")

    def since(self, now: int) -> int:
        """The start of the window, UTC seconds; long ago without one."""
        return int(NEVER) if self.window is None else int(now - self.window.seconds)

    def only(self, view: View) -> list[int] | None:
        """Ids of the messages it is about; None for all."""
        return None if self.of is None else view.facts.message_ids(self.of)


@dataclass(frozen=True)
class Named(Rule):
    """A clause that is a word and a name; ``ask`` is the question put to the facts."""

    name: str
    before: ClassVar[str] = ""
    ask: ClassVar[str] = ""

    def text(self) -> str:
        return f"{self.before} {quoted(self.name)}"

    def mask(self, view: View) -> Mask:
        return np.asarray(view.alive & getattr(view.facts, self.ask)(self.name))


def walk(rule: Rule) -> list[Rule]:
    """The rule and everything below it, in reading order."""
    return [rule, *(deeper for part in rule.parts_below() for deeper in walk(part))]
