"""A sequence as it is written: how it begins, its steps in order and in two lanes, and what makes people leave at once."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass, field, replace
from typing import Any

from openmeadow.core.errors import Refused

MINUTE, HOUR, DAY = 60, 3600, 86_400
EVERYONE, SECOND = 1, 2
KINDS = ("message", "repeat", "question", "wait", "label", "list", "field", "consent request", "let go", "end")
MAILS = ("message", "repeat", "consent request")
BEGINS = (
    "by hand",
    "joins a list",
    "confirms",
    "awaits confirmation",
    "gets a label",
    "enters a segment",
    "a date",
    "books",
)
ASKS = ("answered", "clicked", "rule")
SECOND_LANE, END, ON = "second lane", "end", "go on"
MOST_REPEATS = 2  # of one message, as in campaigns
LONGEST_WAIT = 366 * DAY


@dataclass(frozen=True)
class Step:
    """One rung. ``key`` stays the same when it moves; ``lane`` 1 is everyone, 2 those who went to the second lane;
    ``meets``: whoever is in the second lane comes back to the first here. ``wait`` is in seconds and lies before a
    question is asked or a repeat goes; ``hour`` (local, or None) and ``weekdays`` (0 = Monday) move its end on.

    ``of`` is the key of the message a question or a repeat is about. ``yes`` and ``no`` say where a question leads: on,
    to the second lane, to the end, or to the key of a step further down. ``name`` is the label, list or field of an act,
    ``value`` what the field becomes; ``take`` takes a label or list away instead."""

    key: int
    kind: str
    lane: int = EVERYONE
    meets: bool = True
    off: bool = False
    name: str = ""
    wait: int = 0
    hour: int | None = None
    weekdays: tuple[int, ...] = ()
    own_zone: bool = False
    asks: str = "answered"
    of: int = 0
    rule: str = ""
    yes: str = ON
    no: str = SECOND_LANE
    value: str = ""
    take: bool = False
    subject: str = ""
    preview: str = ""
    purposes: tuple[str, ...] = ()

    @property
    def waits(self) -> bool:
        return bool(self.wait or self.hour is not None or self.weekdays)


@dataclass(frozen=True)
class Begin:
    """When somebody enters. ``what`` names the list, label, segment, purpose or field; a date comes ``yearly`` or once.
    ``again_after`` seconds after leaving one may enter again (None: once per person). ``a_day`` is how many begin a day
    at most, ``first_day`` how many on the first, ``a_provider`` per provider and day (0: no limit)."""

    on: str = "by hand"
    what: str = ""
    yearly: bool = True
    again_after: int | None = None
    a_day: int = 0
    first_day: int = 0
    a_provider: int = 0
    by_lot: bool = False


@dataclass(frozen=True)
class Leave:
    """What makes people leave at once, beside what always does (no consent any more, suppressed, erased)."""

    answered: bool = False
    confirmed: bool = False
    booked: bool = False
    rule: str = ""


@dataclass(frozen=True)
class Ladder:
    """All of it, as one version says."""

    steps: tuple[Step, ...] = ()
    begin: Begin = field(default_factory=Begin)
    leave: Leave = field(default_factory=Leave)
    held_back: float = 0.0  # share who get no repeats, by lot, to compare

    def step(self, key: int) -> Step | None:
        return next((s for s in self.steps if s.key == key), None)

    def place(self, key: int) -> int:
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

    def json(self) -> dict[str, Any]:
        return asdict(self)


def read(told: Mapping[str, Any]) -> Ladder:
    """A ladder from its JSON form; what cannot be is a sentence."""
    try:
        steps = tuple(
            Step(**{**s, "weekdays": tuple(s.get("weekdays", ())), "purposes": tuple(s.get("purposes", ()))})
            for s in told.get("steps", ())
        )
        ladder = Ladder(
            steps, Begin(**told.get("begin", {})), Leave(**told.get("leave", {})), float(told.get("held_back", 0.0))
        )
    except TypeError as e:
        raise Refused(f"This is no sequence: {e}.") from e
    keys = [s.key for s in steps]
    if len(keys) != len(set(keys)) or any(k < 1 for k in keys):
        raise Refused("Every step needs a key of its own, from 1.")
    for s in steps:
        if s.kind not in KINDS or s.lane not in (EVERYONE, SECOND) or s.asks not in ASKS:
            raise Refused(f"There is no step of the kind “{s.kind}” in lane {s.lane}.")
        if not 0 <= s.wait <= LONGEST_WAIT or not (s.hour is None or 0 <= s.hour <= 23):
            raise Refused("A wait lasts at most a year, and hours go from 0 to 23.")
        if any(not 0 <= d <= 6 for d in s.weekdays):
            raise Refused("Weekdays go from 0, Monday, to 6, Sunday.")
    if ladder.begin.on not in BEGINS:
        raise Refused(f"A sequence cannot begin “{ladder.begin.on}”.")
    if not 0.0 <= ladder.held_back <= 0.5:
        raise Refused("At most half can be held back.")
    return ladder


@dataclass(frozen=True)
class Lack:
    """Something missing, and the step it is missing in (0: the sequence itself)."""

    step: int
    sentence: str


def lacks(ladder: Ladder) -> list[Lack]:
    """Everything that is missing before it can run, also in steps that are switched off. What a message says is
    looked at elsewhere."""
    out, titles = [], ladder.titles()

    def add(step: Step, sentence: str) -> None:
        out.append(
            Lack(step.key, sentence + (" (It is switched off, but may be switched on again.)" if step.off else ""))
        )

    if ladder.begin.on != "by hand" and not ladder.begin.what and ladder.begin.on != "books":
        out.append(Lack(0, f"It begins when somebody {ladder.begin.on}: say which."))
    if not any(s.kind in MAILS and not s.off for s in ladder.steps):
        out.append(Lack(0, "It has no message: add one."))
    repeats: dict[int, int] = {}
    for i, s in enumerate(ladder.steps):
        above = {x.key: x for x in ladder.steps[:i]}
        below = {x.key for x in ladder.steps[i + 1 :]}
        if s.kind == "repeat" or (s.kind == "question" and s.asks != "rule"):
            about = above.get(s.of)
            what = "repeat" if s.kind == "repeat" else "question"
            if about is None or about.kind not in ("message", "consent request"):
                add(s, f"The {what} needs a message further up that it is about.")
            if s.kind == "repeat":
                repeats[s.of] = repeats.get(s.of, 0) + 1
                if repeats[s.of] > MOST_REPEATS:
                    add(s, f"“{titles.get(s.of, 'A message')}” is repeated more than {MOST_REPEATS} times.")
        if s.kind == "question":
            if s.asks == "rule" and not s.rule.strip():
                add(s, "The question needs a rule.")
            for word, to in (("yes", s.yes), ("no", s.no)):
                if to.isdigit() and int(to) not in below:
                    add(s, f"Its “{word}” leads to a step that is not further down.")
            if SECOND_LANE in (s.yes, s.no) and not any(x.lane == SECOND for x in ladder.steps[i + 1 :]):
                add(s, "It leads to the second lane, where no step follows.")
        if s.kind in ("label", "list", "field") and not s.name:
            add(s, f"Say which {s.kind}.")
        if s.kind == "wait" and not s.waits:
            add(s, "The wait needs a time.")
        if s.kind == "consent request" and not s.purposes:
            add(s, "Say what consent is asked for.")
    return out


def moved(ladder: Ladder, key: int, to: int) -> Ladder:
    """The same with a step at another place (0-based)."""
    step = ladder.step(key)
    if step is None:
        raise Refused("There is no such step.")
    rest = [s for s in ladder.steps if s.key != key]
    rest.insert(max(0, min(to, len(rest))), step)
    return replace(ladder, steps=tuple(rest))
