"""The replay of a cut-off beside the world run again without those people: ``python -m bench.replay``. Everybody draws the
same lots in both worlds; whoever is beyond the cut-off when a message goes out is not sent it in the second."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from bench.truth import Population, demos, raw_events
from openmeadow.core.arrays import NEVER, Array
from openmeadow.core.columns import People, Trouble, Troubles, build
from openmeadow.core.engagement.replay import FINE_DAYS, Replay, replay
from openmeadow.core.events import Kind
from openmeadow.core.moments import DAY
from openmeadow.demo.build import NOW

GAP, SPAN, SINCE, LEFT = 7, 540, 365, 5
CUT_OFFS = (90, 120, 180)
COMPLAINS, MOST_DELAY = 0.002, 5 * DAY


@dataclass
class Lived:
    """What came of the messages of the last SINCE days, and all events as (at, person, kind, message)."""

    opens: int = 0
    complaints: int = 0
    bounces: int = 0
    events: list[tuple[Array, Array, int, int]] | None = None


def lived(p: Population, cut_off: int | None) -> Lived:
    """The world from the first message on; with a cut-off in days, without those beyond it in the last SINCE days."""
    r, n = np.random.default_rng(3), len(p)
    last, ignored, left = np.full(n, NEVER, np.int64), np.zeros(n, np.int64), np.zeros(n, bool)
    out = Lived(events=[])
    assert out.events is not None
    for number, ago in enumerate(range(SPAN, 0, -GAP), start=1):
        at = NOW - ago * DAY
        lot, wait, cross = (
            r.random(n),
            np.minimum(r.lognormal(9.1, 1.5, n), MOST_DELAY).astype(np.int64) + 15,
            r.random(n),
        )
        to = (p.joined < at) & ~left
        counts = ago < SINCE
        if cut_off is not None and counts:
            to &= ~(((last == NEVER) | ((at - last) // DAY >= cut_off)) & (ignored >= LEFT))
        bounced = to & (p.gone <= at)
        there = to & ~bounced
        opens = there & ~p.proxy & (lot < p.chance(at)) & (at + wait < NOW)
        complains = there & ~opens & (cross < COMPLAINS)
        out.opens += int(opens.sum()) * counts
        out.complaints += int(complains.sum()) * counts
        out.bounces += int(bounced.sum()) * counts
        last = np.where(opens, at + wait, last)
        ignored = np.where(opens, 0, ignored + there)
        left |= bounced | complains
        for who, when, kind in (
            (to, at + 0 * wait, Kind.SENT),
            (bounced, at + 4 + 0 * wait, Kind.BOUNCED),
            (opens, at + wait, Kind.OPENED),
            (complains, at + 7200 + 0 * wait, Kind.COMPLAINED),
        ):
            out.events.append((when[who], np.flatnonzero(who), int(kind), number))
    return out


def replayed(p: Population, world: Lived) -> Replay:
    events = world.events or []
    at, person = np.concatenate([e[0] for e in events]), np.concatenate([e[1] for e in events])
    kind, message = (np.concatenate([np.full(len(e[0]), e[i]) for e in events]) for i in (2, 3))
    raw = raw_events(at, person, kind, message, np.zeros(len(at), bool))
    nobody = np.zeros(len(p), np.int32)
    everybody = People(np.arange(1, len(p) + 1), p.joined.astype(np.int64), np.full(len(p), NEVER), nobody)
    what = np.where(kind == Kind.COMPLAINED, int(Trouble.COMPLAINED), int(Trouble.HARD))
    bad = np.isin(kind, (Kind.COMPLAINED, Kind.BOUNCED))
    troubles = Troubles(
        at[bad].astype(np.int64), person[bad].astype(np.int32), message[bad].astype(np.int32), what[bad].astype(np.int8)
    )
    return replay(build(everybody, raw, np.zeros(int(message.max()) + 1, np.int32)), troubles, NOW - SINCE * DAY, NOW)


def main() -> None:
    people = demos()
    whole = lived(people, None)
    told = replayed(people, whole)
    print(
        f"\nThe replay beside the world run again without those beyond a cut-off ({len(people):,} people, a year of weekly mail)"
    )
    for days in CUT_OFFS:
        other, said = lived(people, days), told.without(days, LEFT)
        column = FINE_DAYS.index(days)
        line = []
        for words, name, before, after in (
            ("opens lost", "opens", whole.opens, other.opens),
            ("complaints saved", "complaints", whole.complaints, other.complaints),
            ("hard bounces saved", "hard bounces", whole.bounces, other.bounces),
        ):
            world, ours = before - after, float(told.sums[name].sum()) - said[name]
            once = float(told.sums[name][column:, LEFT:].sum())
            off, was = (100 * (x / max(world, 1) - 1) for x in (ours, once))
            line.append(
                f"{words} {world:,} in the world, {ours:,.0f} replayed ({off:+.1f}%; message by message {was:+.0f}%)"
            )
        print(f"  {days} days: " + "; ".join(line))


if __name__ == "__main__":
    main()
