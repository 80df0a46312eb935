"""Segments, scores and the map as SQL over exported columns."""

from __future__ import annotations

from openmeadow.core.rules.conditions import Rule
from openmeadow.core.warehouse.moment import Moment
from openmeadow.services.warehouse.engine import needed
from openmeadow.services.warehouse.names import StoreNames
from openmeadow.services.workspace import Workspace
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
