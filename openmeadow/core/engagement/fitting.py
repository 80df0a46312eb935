"""The models fitted on a workspace's history, and moved to what its last mailings showed where they are off."""

from __future__ import annotations

from dataclasses import dataclass
from math import sqrt

import numpy as np

from openmeadow.core.arrays import F64, I64, Mask
from openmeadow.core.columns import Columns
from openmeadow.core.delivery.randomise import draw
from openmeadow.core.engagement.bands import Cadence
from openmeadow.core.engagement.chance import AS_IT_IS, Adjustment, ChanceModel, logit
from openmeadow.core.engagement.chance_fit import SOURCE_PEOPLE, fit, fit_source
from openmeadow.core.engagement.chance_models import CLICKS, ChanceModels
from openmeadow.core.engagement.counted import of_everybody
from openmeadow.core.engagement.score import Basis
from openmeadow.core.engagement.score_check import TWENTIETHS, answers, mailings, parts
from openmeadow.core.engagement.subset import subset
from openmeadow.core.moments import DAY

MOST_PEOPLE = 200_000  # looked at for a fit
SAMPLE = 0x6D65  # seed of the sample
LAST, ENOUGH_ANSWERS = 4, 10_000  # mailings an adjustment is told from, more where they have fewer answers
OFF, SURE = 0.02, 20.0  # calibration error from which it is made, and twice the gain in log likelihood
TREND_OF, FEWEST_OF_TREND, BEYOND_DOUBT = 5, 5, 5.0  # mailings a trend is told from, and its standard errors
ROUNDS, PIECES = 25, 4_000


def sample(columns: Columns, alive: Mask) -> I64:
    """Places of the people that a fit looks at: all, or MOST_PEOPLE at random, the same each time."""
    who = np.flatnonzero(alive)
    if len(who) <= MOST_PEOPLE:
        return who
    order = np.argsort(draw(SAMPLE, columns.people.id[who]), kind="stable")
    return np.sort(who[order[:MOST_PEOPLE]])


def fit_all(columns: Columns, now: int, alive: Mask, pace: Cadence) -> ChanceModels:
    """Fitted on the workspace's own history as known at ``now``; the defaults for what has too little."""
    some = subset(columns, sample(columns, alive))
    reading, clicking, unseen = of_everybody(some, now, pace.settled, pace.window)
    whole = fit(*reading.of(~unseen))
    clicks = fit(*clicking.of(unseen))  # of those that it judges
    if not clicks.is_own:
        clicks = fit(*clicking.of(np.ones(len(unseen), bool)))
    sources: dict[int, ChanceModel] = {}
    source = some.people.source
    for s in np.flatnonzero(np.bincount(source, minlength=1) >= SOURCE_PEOPLE).tolist():
        own = fit_source(whole, *reading.of((source == s) & ~unseen)) if s else None
        if own is not None:
            sources[s] = own
    models = ChanceModels(whole, clicks if clicks.is_own else CLICKS, sources, now, pace.settled)
    return models.adjusted(_adjustment(some, now, pace, models)) if whole.is_own else models


@dataclass(frozen=True)
class _Heard:
    """One mailing: when it went out, log odds of the chances before it, and who engaged."""

    at: int
    odds: F64
    yes: Mask


def _adjustment(columns: Columns, now: int, pace: Cadence, models: ChanceModels) -> Adjustment:
    """From the last mailings, where their answers are off the chances by more than can be chance: engagement has a
    season, or all of it declines. Otherwise as it is."""
    heard: list[_Heard] = []
    for m in mailings(columns, now, pace.settled, TREND_OF):
        a = answers(columns, m, now, Basis(pace, models))
        counts = a.seen & ~a.hidden
        if counts.any():
            heard.append(_Heard(m.at, logit(a.chance[counts]), a.answered[counts]))
    last = heard[-LAST:]
    while last and len(last) < len(heard) and sum(len(h.yes) for h in last) < ENOUGH_ANSWERS:
        last = heard[-len(last) - 1 :]
    if not last:
        return AS_IT_IS
    odds, yes = np.concatenate([h.odds for h in last]), np.concatenate([h.yes for h in last])
    error = np.mean([abs(p.expected - p.observed) for p in parts(1 / (1 + np.exp(-odds)), yes, TWENTIETHS)])
    found, gain = logistic(odds, yes)
    if error <= OFF or gain <= SURE or found.slope <= 0:
        return AS_IT_IS
    return _with_trend(heard, found, now + pace.gap * DAY // 2)


def _with_trend(heard: list[_Heard], found: Adjustment, when: int) -> Adjustment:
    """Where the mailings rise or fall along a line beyond doubt, where that line stands by ``when``."""
    if len(heard) < FEWEST_OF_TREND:
        return found
    off = np.array([_offset(found.intercept + found.slope * h.odds, h.yes) for h in heard])
    at = np.array([(h.at - when) / DAY for h in heard])
    middle = at - at.mean()
    rise = float((middle * off).sum() / (middle**2).sum())
    left = off - off.mean() - rise * middle
    error = sqrt(float((left**2).sum()) / (len(off) - 2) / float((middle**2).sum()))
    if abs(rise) < BEYOND_DOUBT * error:
        return found
    return Adjustment(float(f"{found.intercept + off.mean() - rise * at.mean():.10g}"), found.slope)


def _offset(odds: F64, yes: Mask) -> float:
    """What must be added to log odds so that as many engage as did."""
    by, wanted = 0.0, float(yes.sum())
    for _ in range(ROUNDS):
        p = 1 / (1 + np.exp(-odds - by))
        step = float(np.clip((wanted - p.sum()) / max(1e-9, float((p * (1 - p)).sum())), -1, 1))
        by += step
        if abs(step) < 1e-9:
            break
    return by


def logistic(x: F64, yes: Mask) -> tuple[Adjustment, float]:
    """Intercept and slope by maximum likelihood (Newton's steps, on people taken together by ``x``); also twice the gain
    in log likelihood over leaving ``x`` as it is."""
    order = np.array_split(np.argsort(x, kind="stable"), min(PIECES, len(x)))
    n, k = np.array([len(p) for p in order], float), np.array([yes[p].sum() for p in order], float)
    mean = np.array([x[p].mean() for p in order])

    def likelihood(b: F64) -> float:
        z = b[0] + b[1] * mean
        return float((k * z - n * np.logaddexp(0, z)).sum())

    at = np.array([0.0, 1.0])
    for _ in range(ROUNDS):
        p = 1 / (1 + np.exp(-at[0] - at[1] * mean))
        w = n * p * (1 - p) + 1e-12
        slope = np.array([(k - n * p).sum(), ((k - n * p) * mean).sum()])
        second = np.array([[w.sum(), (w * mean).sum()], [(w * mean).sum(), (w * mean**2).sum()]])
        step = np.linalg.solve(second + 1e-9 * np.eye(2), slope)
        at = at + np.clip(step, -1.0, 1.0)
        if np.abs(step).max() < 1e-9:
            break
    a, b = (float(f"{v:.10g}") for v in at)
    return Adjustment(a, b), 2 * (likelihood(at) - likelihood(np.array([0.0, 1.0])))
