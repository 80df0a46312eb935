"""The obvious computation, person by person and event by event, to hold the fast one against."""

from __future__ import annotations

import math
from collections import defaultdict
from dataclasses import dataclass, field

from openmeadow.core.engagement.bot_detection import MACHINE, PERSON, UNSURE
from openmeadow.core.events import Kind
from openmeadow.core.moments import DAY
from tests.making import NOW, E

ANSWERS = (Kind.OPENED, Kind.CLICKED, Kind.REPLIED, Kind.BOOKED)


@dataclass
class Message:
    first: int
    failed: int | None = None
    acts: list[tuple[int, Kind, int]] = field(default_factory=list)  # at, kind, by


def at_of(e: E) -> int:
    return NOW - e.ago


def by_of(e: E, events: list[E]) -> int:
    """PERSON, MACHINE or UNSURE by the rules of the score."""
    if e.kind not in (Kind.OPENED, Kind.CLICKED):
        return PERSON
    if e.by in ("machine", "trap"):
        return MACHINE
    mine = [x for x in events if (x.person, x.message) == (e.person, e.message)]
    accepted = [at_of(x) for x in mine if x.kind in (Kind.SENT, Kind.DELIVERED) and at_of(x) <= at_of(e)]
    if accepted and at_of(e) - max(accepted) <= 3:
        return MACHINE
    if any(x.by == "trap" and abs(at_of(x) - at_of(e)) <= 10 for x in mine):
        return MACHINE
    if e.kind == Kind.CLICKED and e.link:
        clicks = [x for x in mine if x.kind == Kind.CLICKED and x.link]
        for start in clicks:
            window = [x for x in clicks if 0 <= at_of(x) - at_of(start) <= 10]
            if len({x.link for x in window}) >= 3 and e in window:
                return MACHINE
    return UNSURE if e.by == "blind" else PERSON


def messages_of(person: int, events: list[E]) -> tuple[dict[int, Message], list[tuple[int, Kind, int, int]]]:
    """A person's messages, and all of their acts as (at, kind, message, by) with bookings placed."""
    mine = sorted((e for e in events if e.person == person), key=lambda e: (at_of(e), e.kind))
    out: dict[int, Message] = {}
    passes: dict[int, list[int]] = defaultdict(list)
    for e in mine:
        if e.kind in (Kind.SENT, Kind.DELIVERED) and e.message:
            out.setdefault(e.message, Message(at_of(e)))
            if e.kind == Kind.SENT:
                passes[e.message].append(at_of(e))
    for number, m in out.items():
        bounces = [at_of(e) for e in mine if e.kind == Kind.BOUNCED and e.message == number and at_of(e) >= m.first]
        went = sorted(set(passes[number]))
        if len(passes[number]) <= 1:
            m.failed = min(bounces, default=None)
        else:
            ends = [
                [b for b in bounces if begin <= b < (went[i + 1] if i + 1 < len(went) else 2**62)]
                for i, begin in enumerate(went)
            ]
            m.failed = max(e[0] for e in ends) if all(ends) else None
    acts = []
    for e in mine:
        if e.kind in ANSWERS:
            acts.append([at_of(e), e.kind, e.message, by_of(e, events)])
    for act in acts:
        if act[1] == Kind.BOOKED and act[2] == 0:
            for kind, within in ((Kind.CLICKED, 7 * DAY), (Kind.OPENED, 2 * DAY)):
                before = [a for a in acts if a[1] == kind and a[3] != MACHINE and a[2] and a[0] <= act[0]]
                last = max(before, key=lambda a: a[0], default=None)
                if last and act[0] - last[0] <= within:
                    act[2] = last[2]
                    break
    for at, kind, message, by in acts:
        if message in out:
            out[message].acts.append((at, kind, by))
    return out, [tuple(a) for a in acts]  # type: ignore[misc]


ALPHA, BETA, GAMMA, DELTA = 0.6, 1.2, 1.0, 40.0
CLICKS = (0.3, 3.0, 1.0, 40.0)


def beta_ratio(a: float, b: float, yes: int, no: int) -> float:
    """B(a + yes, b + no) / B(a, b)."""
    return math.exp(
        math.lgamma(a + yes)
        + math.lgamma(b + no)
        - math.lgamma(a + b + yes + no)
        - math.lgamma(a)
        - math.lgamma(b)
        + math.lgamma(a + b)
    )


def chance(x: int, t: int, n: int, of: tuple[float, float, float, float]) -> tuple[float, float]:
    """Still active at the next message, and engaging with it: the closed form, term by term."""
    a, b, c, d = of
    stays = beta_ratio(a, b, x, n - x) * beta_ratio(c, d, 0, n)
    whole = stays + sum(beta_ratio(a, b, x, t - x + i) * beta_ratio(c, d, 1, t + i) for i in range(n - t))
    active = stays / whole * (d + n) / (c + d + n)
    return active, active * (a + x) / (a + b + n)


@dataclass
class Person:
    counted: tuple[int, int, int]
    active: float
    chance: float
    band: str
    engaged: int
    ignored: int
    last: int | None

    @property
    def score(self) -> float:
        return 100 * self.chance


def judge(person: int, events: list[E], window: int, settled: int, since: int = -(2**62)) -> Person:
    """Counts, chance and band of one person as of NOW."""
    found, acts = messages_of(person, events)
    past = [a for a in acts if a[0] <= NOW and a[3] != MACHINE]
    last = max((a[0] for a in past), default=None)
    answered = fresh = ignored = in_window = machine_in_window = blind = 0
    first_delivered = None
    there = [(number, m) for number, m in found.items() if m.first <= NOW and (m.failed is None or m.failed > NOW)]
    there.sort(key=lambda x: (x[1].first, x[0]))
    loose = set()
    for at, kind, message, _ in past:
        if kind in (Kind.BOOKED, Kind.REPLIED) and message == 0:
            loose.update([number for number, m in there if m.first <= at][-1:])
    reading, clicking = [], []  # of the messages that count, whether they were engaged with, and clicked
    for number, m in there:
        people = [a for a in m.acts if a[0] <= NOW and a[2] != MACHINE]
        machine = any(a[2] == MACHINE and a[0] <= NOW and a[1] in (Kind.OPENED, Kind.CLICKED) for a in m.acts)
        reacted = number in loose or any(a[1] != Kind.OPENED for a in people)
        engaged = reacted or bool(people)
        answered += engaged
        if m.first > max(last if last is not None else -(2**62), since):
            ignored += 1
        if m.first > NOW - window * DAY:
            in_window += 1
            machine_in_window += machine
            seen = [a[0] for a in people if a[1] in (Kind.OPENED, Kind.CLICKED)]
            clicks = [a[0] for a in people if a[1] == Kind.CLICKED]
            blind += machine and (not seen or (bool(clicks) and min(seen) >= min(clicks)))
        if m.first <= since:
            continue
        fresh += engaged
        first_delivered = m.first if first_delivered is None else min(first_delivered, m.first)
        old = m.first <= NOW - settled
        if engaged or (old and not machine):
            reading.append(engaged)
        if reacted or old:
            clicking.append(reacted)
    valid = last if last is not None and last > since else None
    quiet = valid is None or valid <= NOW - window * DAY
    masked = quiet and machine_in_window * 2 >= in_window and machine_in_window >= 3
    hidden = blind * 2 >= in_window and blind >= 3
    counting = (clicking if hidden else reading)[-150:]
    t = max((i + 1 for i, yes in enumerate(counting) if yes), default=0)
    counted = (sum(counting), t, len(counting))
    active, likely = chance(*counted, CLICKS if hidden else (ALPHA, BETA, GAMMA, DELTA))
    young = ignored < 5 or first_delivered is None or first_delivered > NOW - window * DAY
    if valid is None and young:
        band = "Unproven"
    elif masked:
        band = "Masked"
    elif valid is None or (quiet and ignored >= 5):
        band = "Inactive"
    elif valid <= NOW - window * DAY // 2:
        band = "Fading"
    elif 100 * likely >= 40 and fresh >= 3:
        band = "Strong"
    else:
        band = "Steady" if 100 * likely >= 12 else "Fading"
    return Person(counted, active, likely, band, answered, ignored, last)
