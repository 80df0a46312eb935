"""The chance to engage is fitted on the workspace's own history: daily, or when two of a hundred deliveries are new.
Never within a request: by the worker, and by commands that score."""

from __future__ import annotations

from dataclasses import asdict, fields, replace

from openmeadow.core.columns import Rows
from openmeadow.core.engagement import score_check
from openmeadow.core.engagement.bands import cadence, engagement_delays
from openmeadow.core.engagement.chance_models import ChanceModels
from openmeadow.core.engagement.expected import Curve
from openmeadow.core.engagement.fitting import fit_all
from openmeadow.core.engagement.score_check import Answers
from openmeadow.core.events import Kind
from openmeadow.core.ids import MessageId
from openmeadow.core.moments import DAY
from openmeadow.core.rules.conditions import View
from openmeadow.services import models
from openmeadow.services.campaigns import expected, inbox_placement
from openmeadow.services.workspace import Workspace
from openmeadow.store.engagement import chance_models, event_hours
from openmeadow.store.engagement.chance_models import MailingExpected
from openmeadow.store.health import inbox_placement as placement_table
from openmeadow.store.segments.permission_facts import StoreFacts

EVERY, NEW_SHARE = DAY, 0.02
FIT_EVERY, MOST_MAILINGS = 4, 40  # mailings that one fit serves, and that are looked back at
LONG_AGO = -(2**40)


def _deliveries(workspace: Workspace) -> int:
    return event_hours.total(workspace.store.read(), Kind.SENT, LONG_AGO, workspace.now())


def is_due(workspace: Workspace) -> bool:
    """Whether the models are a day old, or deliveries have come (or gone) since that could change them."""
    fit = chance_models.last_fit(workspace.store.read())
    if fit is None:
        return True
    changed = abs(_deliveries(workspace) - fit.deliveries)
    return changed > NEW_SHARE * fit.deliveries or (changed > 0 and workspace.now() - fit.fitted_at >= EVERY)


def refit(workspace: Workspace) -> ChanceModels:
    """Fit on everything known now, and keep it."""
    view, deliveries = workspace.view(), _deliveries(workspace)
    pace = cadence(view.settled, view.now, int(workspace.setting("inactive_after_days")))
    alive = view.alive[: len(view.settled.people)]
    fitted = fit_all(view.settled, view.now, alive, pace)
    was_own = workspace.models().reading.is_own
    with workspace.store.atomic() as db:
        chance_models.keep(db, fitted, deliveries)
        if fitted.reading.is_own != was_own:
            event_hours.forget_points(db)  # month ends told by usual figures
    return fitted


def refit_if_due(workspace: Workspace) -> bool:
    """Fit where it is time; whether that was so."""
    due = is_due(workspace)
    if due:
        refit(workspace)
    return due


class _Past:
    """Scores as they stood before mailings; the models are fitted anew before every fourth of them."""

    def __init__(self, workspace: Workspace, view: View) -> None:
        self.workspace, self.columns, self.now = workspace, view.settled, view.now
        self.alive = view.alive[: len(view.settled.people)]
        self.window = int(workspace.setting("inactive_after_days"))
        settled = workspace.models().settled
        self.mailings = score_check.mailings(self.columns, self.now, settled, MOST_MAILINGS)
        self._fitted: tuple[int, ChanceModels] | None = None

    def answers(self, i: int) -> Answers:
        """Of the i-th mailing; asked for in ascending order."""
        at = self.mailings[i].at - 1
        basis = self.workspace.basis(self.columns, at, cadence(self.columns, at, self.window))
        if self._fitted is None or i >= self._fitted[0] + FIT_EVERY:
            self._fitted = (i, fit_all(self.columns, at, self.alive, basis.cadence))
        return score_check.answers(self.columns, self.mailings[i], self.now, replace(basis, models=self._fitted[1]))


def check(workspace: Workspace) -> models.ScoreCheck:
    """Hold the score against the last mailings, and keep what was found: the figures of all together, and of each
    mailing what was expected and what came."""
    view, db = workspace.view(), workspace.store.read()
    past, known = _Past(workspace, view), {m.message for m in chance_models.mailings(db)}
    curve = Curve.of(engagement_delays(view.settled, view.now))
    last, found = len(past.mailings) - score_check.MAILINGS, []
    for i, mailing in enumerate(past.mailings):
        if i < last and mailing.message in known:
            continue
        a = past.answers(i)
        if i >= last:
            found.append(a)
        p = a.chance
        told = MailingExpected(
            message=MessageId(mailing.message),
            began_at=mailing.at,
            people=len(a.who),
            observed=int(a.engaged.sum()),
            expected=float(p.sum()),
            variance=float((p * (1 - p)).sum()),
            purpose=None,
        )
        with workspace.store.atomic() as out:
            chance_models.keep_mailing(out, told)
        _see_placement(workspace, view, a, curve)
    whole = models.ScoreCheck(checked_at=view.now, **asdict(score_check.check(found)))
    with workspace.store.atomic() as out:
        chance_models.keep_check(out, view.now, whole.model_dump_json())
    return whole


def _see_placement(workspace: Workspace, view: View, a: Answers, curve: Curve) -> None:
    """Keep what a settled mailing shows of its inbox placement at each provider, of campaigns and imported ones alike."""
    assert isinstance(view.facts, StoreFacts)
    message, table = MessageId(a.mailing.message), view.settled.rows
    rows = Rows(**{f.name: getattr(table, f.name)[a.rows] for f in fields(Rows)})
    groups = inbox_placement.grouped(rows, a.chance, a.hidden, view.facts.provider[a.who], view.now, curve)
    usual = expected.level(workspace, None)
    found = inbox_placement.told(groups, usual, inbox_placement.usual_dispersion(workspace, a.mailing.at))
    with workspace.store.atomic() as out:
        placement_table.keep(out, inbox_placement.as_rows(message, a.mailing.at, view.now, groups, found))


def last_check(workspace: Workspace) -> models.ScoreCheck | None:
    """What the last check found."""
    kept = chance_models.last_check(workspace.store.read())
    return None if kept is None else models.ScoreCheck.model_validate_json(kept.found)


def is_waited_for(workspace: Workspace) -> bool:
    """Whether a fit is due, or what was fitted has not been checked."""
    return is_due(workspace) or chance_models.last_check(workspace.store.read()) is None


def tend(workspace: Workspace) -> None:
    """Fit where it is time, and check what was fitted."""
    if is_waited_for(workspace):
        refit_if_due(workspace)
        check(workspace)
