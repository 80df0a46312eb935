"""Raw events from plain tuples, and hypothesis strategies that make small histories of every shape."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from hypothesis import strategies as st

from openmeadow.core.arrays import NEVER, narrow
from openmeadow.core.columns import Columns, People, build
from openmeadow.core.events import Kind, RawEvents
from openmeadow.core.moments import DAY

NOW = 1_773_308_520
LINKS = np.array([0, 3, 3, 3, 3, 3, 3, 3, 3, 3], np.int32)


@dataclass(frozen=True)
class E:
    """One event: who, what, how many seconds before NOW, message; ``by`` sets agent and network."""

    person: int
    kind: Kind
    ago: int
    message: int = 1
    by: str = "person"
    link: int = 0
    value: float = 0.0


def raw(events: list[E]) -> RawEvents:
    return RawEvents(
        at=np.array([NOW - e.ago for e in events], np.int64),
        kind=np.array([e.kind for e in events], np.int8),
        person=np.array([e.person for e in events], np.int32),
        message=np.array([e.message for e in events], np.int32),
        link=np.array([e.link for e in events], np.int32),
        value=np.array([e.value for e in events], np.float64),
        machine_listed=np.array([e.by == "machine" for e in events], bool),
        blind=np.array([e.by == "blind" for e in events], bool),
        trap=np.array([e.by == "trap" for e in events], bool),
    )


def everybody(count: int, joined: int = NOW - 900 * DAY, since: dict[int, int] | None = None) -> People:
    rejoined = np.full(count, NEVER, np.int64)
    for person, at in (since or {}).items():
        rejoined[person] = at
    return People(np.arange(1, count + 1), np.full(count, joined, np.int64), rejoined, np.zeros(count, np.int32))


def columns(events: list[E], people: int = 4, since: dict[int, int] | None = None) -> Columns:
    """As the files beside the database give them: numbers of messages in two bytes."""
    c = build(everybody(people, since=since), raw(events), LINKS)
    rows, acts = (replace(table, message=narrow(table.message)) for table in (c.rows, c.acts))
    return Columns(c.people, rows, acts, c.start)


PEOPLE = 4
_act = st.builds(
    E,
    person=st.integers(0, PEOPLE - 1),
    kind=st.sampled_from(
        [Kind.SENT] * 6 + [Kind.OPENED] * 3 + [Kind.CLICKED, Kind.BOUNCED, Kind.BOOKED, Kind.REPLIED, Kind.DELIVERED]
    ),
    ago=st.one_of(st.integers(-5, 700).map(lambda d: d * DAY + 777), st.sampled_from([90 * DAY, 45 * DAY, 0, 120 * DAY])),
    message=st.integers(1, 9),
    by=st.sampled_from(["person", "person", "machine", "blind"]),
    link=st.integers(0, 3),
    value=st.sampled_from([0.0, 30.0, 55.5]),
)


@st.composite
def histories(draw: st.DrawFn) -> list[E]:
    """Mostly sends, with answers of every kind; a booking now and then without a message."""
    events = draw(st.lists(_act, max_size=60))
    loose = draw(
        st.lists(
            st.builds(E, st.integers(0, PEOPLE - 1), st.just(Kind.BOOKED), st.integers(0, 400 * DAY), st.just(0)),
            max_size=3,
        )
    )
    return events + loose
