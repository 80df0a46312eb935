"""What is paused after a restore, and how it goes on."""

from __future__ import annotations

from openmeadow.services.campaigns import outgoing
from openmeadow.services.workspace import Workspace
from openmeadow.web import schemas as m
from openmeadow.web.router import ANALYSE, Routes, who

routes = Routes()


@routes.route("GET", "/outgoing", m.Outgoing)
def see(workspace: Workspace) -> m.Outgoing:
    """Whether everything outgoing is paused, since when, and what may already have been sent."""
    found = outgoing.paused(workspace)
    return m.Outgoing(paused=None if found is None else m.PausedOutgoing.read_from(found))


@routes.route("POST", "/outgoing/log", m.Done, body=m.OutgoingLog, rights=ANALYSE)
def log(workspace: Workspace, body: m.OutgoingLog) -> m.Done:
    """Settle by the relay's log: whatever it names was sent and goes to nobody again."""
    return m.Done(count=outgoing.read_log(workspace, body.text, who()))


@routes.route("POST", "/outgoing/resume", m.Done, rights=ANALYSE)
def resume(workspace: Workspace) -> m.Done:
    """Everything goes out again as planned."""
    outgoing.resume(workspace, who())
    return m.Done()
