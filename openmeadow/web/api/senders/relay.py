"""The relay: how it is reached, what real connections were, its check."""

from __future__ import annotations

from openmeadow.core.addresses.syntax import syntax_problem
from openmeadow.core.errors import Refused
from openmeadow.services.health import inbound_mail as intake_service
from openmeadow.services.senders import relay
from openmeadow.services.workspace import Workspace
from openmeadow.store.senders import relay as table
from openmeadow.web import schemas as m
from openmeadow.web.router import ANALYSE, Routes

routes = Routes()


@routes.route("GET", "/relay", m.RelayView)
def see(workspace: Workspace) -> m.RelayView:
    """The relay's settings without its password, what its connections were, and whether it is away."""
    s, gone = relay.relay_settings(workspace), relay.away(workspace)
    kinds = table.connections_to(workspace.store.read(), s.host, s.port)
    return m.RelayView(
        host=s.host,
        port=s.port,
        mode=s.mode.value,
        user=s.user,
        helo=s.helo,
        connections=[m.ConnectionKind.read_from(k) for k in kinds[:6]],
        away=None if gone is None else m.RelayAway.read_from(gone),
    )


@routes.route("GET", "/intake", m.InboundView)
def intake(workspace: Workspace) -> m.InboundView:
    """Mail that came to the intake and led to nothing: by reason, and the latest messages."""
    return intake_service.aside(workspace)


@routes.route("POST", "/relay/check", m.RelayCheck, body=m.RelayCheckIn, rights=ANALYSE)
def check(workspace: Workspace, body: m.RelayCheckIn) -> m.RelayCheck:
    """Connect to the relay by the code of a real send; send one small message where an address is given."""
    to = body.send_to.strip()
    if to and (problem := syntax_problem(to)):
        raise Refused(f"“{to[:80]}” is not a valid address: {problem}.")
    found = relay.check(workspace, to)
    fields = ("state", "host", "port", "mode", "version", "verified", "signed_in", "meaning")
    return m.RelayCheck(**{f: getattr(found, f) for f in fields})
