"""The score against the truth: people whose hidden chance to open is known, at three rhythms of sending."""

from __future__ import annotations

import numpy as np

from openmeadow.core.arrays import NEVER
from openmeadow.core.columns import Columns, People, build
from openmeadow.core.engagement.score import BANDS, Scores, score
from openmeadow.core.events import Kind, RawEvents
from openmeadow.core.moments import DAY
from openmeadow.demo.build import NOW, PEOPLE
from openmeadow.demo.mail_world.habits import Array, Habits, chance_to_open, draw

RHYTHMS = {"weekly": 7, "every two weeks": 14, "monthly": 30}
SPAN = 540


def history(h: Habits, gap: int, seed: int = 5) -> Columns:
    """Columns of what these people did with a message every ``gap`` days."""
    r = np.random.default_rng(seed)
    parts: list[tuple[Array, Array, int, int, Array]] = []  # at, person, kind, message, machine
    for n, ago in enumerate(range(SPAN, 0, -gap), start=1):
        at = NOW - ago * DAY
        who = np.flatnonzero((h.joined < at) & (h.gone > at))
        went = at + r.integers(0, 1800, len(who))
        parts.append((went, who, int(Kind.SENT), n, np.zeros(len(who), bool)))
        opened = r.random(len(who)) < chance_to_open(h, at)[who]
        delay = np.minimum(r.lognormal(9.1, 1.5, len(who)), 12 * DAY).astype(np.int64) + 15
        for mine, when, kind, machine in (
            (h.proxy[who], went + 600, Kind.OPENED, True),
            (opened & ~h.proxy[who] & (went + delay < NOW), went + delay, Kind.OPENED, False),
            (
                opened & (r.random(len(who)) < h.click[who]) & (went + delay + 40 < NOW),
                went + delay + 40,
                Kind.CLICKED,
                False,
            ),
        ):
            parts.append((when[mine], who[mine], int(kind), n, np.full(int(mine.sum()), machine)))
    for _ in range(3):
        called = np.flatnonzero(h.phones)
        when = NOW - r.integers(DAY, 300 * DAY, len(called))
        parts.append((when, called, int(Kind.BOOKED), 0, np.zeros(len(called), bool)))
    at, person, kind, message, machine = (
        np.concatenate([p[0] for p in parts]),
        np.concatenate([p[1] for p in parts]),
        np.concatenate([np.full(len(p[0]), p[2]) for p in parts]),
        np.concatenate([np.full(len(p[0]), p[3]) for p in parts]),
        np.concatenate([p[4] for p in parts]),
    )
    no = np.zeros(len(at), bool)
    raw = RawEvents(
        np.arange(len(at)),
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
    everybody = People(np.arange(1, len(h) + 1), h.joined.astype(np.int64), np.full(len(h), NEVER))
    return build(everybody, raw, np.zeros(int(message.max()) + 1, np.int32))


def auc(value: Array, truth: Array) -> float:
    """The chance that one who answers stands above one who does not, ties counting half (Mann and Whitney 1947)."""
    order = np.argsort(value, kind="stable")
    ranks = np.empty(len(value))
    ranks[order] = np.arange(1, len(value) + 1)
    _, group = np.unique(value, return_inverse=True)
    ranks = (np.bincount(group, ranks) / np.bincount(group))[group]
    yes = int(truth.sum())
    return float((ranks[truth].sum() - yes * (yes + 1) / 2) / (yes * (len(value) - yes)))


def judged(gap: int) -> tuple[dict[str, float], dict[str, tuple[int, float]], Scores]:
    """AUC of score, recency and the 90-day rule for "answers one of the next three"; per band people and true chance."""
    h = draw(PEOPLE, NOW)
    c = history(h, gap)
    s = score(c, NOW)
    r = np.random.default_rng(17)
    chance = np.where(h.gone > NOW, chance_to_open(h, NOW + gap * DAY), 0.0)
    answers = (r.random((3, len(h))) < chance).any(axis=0)
    last = np.where(s.last_engaged == NEVER, -1, s.last_engaged)
    found = {
        "score": auc(s.score, answers),
        "recency alone": auc(last, answers),
        "opened in the last 90 days": auc(last > NOW - 90 * DAY, answers),
    }
    bands = {
        b: (int((s.band == i).sum()), float(chance[s.band == i].mean()))
        for i, b in enumerate(BANDS)
        if (s.band == i).any()
    }
    return found, bands, s


def main() -> None:
    print(f"\nThe score against the truth ({PEOPLE:,} people): AUC for “answers one of the next three messages”")
    for name, gap in RHYTHMS.items():
        found, bands, s = judged(gap)
        print(f"  {name:<16}" + ", ".join(f"{k} {v:.3f}" for k, v in found.items()) + f"; window {s.cadence.window} days")
        print("                  true chance: " + ", ".join(f"{b} {p:.2f} ({n:,})" for b, (n, p) in bands.items()))


if __name__ == "__main__":
    main()
