"""What is paused after a restore, and how it goes on."""

from __future__ import annotations

from dataclasses import asdict

from openmeadow.desk import outgoing
from openmeadow.desk.desk import Desk
from openmeadow.web import models as m
from openmeadow.web.described import ANALYSE, Described, who


def register(api: Described, desk: Desk) -> None:
    @api.route("GET", "/outgoing", m.Outgoing)
    def see() -> m.Outgoing:
        """Whether everything outgoing is paused, since when, and what may already have been sent."""
        found = outgoing.paused(desk)
        return m.Outgoing(paused=None if found is None else m.PausedOutgoing(**asdict(found)))

    @api.route("POST", "/outgoing/log", m.Done, body=m.OutgoingLog, rights=ANALYSE)
    def log(body: m.OutgoingLog) -> m.Done:
        """Settle by the relay's log: whatever it names was sent and goes to nobody again."""
        return m.Done(count=outgoing.read_log(desk, body.text, who()))

    @api.route("POST", "/outgoing/resume", m.Done, rights=ANALYSE)
    def resume() -> m.Done:
        """Everything goes out again as planned."""
        outgoing.resume(desk, who())
        return m.Done()
