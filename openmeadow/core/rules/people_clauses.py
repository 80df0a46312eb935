"""Clauses about what is known of subscribers: lists, labels, fields, consent, addresses, suppression, sequences."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from openmeadow.core.addresses.verdicts import VERDICTS
from openmeadow.core.arrays import I64, NEVER, Mask
from openmeadow.core.rules.activity_clauses import Ago, earlier, later
from openmeadow.core.rules.conditions import Named, Rule, View, quoted
from openmeadow.core.rules.spans import Bound, Span

ADDRESS_STATES = (*VERDICTS, "not checked")


class Permitted(Named):
    word, before, ask = "permitted", "permitted for", "permitted"


class InList(Named):
    word, before, ask = "in list", "in list", "in_list"


class HasLabel(Named):
    word, before, ask = "has label", "has label", "has_label"


class ProviderIs(Named):
    word, before, ask = "provider", "provider is", "provider_is"


class SourceIs(Named):
    """The list, form or import by which somebody first joined."""

    word, before, ask = "source", "source is", "source_is"


class LanguageIs(Named):
    word, before, ask = "language", "language is", "language_is"


class CountryIs(Named):
    word, before, ask = "country", "country is", "country_is"


class InSegment(Named):
    word, before = "in segment", "in segment"
    names_a_segment = True

    def mask(self, view: View) -> Mask:
        return view.alive & view.mask(view.facts.segment(self.name))


@dataclass(frozen=True)
class InSnapshot(Rule):
    """The subscribers a segment had on the day its snapshot was taken (``YYYY-MM-DD``, in UTC)."""

    word = "in snapshot"
    name: str
    day: str

    def text(self) -> str:
        return f"in segment {quoted(self.name)} as frozen on {self.day}"

    def mask(self, view: View) -> Mask:
        return view.alive & view.facts.snapshot(self.name, self.day)


@dataclass(frozen=True)
class InSequence(Rule):
    """Active in a sequence, anywhere or ``at "its step"``."""

    word = "in sequence"
    name: str
    step: str | None = None

    def text(self) -> str:
        return f"{self.word} {quoted(self.name)}" + ("" if self.step is None else f" at {quoted(self.step)}")

    def mask(self, view: View) -> Mask:
        return np.asarray(view.alive & view.facts.in_sequence(self.name, self.step))


@dataclass(frozen=True)
class FinishedSequence(Rule):
    """``finished sequence "S"``, and when: ``more/less than D days ago``."""

    word = "finished sequence"
    name: str
    side: str | None = None
    span: Span | None = None

    def text(self) -> str:
        tail = "" if self.span is None else f" {self.side} than {self.span.text()} ago"
        return f"{self.word} {quoted(self.name)}{tail}"

    def mask(self, view: View) -> Mask:
        at = view.facts.finished_sequence(self.name)
        out = view.alive & (at > NEVER)
        if self.span is not None:
            edge = view.now - self.span.seconds
            out &= earlier(at, edge) if self.side == "more" else later(at, edge)
        return np.asarray(out)


@dataclass(frozen=True)
class Field(Rule):
    """A clause about a field of the subscriber; where the field is missing it does not match."""

    name: str

    def says(self) -> str:
        """What follows the field's name."""
        raise NotImplementedError

    def test(self) -> tuple[str, *tuple[str | float, ...]]:
        """The test put to the facts and its values."""
        raise NotImplementedError

    def text(self) -> str:
        return f"field {quoted(self.name)} {self.says()}"

    def mask(self, view: View) -> Mask:
        return np.asarray(view.alive & view.facts.field(self.name, *self.test()))


@dataclass(frozen=True)
class FieldIs(Field):
    word = "field is"
    value: str

    def says(self) -> str:
        return f"is {quoted(self.value)}"

    def test(self) -> tuple[str, *tuple[str | float, ...]]:
        return "is", self.value


@dataclass(frozen=True)
class FieldIsNot(Field):
    word = "field is not"
    value: str

    def says(self) -> str:
        return f"is not {quoted(self.value)}"

    def test(self) -> tuple[str, *tuple[str | float, ...]]:
        return "is not", self.value


@dataclass(frozen=True)
class FieldContains(Field):
    word = "field contains"
    value: str

    def says(self) -> str:
        return f"contains {quoted(self.value)}"

    def test(self) -> tuple[str, *tuple[str | float, ...]]:
        return "contains", self.value


@dataclass(frozen=True)
class FieldEmpty(Field):
    """The field is missing, or holds nothing."""

    word = "field is empty"

    def says(self) -> str:
        return "is empty"

    def test(self) -> tuple[str, *tuple[str | float, ...]]:
        return ("is empty",)


@dataclass(frozen=True)
class FieldNumber(Field):
    """A figure within a bound; a value that is no number does not match."""

    word = "field number"
    bound: Bound

    def says(self) -> str:
        return f"is {self.bound.text()}"

    def test(self) -> tuple[str, *tuple[str | float, ...]]:
        return self.bound.side, self.bound.value


@dataclass(frozen=True)
class FieldDay(Field):
    """A date strictly before or after a day; a value that is no date (YYYY-MM-DD…) does not match."""

    word = "field day"
    side: str
    day: str

    def says(self) -> str:
        return f"is {self.side} {self.day}"

    def test(self) -> tuple[str, *tuple[str | float, ...]]:
        return self.side, self.day


@dataclass(frozen=True)
class FieldOneOf(Field):
    word = "field is one of"
    values: tuple[str, ...]

    def says(self) -> str:
        return f"is one of ({', '.join(quoted(v) for v in self.values)})"

    def test(self) -> tuple[str, *tuple[str | float, ...]]:
        return "is one of", *self.values


@dataclass(frozen=True)
class FieldFalls(Field):
    """A date whose next anniversary, today's included, is within a span of days."""

    word = "field falls within"
    span: Span

    def says(self) -> str:
        return f"falls within {self.span.text()}"

    def test(self) -> tuple[str, *tuple[str | float, ...]]:
        return "falls within", self.span.days


@dataclass(frozen=True)
class ConsentIs(Rule):
    """The state of consent by a channel, email where none is named; ``none`` includes no record."""

    word = "consent"
    purpose: str
    channel: str | None
    state: str

    def text(self) -> str:
        by = "" if self.channel is None else f" by {self.channel}"
        return f"consent to {quoted(self.purpose)}{by} is {self.state}"

    def mask(self, view: View) -> Mask:
        return view.alive & view.facts.consent_is(self.purpose, self.channel or "email", self.state)


@dataclass(frozen=True)
class ConsentAge(Ago):
    """Consent by email is given, since more or less than a span."""

    word = "consent given"
    purpose: str

    def text(self) -> str:
        return f"consent to {quoted(self.purpose)} given {self.side} than {self.span.text()} ago"

    def times(self, view: View) -> I64:
        return view.facts.consent_given_at(self.purpose)


@dataclass(frozen=True)
class ConsentFrom(Rule):
    """The latest record of consent about a purpose came from a source."""

    word = "consent from"
    purpose: str
    source: str

    def text(self) -> str:
        return f"consent to {quoted(self.purpose)} from source {quoted(self.source)}"

    def mask(self, view: View) -> Mask:
        return np.asarray(view.alive & view.facts.consent_from(self.purpose, self.source))


@dataclass(frozen=True)
class AddressIs(Rule):
    """One of ADDRESS_STATES."""

    word = "address"
    states: tuple[str, ...]

    def text(self) -> str:
        return f"address is {' or '.join(self.states)}"

    def mask(self, view: View) -> Mask:
        return view.alive & view.facts.address_is(self.states)


@dataclass(frozen=True)
class Suppressed(Rule):
    """Suppressed for any reason, or for one: ``suppressed for "inactive"``."""

    word = "suppressed"
    reason: str | None = None

    def text(self) -> str:
        return self.word + ("" if self.reason is None else f" for {quoted(self.reason)}")

    def mask(self, view: View) -> Mask:
        return np.asarray(view.alive & view.facts.suppressed_mask(self.reason))
