"""A sequence as it is written: how it begins, its steps in order and in two paths, and what makes people leave at once."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass, field, replace
from typing import Any

from openmeadow.core.errors import Refused
from openmeadow.core.moments import DAY

EVERYONE, FOLLOW_UP = 1, 2
KINDS = ("message", "resend", "condition", "wait", "label", "list", "field", "consent request", "suppress", "end")
MAILS = ("message", "resend", "consent request")
BEGINS = ("manual", "joins a list", "confirms", "sign-up pending", "gets a label", "enters a segment", "a date", "books")
ASKS = ("engaged", "clicked", "rule")
FOLLOW_UP_PATH, END, ON = "follow-up path", "end", "continue"
MOST_RESENDS = 2  # of one message, as in campaigns
LONGEST_WAIT = 366 * DAY


@dataclass(frozen=True)
class Step:
    """One rung. ``key`` stays the same when it moves; ``path`` 1 is everyone, 2 those who went to the follow-up path;
    ``meets``: who is in the follow-up path comes back to the first here. ``wait`` is in seconds and lies before a
    question is asked or a repeat goes; ``hour`` (local, or None) and ``weekdays`` (0 = Monday) move its end on.

    ``of`` is the key of the message a question or a repeat is about. ``yes`` and ``no`` say where a question leads: on,
    to the follow-up path, to the end, or to the key of a step further down. ``name`` is the label, list or field of an act,
    ``value`` what the field becomes; ``take`` takes a label or list away instead."""

    key: int
    kind: str
    path: int = EVERYONE
    meets: bool = True
    off: bool = False
    name: str = ""
    wait: int = 0
    hour: int | None = None
    weekdays: tuple[int, ...] = ()
    own_zone: bool = False
    asks: str = "engaged"
    of: int = 0
    rule: str = ""
    yes: str = ON
    no: str = FOLLOW_UP_PATH
    value: str = ""
    take: bool = False
    subject: str = ""
    preview: str = ""
    purposes: tuple[str, ...] = ()

    @property
    def waits(self) -> bool:
        """Whether people stay in the step for some time."""
        return bool(self.wait or self.hour is not None or self.weekdays)


@dataclass(frozen=True)
class Begin:
    """When somebody enters. ``what`` names the list, label, segment, purpose or field; a date comes ``yearly`` or once.
    ``again_after`` seconds after leaving one may enter again (None: once per person). ``a_day`` is how many begin a day
    at most, ``first_day`` how many on the first, ``a_provider`` per provider and day (0: no limit)."""

    on: str = "manual"
    what: str = ""
    yearly: bool = True
    again_after: int | None = None
    a_day: int = 0
    first_day: int = 0
    a_provider: int = 0
    random: bool = False


@dataclass(frozen=True)
class Leave:
    """What makes people leave at once, beside what always does (no consent any more, suppressed, erased)."""

    engaged: bool = False
    confirmed: bool = False
    booked: bool = False
    rule: str = ""


@dataclass(frozen=True)
class Definition:
    """All of it, as one version says."""

    steps: tuple[Step, ...] = ()
    begin: Begin = field(default_factory=Begin)
    leave: Leave = field(default_factory=Leave)
    holdout: float = 0.0  # share who get no resends, at random, to compare
    hours: tuple[int, int] = (0, 24)  # local, from and until which its messages go out; (0, 24): at any hour

    def step(self, key: int) -> Step | None:
        """The step of a key, or None."""
        return next((s for s in self.steps if s.key == key), None)

    def place(self, key: int) -> int:
        """The place of a step, from 0."""
        return next((i for i, s in enumerate(self.steps) if s.key == key), -1)

    def titles(self) -> dict[int, str]:
        """What each step is called where another place speaks of it: its name, or its kind and its place among those
        of its kind."""
        out, seen = {}, dict[str, int]()
        for s in self.steps:
            n = seen[s.kind] = seen.get(s.kind, 0) + 1
            own = s.name if s.kind in ("message", "consent request") else ""
            out[s.key] = own or (f"Message {n}" if s.kind == "message" else f"{s.kind.capitalize()} {n}")
        return out

    def json(self) -> dict[str, object]:
        """As it is kept."""
        return asdict(self)


def read(told: Mapping[str, Any]) -> Definition:
    """A definition from its JSON form; what cannot be is a sentence."""
    try:
        steps = tuple(
            Step(**{**s, "weekdays": tuple(s.get("weekdays", ())), "purposes": tuple(s.get("purposes", ()))})
            for s in told.get("steps", ())
        )
        first, last = told.get("hours", (0, 24))
        definition = Definition(
            steps,
            Begin(**told.get("begin", {})),
            Leave(**told.get("leave", {})),
            float(told.get("holdout", 0.0)),
            (int(first), int(last)),
        )
    except (TypeError, ValueError) as e:
        raise Refused(f"This is not a valid sequence: {e}.") from e
    keys = [s.key for s in steps]
    if len(keys) != len(set(keys)) or any(k < 1 for k in keys):
        raise Refused("Every step needs a key of its own, from 1.")
    for s in steps:
        if s.kind not in KINDS or s.path not in (EVERYONE, FOLLOW_UP) or s.asks not in ASKS:
            raise Refused(f"There is no step type “{s.kind}” on path {s.path}.")
        if not 0 <= s.wait <= LONGEST_WAIT or not (s.hour is None or 0 <= s.hour <= 23):
            raise Refused("A wait lasts at most a year, and hours go from 0 to 23.")
        if any(not 0 <= d <= 6 for d in s.weekdays):
            raise Refused("Weekdays go from 0, Monday, to 6, Sunday.")
    if definition.begin.on not in BEGINS:
        raise Refused(f"A sequence cannot start “{definition.begin.on}”.")
    if not 0 <= definition.hours[0] < definition.hours[1] <= 24:
        raise Refused("The sending hours go from an hour of the day to a later one.")
    if not 0.0 <= definition.holdout <= 0.5:
        raise Refused("The holdout group can be at most half.")
    return definition


@dataclass(frozen=True)
class Lack:
    """Something missing, and the step it is missing in (0: the sequence itself)."""

    step: int
    sentence: str


def lacks(definition: Definition) -> list[Lack]:
    """Everything that is missing before it can run, also in steps that are switched off. What a message says is
    looked at elsewhere."""
    out, titles = [], definition.titles()

    def add(step: Step, sentence: str) -> None:
        out.append(Lack(step.key, sentence + (" (It is disabled, but can be enabled again.)" if step.off else "")))

    if definition.begin.on != "manual" and not definition.begin.what and definition.begin.on != "books":
        out.append(Lack(0, f"Choose the {definition.begin.on.split()[-1]} of the trigger."))
    if not any(s.kind in MAILS and not s.off for s in definition.steps):
        out.append(Lack(0, "Add a message."))
    resends: dict[int, int] = {}
    for i, s in enumerate(definition.steps):
        above = {x.key: x for x in definition.steps[:i]}
        below = {x.key for x in definition.steps[i + 1 :]}
        if s.kind == "resend" or (s.kind == "condition" and s.asks != "rule"):
            about = above.get(s.of)
            what = "resend" if s.kind == "resend" else "condition"
            if about is None or about.kind not in ("message", "consent request"):
                add(s, f"Choose an earlier message for this {what}.")
            if s.kind == "resend":
                resends[s.of] = resends.get(s.of, 0) + 1
                if resends[s.of] > MOST_RESENDS:
                    add(s, f"“{titles.get(s.of, 'A message')}” is resent more than {MOST_RESENDS} times.")
        if s.kind == "condition":
            if s.asks == "rule" and not s.rule.strip():
                add(s, "The condition needs a rule.")
            for word, to in (("yes", s.yes), ("no", s.no)):
                if to.isdigit() and int(to) not in below:
                    add(s, f"Its “{word}” leads to a step that is not below.")
            if FOLLOW_UP_PATH in (s.yes, s.no) and not any(x.path == FOLLOW_UP for x in definition.steps[i + 1 :]):
                add(s, "The follow-up path is empty from here.")
        if s.kind in ("label", "list", "field") and not s.name:
            add(s, f"Choose a {s.kind}.")
        if s.kind == "wait" and not s.waits:
            add(s, "Set a wait time.")
        if s.kind == "consent request" and not s.purposes:
            add(s, "Choose the purposes to ask for.")
    return out


def moved(definition: Definition, key: int, to: int) -> Definition:
    """The same with a step at another place (0-based)."""
    step = definition.step(key)
    if step is None:
        raise Refused("This step does not exist.")
    rest = [s for s in definition.steps if s.key != key]
    rest.insert(max(0, min(to, len(rest))), step)
    return replace(definition, steps=tuple(rest))
