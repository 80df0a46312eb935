"""How soon the spam folder is seen from engagement, and how often it is seen where it is not: campaigns to the people of the
mail world, whose placement is known, with the chances that their history gave them, seasons and weekday effects:
``python -m bench.placement``."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from bench.truth import demos, history
from openmeadow.core.arrays import F64, I64, Mask
from openmeadow.core.engagement.bands import INACTIVE, cadence
from openmeadow.core.engagement.expected import Curve, Level
from openmeadow.core.engagement.fitting import fit_all
from openmeadow.core.engagement.placement import EARLY, Group, dispersion, evidence, ratio_of_others
from openmeadow.core.engagement.score import Basis, score
from openmeadow.core.moments import DAY, HOUR
from openmeadow.demo.build import NOW
from openmeadow.demo.mail_world.habits import IN_SPAM, PROVIDERS

CAMPAIGNS, SIZES = 400, (300, 1_000, 3_000, 10_000)  # recipients at the provider that may put mail into spam
OTHERS = (1.5, 1.0, 0.6)  # the other providers' sizes beside it
SPREAD, BETWEEN = 0.10, 0.04  # of mailings' ratios, and between providers
BATCHES, APART, LOOKS = 4, 4 * HOUR, HOUR


@dataclass(frozen=True)
class People:
    """Whom mail reaches in the mail world: provider, chance as the score has it, true chance."""

    provider: I64
    chance: F64
    true: F64


def of_the_mail_world() -> People:
    """The demo's people after 18 months of weekly mail; those whose reading is hidden are left out, as in the product."""
    p = demos()
    assert p.host is not None
    c = history(p, 7)
    pace = cadence(c, NOW)
    s = score(c, NOW, Basis(pace, fit_all(c, NOW, np.ones(len(p), bool), pace)))
    keep = np.flatnonzero(~s.hidden & (p.gone > NOW) & (s.band != INACTIVE))
    named = [name for name, _ in PROVIDERS]
    provider = np.array([named.index(h) if h in named else len(named) for h in p.host[keep].tolist()], np.int64)
    return People(provider, s.chance[keep], p.seen(NOW)[keep])


@dataclass(frozen=True)
class Mailed:
    """Recipients of one campaign: provider, chance as the score has it, when sent, when they engage (huge for never)."""

    provider: I64
    chance: F64
    sent_at: I64
    engaged_at: I64


def season(r: np.random.Generator) -> float:
    """All engagement of a mailing beside the usual: half of it in the low season, and the weekday's effect."""
    wave = 1.0 - 0.25 * (1 - np.cos(2 * np.pi * r.random()))
    return float(wave * r.choice([0.85, 1.0, 1.0, 1.05, 1.1]) * np.exp(r.normal(0, SPREAD)))


def mailed(r: np.random.Generator, people: People, size: int, spam_at: int | None) -> Mailed:
    """A campaign in batches, its recipients in random order; provider 0 has ``size`` of them, drawn from its people."""
    sizes = [size, *(round(size * f) for f in OTHERS)]
    who = np.concatenate([r.choice(np.flatnonzero(people.provider == p), n) for p, n in enumerate(sizes)])
    provider, chance, n = people.provider[who], people.chance[who], len(who)
    batch = r.permutation(np.arange(n) % BATCHES)
    sent_at = batch * APART + r.integers(0, HOUR, n)
    own = np.exp(r.normal(0, BETWEEN, len(sizes)))
    true = np.minimum(people.true[who] * season(r) * own[provider], 1.0)
    if spam_at is not None:
        true = np.where(provider == spam_at, true * IN_SPAM, true)
    delay = np.minimum(r.lognormal(9.1, 1.5, n), 12 * DAY).astype(np.int64) + 15
    return Mailed(provider, chance, sent_at, np.where(r.random(n) < true, sent_at + delay, 2**60))


def groups(m: Mailed, now: int, half: int) -> dict[int, Group]:
    """Who is looked at by ``now``."""
    due: Mask = m.sent_at + half <= now
    engaged = m.engaged_at <= m.sent_at + half
    return {
        p: Group(EARLY * m.chance[mine], engaged[mine])
        for p in range(1 + len(OTHERS))
        if len(mine := np.flatnonzero(due & (m.provider == p)))
    }


def main() -> None:
    r, people = np.random.default_rng(29), of_the_mail_world()
    curve = Curve.of(np.minimum(r.lognormal(9.1, 1.5, 50_000), 12 * DAY).astype(np.int64) + 15)
    half = curve.within(EARLY)
    # what this workspace's history says of the spread between providers and of mailings
    ratios, variances, levels = [], [], []
    for _ in range(60):
        m = mailed(r, people, 2_000, None)
        found = groups(m, 30 * DAY, half)
        whole = sum(g.observed for g in found.values()) / sum(g.expected for g in found.values())
        levels.append(whole)
        for p, g in found.items():
            others = ratio_of_others(found, p, Level(1.0, 10.0))
            ratios.append(np.log((g.observed + 0.5) / (g.expected * others + 0.5)))
            variances.append(g.noise(others))
    between = dispersion(np.array(ratios), np.array(variances))
    usual = Level(float(np.mean(levels)), float(np.std(levels)), len(levels))
    print(f"\nThe spam folder seen from engagement ({CAMPAIGNS} campaigns, half of them in spam at one provider)")
    print(
        f"  spread between providers {between:.3f} (true {BETWEEN}); level {usual.level:.2f}, spread {usual.spread:.2f}"
    )
    each = CAMPAIGNS // len(SIZES) // 2
    wrong = whole_runs = 0
    for size in SIZES:
        gone_to, hours, caught, false = [], [], 0, 0
        for truth in (0, None):
            for _ in range(each):
                m = mailed(r, people, size, truth)
                alarm = None
                for now in range(half, 2 * DAY + BATCHES * APART, LOOKS):
                    found = groups(m, now, half)
                    told = {p for p in found if evidence(found, p, usual, between).is_spam}
                    if told and alarm is None:
                        alarm = now, told
                    if alarm is not None:
                        break
                if truth is None:
                    false += alarm is not None
                elif alarm is not None and truth in alarm[1]:
                    gone = int(((m.provider == 0) & (m.sent_at <= alarm[0])).sum())
                    gone_to.append(gone)
                    hours.append(alarm[0] / HOUR)
                    caught += gone <= 1_000 or alarm[0] <= DAY
        wrong, whole_runs = wrong + false, whole_runs + each
        print(
            f"  {size:6,} recipients there: {100 * caught / each:5.1f}% found before 1,000 of them were mailed or within a day; "
            f"after {np.median(gone_to):,.0f} people and {np.median(hours):.0f} h on the median; false {100 * false / each:.1f}%"
        )
    print(f"  false alarms in all {100 * wrong / whole_runs:.1f} of 100 campaigns (wanted: fewer than 5)")


if __name__ == "__main__":
    main()
