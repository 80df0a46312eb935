"""Expected beside observed engagement: before a start, while sending, and afterwards."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from openmeadow.core.arrays import F64, I64, Array, Mask
from openmeadow.core.engagement.expected import FEW_MAILINGS, Level, Mailed, forecast, forecast_of_sums, usual_level
from openmeadow.core.engagement.placement import LIKELY
from openmeadow.core.rules.conditions import View
from openmeadow.services import models
from openmeadow.services.campaigns import waits
from openmeadow.services.workspace import Workspace
from openmeadow.store.campaigns.delivery_columns import DeliveryColumns
from openmeadow.store.engagement import chance_models
from openmeadow.store.health import inbox_placement

COMPLETE = 0.95  # the share of engagement that must have come before a mailing is compared with what was expected


def level(workspace: Workspace, purpose: int | None) -> Level:
    """Observed over expected in the last settled mailings, of the same purpose where there are enough of them. Those that
    most likely lay in the spam folder somewhere say nothing of the usual."""
    db = workspace.store.read()
    spam = inbox_placement.in_spam(db, LIKELY)
    known = [m for m in chance_models.mailings(db) if m.message not in spam]
    same = [m for m in known if purpose is not None and m.purpose == purpose]
    some = same if len(same) >= FEW_MAILINGS else known
    return usual_level([Mailed(m.observed, m.expected, m.variance) for m in some])


def told(chance: F64, usual: Level) -> models.Expectation:
    """How many of people with these chances are expected to engage."""
    f = forecast(chance, usual)
    return models.Expectation(people=len(chance), expected=f.expected, low=f.low, high=f.high, mailings=usual.mailings)


def named(group: Array, names: Sequence[str], chance: F64, usual: Level) -> list[models.NamedExpectation]:
    """The same for each group that has anybody: ``group`` is the place of its name."""
    return [
        models.NamedExpectation(name=name, **told(chance[group == g], usual).model_dump())
        for g, name in enumerate(names)
        if (group == g).any()
    ]


def of_sent(
    workspace: Workspace,
    view: View,
    purpose: int | None,
    d: DeliveryColumns,
    engaged: Mask,
    group: I64 | None = None,
    groups: int = 0,
) -> tuple[models.Observed | None, list[models.Observed | None]]:
    """What has come of deliveries beside what was expected of them by now, of all and of each of ``groups``; ``group`` is
    the place of each delivery's. None where their chances are not known (deliveries planned before chances were kept)."""
    known = np.flatnonzero(d.was_sent & (d.changed_at > 0) & np.isfinite(d.chance))
    if not len(known):
        return None, [None] * groups
    usual, share = level(workspace, purpose), waits.curve(workspace, view).come(view.now - d.changed_at[known])
    chance, place = d.chance[known], (np.zeros(len(d), np.int64) if group is None else group)[known]
    by_now = chance * share
    values = (np.ones(len(known)), engaged[known], by_now, by_now * (1 - by_now), chance, share)
    sums = np.stack([np.bincount(place, weights=v, minlength=max(groups, 1)) for v in values], axis=1)
    return _observed(sums.sum(axis=0), usual), [_observed(of_one, usual) for of_one in sums[:groups]]


def _observed(sums: F64, usual: Level) -> models.Observed | None:
    """From sums over people: of them, of who engaged, of the chances by now and their variances, of the chances in all and
    of the shares that have come."""
    n, engaged, e, variance, e_in_all, share = sums.tolist()
    if not n:
        return None
    people, observed, by_now = round(n), round(engaged), forecast_of_sums(round(n), e, variance, usual)
    return models.Observed(
        people=people,
        observed=observed,
        expected=by_now.expected,
        low=by_now.low,
        high=by_now.high,
        expected_in_all=forecast_of_sums(people, e_in_all, 0.0, usual).expected,
        ratio=observed / by_now.expected if by_now.expected > 0 else None,
        complete=share / n >= COMPLETE,
        unusual=not by_now.low <= observed <= by_now.high,
        mailings=usual.mailings,
    )
