"""Segments, scores, the map, the replay and the people of a resend as SQL over exported columns."""

from __future__ import annotations

from openmeadow.core.errors import Refused
from openmeadow.core.moments import DAY
from openmeadow.core.rules.conditions import Rule
from openmeadow.core.warehouse.moment import Moment
from openmeadow.services.warehouse.engine import needed
from openmeadow.services.warehouse.names import StoreNames
from openmeadow.services.workspace import Workspace
from openmeadow.store import warehouse
from openmeadow.store.campaigns import campaigns
from openmeadow.store.segments import segments
from openmeadow.store.segments.permission_facts import StoreFacts


def _asked(workspace: Workspace, what: str) -> tuple[Moment, StoreNames, Rule]:
    """A segment's name or a rule, checked; the moment it is asked for."""
    view = workspace.view()
    assert isinstance(view.facts, StoreFacts)
    named = segments.named(view.facts.db, what)
    rule = workspace.checked_rule(named.rule if named else what, view)
    basis = view.scores.basis
    return Moment(view.now, basis.cadence, basis.limits), StoreNames(view.facts), rule


def segment(workspace: Workspace, what: str, dialect: str) -> str:
    """One SELECT of the people (person, email) of a segment or rule."""
    needed("sqlglot")
    from openmeadow.core.warehouse.rule_sql import RuleSql

    moment, names, rule = _asked(workspace, what)
    return RuleSql(moment, names).select(rule).sql(dialect, pretty=True) + ";"


def question(workspace: Workspace, asked: str, what: str, dialect: str) -> str:
    """One SELECT of a ``Question`` about the people of a segment or rule."""
    needed("sqlglot")
    from openmeadow.core.warehouse.questions import Question, ask

    moment, names, rule = _asked(workspace, what)
    return ask(Question(asked), moment, names, rule).sql(dialect, pretty=True) + ";"


def replay(workspace: Workspace, days: int, ignored: int, past: int, what: str, dialect: str) -> str:
    """One SELECT of what the sends of the ``past`` days to the people of a segment or rule came to, as it was and with a
    cut-off: nothing more once ``ignored`` messages or more were ignored and the last engagement was ``days`` ago."""
    needed("sqlglot")
    from openmeadow.core.warehouse import replay_sql
    from openmeadow.core.warehouse.rule_sql import RuleSql

    moment, names, rule = _asked(workspace, what)
    cut_off = replay_sql.CutOff(days, ignored, moment.now - past * DAY, moment.now)
    return replay_sql.replay(RuleSql(moment, names).select(rule, ["person"]), cut_off).sql(dialect, pretty=True) + ";"


def resend(workspace: Workspace, message: str, purpose: str, what: str, dialect: str) -> str:
    """One SELECT of the people who are due for a resend of a message, of those of a segment or rule: by its campaign's
    plan, or as plans begin. ``purpose`` "" is that of the message."""
    needed("sqlglot")
    from openmeadow.core.delivery.plan import Plan
    from openmeadow.core.warehouse import replay_sql
    from openmeadow.core.warehouse.rule_sql import RuleSql
    from openmeadow.services.campaigns.resend import MOST_IN_30_DAYS

    moment, names, rule = _asked(workspace, what)
    db, ids = workspace.store.read(), names.message_ids(message)
    told = warehouse.about_messages(db, ids)
    campaign = campaigns.one(db, told.campaign) if told.campaign else None
    plan = campaign.plan if campaign else Plan()
    stated = names.exact("purpose", purpose) if purpose else told.purpose
    if stated is None:
        raise Refused(f"It is not known what “{message}” was about. Name the purpose: --purpose.")
    due = replay_sql.Resend(ids, stated, plan.resend_rule, bool(plan.machine_only), MOST_IN_30_DAYS)
    return replay_sql.resend(RuleSql(moment, names).select(rule), due, moment.now).sql(dialect, pretty=True) + ";"
