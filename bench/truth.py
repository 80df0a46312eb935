"""The score against the truth, on people whose hidden chances are known: the demo's at three rhythms of sending, and three
populations of other make: ``python -m bench.truth``."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from openmeadow.core.arrays import FAR, NEVER, Array
from openmeadow.core.columns import Columns, People, build
from openmeadow.core.engagement.bands import BANDS, cadence
from openmeadow.core.engagement.fitting import fit_all
from openmeadow.core.engagement.score import Basis, Scores, score
from openmeadow.core.engagement.score_check import auc
from openmeadow.core.events import Kind, RawEvents
from openmeadow.core.moments import DAY
from openmeadow.demo.build import NOW, PEOPLE
from openmeadow.demo.mail_world.habits import chance_to_open, draw

RHYTHMS = {"weekly": 7, "every two weeks": 14, "monthly": 30}
SPAN, HALF_LIFE = 540, 60


@dataclass(frozen=True)
class Population:
    """``chance(at)``: each person's true chance to open a message at a moment; ``gone``: when their mailbox went away;
    machines open all mail of ``proxy``; ``phones`` book and open nothing; ``host`` is the domain of the address."""

    joined: Array
    gone: Array
    click: Array
    proxy: Array
    phones: Array
    chance: Callable[[int], Array]
    host: Array | None = None

    def __len__(self) -> int:
        return len(self.joined)

    def seen(self, at: int) -> Array:
        """The chance to be seen engaging: of those whose mail machines open, only by a click."""
        return self.chance(at) * np.where(self.proxy, self.click, 1.0)


def demos() -> Population:
    h = draw(PEOPLE, NOW)
    host = np.array([a.rpartition("@")[2] for a in h.email.tolist()])
    return Population(h.joined, h.gone, h.click, h.proxy, h.phones, lambda at: chance_to_open(h, at), host)


def others(kind: str) -> Population:
    """Two kinds of readers; seasonal readers; slow decline."""
    r, n = np.random.default_rng(11), PEOPLE
    joined = NOW - r.integers(DAY, 700 * DAY, n)
    never, nobody = np.full(n, FAR), np.zeros(n, bool)
    if kind == "two kinds of readers":
        rate = np.where(r.random(n) < 0.3, r.beta(9, 3, n), r.beta(1, 14, n))
        until = joined + r.exponential(900 * DAY, n).astype(np.int64)
        return Population(joined, never, np.full(n, 0.2), nobody, nobody, lambda at: np.where(at < until, rate, 0.0))
    rate, phase = r.beta(1.2, 2.2, n), r.random(n)
    if kind == "seasonal readers":
        until = joined + r.exponential(1_200 * DAY, n).astype(np.int64)

        def seasonal(at: int) -> Array:
            wave = 1 + 0.5 * np.sin(2 * np.pi * (at / (365 * DAY) + 0.15 * phase))
            return np.where(at < until, np.minimum(rate * wave, 1.0), 0.0)

        return Population(joined, never, np.full(n, 0.2), nobody, nobody, seasonal)
    decline = r.exponential(1 / 500, n)
    return Population(
        joined,
        never,
        np.full(n, 0.2),
        nobody,
        nobody,
        lambda at: rate * np.exp(-decline * np.maximum(at - joined, 0) / DAY),
    )


def raw_events(at: Array, person: Array, kind: Array, message: Array, machine: Array) -> RawEvents:
    """Events of these arrays, by known agents, without links or values."""
    no = np.zeros(len(at), bool)
    return RawEvents(
        at.astype(np.int64),
        kind.astype(np.int8),
        person.astype(np.int32),
        message.astype(np.int32),
        np.zeros(len(at), np.int32),
        np.zeros(len(at)),
        machine,
        no,
        no,
    )


def history(p: Population, gap: int, seed: int = 5) -> Columns:
    """Columns of what these people did with a message every ``gap`` days."""
    r = np.random.default_rng(seed)
    found: list[tuple[Array, Array, int, int, Array]] = []  # at, person, kind, message, machine
    for n, ago in enumerate(range(SPAN, 0, -gap), start=1):
        at = NOW - ago * DAY
        who = np.flatnonzero((p.joined < at) & (p.gone > at))
        went = at + r.integers(0, 1800, len(who))
        found.append((went, who, int(Kind.SENT), n, np.zeros(len(who), bool)))
        opened = r.random(len(who)) < p.chance(at)[who]
        clicked = opened & (r.random(len(who)) < p.click[who])
        delay = np.minimum(r.lognormal(9.1, 1.5, len(who)), 12 * DAY).astype(np.int64) + 15
        for mine, when, kind, machine in (
            (p.proxy[who], went + 600, Kind.OPENED, True),
            (opened & ~p.proxy[who] & (went + delay < NOW), went + delay, Kind.OPENED, False),
            (clicked & (went + delay + 40 < NOW), went + delay + 40, Kind.CLICKED, False),
        ):
            found.append((when[mine], who[mine], int(kind), n, np.full(int(mine.sum()), machine)))
    for _ in range(3):
        called = np.flatnonzero(p.phones)
        when = NOW - r.integers(DAY, 300 * DAY, len(called))
        found.append((when, called, int(Kind.BOOKED), 0, np.zeros(len(called), bool)))
    at, person, kind, message, machine = (
        np.concatenate([f[0] for f in found]),
        np.concatenate([f[1] for f in found]),
        np.concatenate([np.full(len(f[0]), f[2]) for f in found]),
        np.concatenate([np.full(len(f[0]), f[3]) for f in found]),
        np.concatenate([f[4] for f in found]),
    )
    everybody = People(
        np.arange(1, len(p) + 1), p.joined.astype(np.int64), np.full(len(p), NEVER), np.zeros(len(p), np.int32)
    )
    return build(everybody, raw_events(at, person, kind, message, machine), np.zeros(int(message.max()) + 1, np.int32))


def former(c: Columns) -> Array:
    """The score of before: messages fade with a half-life of 60 days, an open counts 0.7 of a click."""
    rows = c.rows
    delivered = (rows.first_at <= NOW) & (rows.failed_at > NOW)
    weight = np.exp2((rows.first_at - NOW) / (HALF_LIFE * DAY)) * delivered
    value = np.where(rows.reacted_at <= NOW, 1.0, 0.7 * (rows.opened_at <= NOW))
    e, n = (np.bincount(rows.person, w, minlength=len(c.people)) for w in (weight * value, weight))
    return e / (n + 1)


@dataclass(frozen=True)
class Judged:
    """AUC by what it is ranked by; the calibration error over twentieths; the tenths."""

    ranks: dict[str, float]
    error: float
    tenths: list[tuple[float, float]]
    scores: Scores


def judged(p: Population, gap: int) -> Judged:
    """Of people who get the next messages: "engages with one of the next three", as it can be seen."""
    c = history(p, gap)
    pace = cadence(c, NOW)
    s = score(c, NOW, Basis(pace, fit_all(c, NOW, np.ones(len(p), bool), pace)))
    r = np.random.default_rng(17)
    reached = np.flatnonzero(p.gone > NOW)
    chance = p.seen(NOW + gap * DAY)[reached]
    answers = (r.random((3, len(reached))) < chance).any(axis=0)
    last = np.where(s.last_engaged == NEVER, -1, s.last_engaged)[reached]
    ranked = {
        "score": s.chance[reached],
        "former score": former(c)[reached],
        "recency": last,
        "90-day rule": last > NOW - 90 * DAY,
        "truth": chance,
    }
    ranks = {k: auc(v, answers) or 0.5 for k, v in ranked.items()}
    # everybody, mailboxes that are gone and opens that no one can see among them, as figures before were told
    everybody = np.where(p.gone > NOW, p.chance(NOW + gap * DAY), 0.0)
    ranks["score, everybody"] = (
        auc(s.chance, (np.random.default_rng(17).random((3, len(p))) < everybody).any(axis=0)) or 0.5
    )
    order = np.argsort(s.chance[reached], kind="stable")
    pieces = [(float(s.chance[reached][i].mean()), float(chance[i].mean())) for i in np.array_split(order, 20)]
    tenths = [(float(s.chance[reached][i].mean()), float(chance[i].mean())) for i in np.array_split(order, 10)]
    return Judged(ranks, float(np.mean([abs(a - b) for a, b in pieces])), tenths, s)


def main() -> None:
    print(f"\nThe score against the truth ({PEOPLE:,} people): AUC for “engages with one of the next three messages”")
    cases = [(f"demo, {name}", demos(), gap) for name, gap in RHYTHMS.items()]
    cases += [(kind, others(kind), 7) for kind in ("two kinds of readers", "seasonal readers", "slow decline")]
    for name, population, gap in cases:
        found = judged(population, gap)
        print(f"  {name:<22}" + ", ".join(f"{k} {v:.3f}" for k, v in found.ranks.items()))
        print(
            f"  {'':<22}calibration error {found.error:.4f}; in tenths "
            + " ".join(f"{a:.2f}/{b:.2f}" for a, b in found.tenths)
        )
        s, chance = found.scores, population.seen(NOW + gap * DAY)
        bands = ((b, s.band == i) for i, b in enumerate(BANDS))
        print(f"  {'':<22}" + ", ".join(f"{b} {chance[m].mean():.2f} ({m.sum():,})" for b, m in bands if m.any()))


if __name__ == "__main__":
    main()
