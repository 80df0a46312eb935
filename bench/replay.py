"""The replay of a cut-off beside the mail world run again without those people: ``python -m bench.replay``. Everybody draws
the same lots in both worlds; who is beyond the cut-off when a message goes out is not sent it in the second, and the
providers place what is sent by what their people read of it."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from bench.truth import Population, demos, raw_events
from openmeadow.core.arrays import NEVER, Array, Mask
from openmeadow.core.columns import People, Trouble, Troubles, build
from openmeadow.core.engagement.replay import Replay, replay
from openmeadow.core.events import Kind
from openmeadow.core.moments import DAY
from openmeadow.demo.build import NOW
from openmeadow.demo.mail_world.habits import IN_SPAM, PROVIDERS
from openmeadow.demo.mail_world.reputation import Reputation

GAP, SPAN, SINCE, LEFT = 7, 540, 365, 5
CUT_OFFS = (90, 120, 180)
COMPLAINS, MOST_DELAY = 0.002, 5 * DAY
KINDS = (0.06, 0.30, 0.33, 0.40)  # how much providers want to see read: the demo's, strict, stricter, hardly met


@dataclass
class Lived:
    """Of each message of the last SINCE days who was sent it, and of them who opened, complained and bounced; all events
    as (at, person, kind, message); of each provider the mean share that lay in spam."""

    sent: list[Mask] = field(default_factory=list)
    opens: list[Mask] = field(default_factory=list)
    complaints: list[Mask] = field(default_factory=list)
    bounces: list[Mask] = field(default_factory=list)
    events: list[tuple[Array, Array, int, int]] = field(default_factory=list)
    in_spam: dict[str, list[float]] = field(default_factory=dict)


def lived(p: Population, cut_off: int | None, wanted: float) -> Lived:
    """The mail world from the first message on, its providers placing mail by what their people read; with a cut-off in
    days, without those beyond it in the last SINCE days. Everybody draws the same lots in each such world."""
    assert p.host is not None
    r, n, places = np.random.default_rng(3), len(p), Reputation(wanted=wanted)
    hosts = {name: p.host == name for name, _ in PROVIDERS}
    last, ignored, left = np.full(n, NEVER, np.int64), np.zeros(n, np.int64), np.zeros(n, bool)
    out = Lived()
    for number, ago in enumerate(range(SPAN, 0, -GAP), start=1):
        at = NOW - ago * DAY
        lot, wait, cross, placed = (
            r.random(n),
            np.minimum(r.lognormal(9.1, 1.5, n), MOST_DELAY).astype(np.int64) + 15,
            r.random(n),
            r.random(n),
        )
        to = (p.joined < at) & ~left
        counts = ago < SINCE
        if cut_off is not None and counts:
            to &= ~(((last == NEVER) | ((at - last) // DAY >= cut_off)) & (ignored >= LEFT))
        bounced = to & (p.gone <= at)
        there = to & ~bounced
        reaches = np.ones(n)
        for name, mine in hosts.items():
            share = places.share_in_spam(name)
            reaches[mine & (placed < share)] = IN_SPAM
            out.in_spam.setdefault(name, []).append(share)
        reads = there & (lot < p.chance(at) * reaches)
        for name, mine in hosts.items():
            places.saw(name, int((there & mine).sum()), int((reads & mine).sum()))
        opens = reads & ~p.proxy & (at + wait < NOW)
        complains = there & ~opens & (cross < COMPLAINS)
        if counts:
            for kept, what in zip(
                (out.sent, out.opens, out.complaints, out.bounces), (to, opens, complains, bounced), strict=True
            ):
                kept.append(what)
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
    events = world.events
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


def beside(people: Population, wanted: float) -> None:
    """One kind of providers: the replay beside the world without those beyond each cut-off."""
    whole = lived(people, None, wanted)
    told = replayed(people, whole)
    rate = sum(o.sum() for o in whole.opens) / sum(s.sum() for s in whole.sent)
    spam = ", ".join(f"{100 * np.mean(v[-SINCE // GAP :]):.0f}%" for v in whole.in_spam.values())
    print(f"  providers that want {100 * wanted:.0f}% read: {100 * rate:.0f}% opened; in spam at the three {spam}")
    for days in CUT_OFFS:
        other, said = lived(people, days, wanted), told.without(days, LEFT)
        out = [a & ~b for a, b in zip(whole.sent, other.sent, strict=True)]
        line = []
        for words, name, before in (
            ("opens lost", "opens", whole.opens),
            ("complaints saved", "complaints", whole.complaints),
            ("hard bounces saved", "hard bounces", whole.bounces),
        ):
            world = sum(int((o & b).sum()) for o, b in zip(out, before, strict=True))
            ours = float(told.sums[name].sum()) - said[name]
            line.append(
                f"{words} {world:,} in the world, {ours:,.0f} replayed ({100 * (ours / max(world, 1) - 1):+.1f}%)"
            )
        more = sum(int(b.sum()) - int((a & ~o).sum()) for a, b, o in zip(whole.opens, other.opens, out, strict=True))
        spam = ", ".join(f"{100 * np.mean(v[-SINCE // GAP :]):.0f}%" for v in other.in_spam.values())
        print(f"    {days} days: " + "; ".join(line) + f"; the rest opened {more:+,}, in spam {spam}")


def main() -> None:
    people = demos()
    print(
        f"\nThe replay beside the mail world run again without those beyond a cut-off ({len(people):,} people, a year of "
        "weekly mail)"
    )
    for wanted in KINDS:
        beside(people, wanted)


if __name__ == "__main__":
    main()
