"""Fields of the workspace's own: types, names, and the end of those nobody needs."""

from __future__ import annotations

from openmeadow.services.subscribers import fields
from openmeadow.services.workspace import Workspace
from openmeadow.web import schemas as m
from openmeadow.web.router import ANALYSE, Routes, who

routes = Routes()


@routes.route("GET", "/fields", m.OwnFields)
def every(workspace: Workspace) -> m.OwnFields:
    """All fields with their types, how many people have each, and where they are used."""
    return m.OwnFields(fields=fields.every(workspace))


@routes.route("POST", "/fields", m.Done, body=m.FieldIn, rights=ANALYSE)
def add(workspace: Workspace, body: m.FieldIn) -> m.Done:
    """Add a field without values."""
    fields.add(workspace, body, who())
    return m.Done(id=0, count=0)


@routes.route("POST", "/fields/try-type", m.FieldTrial, body=m.FieldTrialIn, rights=ANALYSE)
def try_type(workspace: Workspace, body: m.FieldTrialIn) -> m.FieldTrial:
    """What a type would make of a field's values; nothing is changed."""
    return fields.trial(workspace, body)


@routes.route("POST", "/fields/type", m.Done, body=m.FieldTrialIn, rights=ANALYSE)
def set_type(workspace: Workspace, body: m.FieldTrialIn) -> m.Done:
    """Give a field another type; ``id`` is the action by which it is undone."""
    return m.Done(id=fields.set_type(workspace, body, who()), count=0)


@routes.route("POST", "/fields/rename", m.Done, body=m.FieldRename, rights=ANALYSE)
def rename(workspace: Workspace, body: m.FieldRename) -> m.Done:
    """Give a field another name; rules, messages and sequences follow."""
    fields.rename(workspace, body, who())
    return m.Done(id=0, count=0)


@routes.route("POST", "/fields/delete", m.Done, body=m.FieldName, rights=ANALYSE)
def delete(workspace: Workspace, body: m.FieldName) -> m.Done:
    """Delete a field with everybody's values; ``id`` is the action by which it is undone. Refused while it is used."""
    return m.Done(id=fields.remove(workspace, body.name, who()), count=0)
