"""The relay: how it is reached, what real connections were, its check."""

from __future__ import annotations

from openmeadow.core.addresses.syntax import syntax_problem
from openmeadow.core.errors import Refused
from openmeadow.desk import intake as desk_intake
from openmeadow.desk import relay
from openmeadow.desk.desk import Desk
from openmeadow.store import relay as table
from openmeadow.web import models as m
from openmeadow.web.described import ANALYSE, Described


def register(api: Described, desk: Desk) -> None:
    @api.route("GET", "/relay", m.RelayView)
    def see() -> m.RelayView:
        """The relay's settings without its password, what its connections were, and whether it is away."""
        s, gone = relay.relay_settings(desk), relay.away(desk)
        kinds = table.connections_to(desk.store.read(), s.host, s.port)
        return m.RelayView(
            host=s.host,
            port=s.port,
            mode=s.mode.value,
            user=s.user,
            helo=s.helo,
            connections=[m.ConnectionKind(**vars(k)) for k in kinds[:6]],
            away=None if gone is None else m.RelayAway(**vars(gone)),
        )

    @api.route("GET", "/intake", m.IntakeView)
    def intake() -> m.IntakeView:
        """Mail that came to the intake and led to nothing: by reason, and the latest messages."""
        return m.IntakeView(**desk_intake.aside(desk))

    @api.route("POST", "/relay/check", m.RelayCheck, body=m.RelayCheckIn, rights=ANALYSE)
    def check(body: m.RelayCheckIn) -> m.RelayCheck:
        """Connect to the relay by the code of a real send; hand over one small message where an address is given."""
        to = body.send_to.strip()
        if to and (problem := syntax_problem(to)):
            raise Refused(f"“{to[:80]}” is no address: {problem}.")
        found = relay.check(desk, to)
        fields = ("state", "host", "port", "mode", "version", "verified", "signed_in", "meaning")
        return m.RelayCheck(**{f: getattr(found, f) for f in fields})
