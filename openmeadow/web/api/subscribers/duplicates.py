"""Two subscribers that are one person, merged."""

from __future__ import annotations

from openmeadow.core.ids import SubscriberId
from openmeadow.services.subscribers import duplicates
from openmeadow.services.workspace import Workspace
from openmeadow.web import schemas as m
from openmeadow.web.router import ANALYSE, Routes, who

routes = Routes()


@routes.route("GET", "/duplicates", m.Duplicates)
def every(workspace: Workspace) -> m.Duplicates:
    """Pairs of subscribers that are most likely one person, at most a hundred."""
    return m.Duplicates(pairs=duplicates.found(workspace))


@routes.route("POST", "/duplicates/plan", m.MergePlan, body=m.MergePeopleIn, rights=ANALYSE)
def plan(workspace: Workspace, body: m.MergePeopleIn) -> m.MergePlan:
    """What merging two subscribers would do; nothing is changed."""
    return duplicates.plan(workspace, SubscriberId(body.keep), body.email)


@routes.route("POST", "/duplicates/merge", m.Done, body=m.MergePeopleIn, rights=ANALYSE)
def merge(workspace: Workspace, body: m.MergePeopleIn) -> m.Done:
    """Merge two subscribers: mail goes to the one who stays. ``id`` is the action by which it is undone."""
    return m.Done(id=duplicates.merge(workspace, SubscriberId(body.keep), body.email, who()), count=2)
