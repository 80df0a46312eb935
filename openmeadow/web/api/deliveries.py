"""What became of single deliveries of a campaign: unconfirmed ones, and those that the relay refused."""

from __future__ import annotations

from dataclasses import asdict

from openmeadow.desk import requeue, unconfirmed
from openmeadow.desk.desk import Desk
from openmeadow.web import models as m
from openmeadow.web.described import ANALYSE, Described, who


def register(api: Described, desk: Desk) -> None:
    @api.route("POST", "/campaigns/<int:id>/settle", m.Done, body=m.Settle, rights=ANALYSE)
    def settle(id: int, body: m.Settle) -> m.Done:
        """Say of all unconfirmed deliveries, or of some, that they arrived or are to be sent again."""
        return m.Done(id=id, count=unconfirmed.settle(desk, id, body.arrived, who(), body.deliveries))

    @api.route("GET", "/campaigns/<int:id>/unconfirmed", m.UnconfirmedList)
    def unconfirmed_list(id: int) -> m.UnconfirmedList:
        """The unconfirmed deliveries with person, Message-ID and moment."""
        return m.UnconfirmedList(people=[m.UnconfirmedDelivery(**asdict(u)) for u in unconfirmed.listed(desk, id)])

    @api.route("POST", "/campaigns/<int:id>/relay-log", m.RelayLogRead, body=m.RelayLog, rights=ANALYSE)
    def relay_log(id: int, body: m.RelayLog) -> m.RelayLogRead:
        """Settle unconfirmed deliveries by the relay's own log."""
        found = unconfirmed.read_log(desk, id, body.text, who(), complete=body.complete)
        return m.RelayLogRead(**asdict(found))

    @api.route("GET", "/campaigns/<int:id>/refused", m.RefusedGroups)
    def refused(id: int) -> m.RefusedGroups:
        """What failed at the relay, by its words."""
        return m.RefusedGroups(groups=[m.RefusedGroup(**asdict(g)) for g in requeue.groups(desk, id)])

    @api.route("POST", "/campaigns/<int:id>/requeue", m.Done, body=m.RequeueIn, rights=ANALYSE)
    def put_back(id: int, body: m.RequeueIn) -> m.Done:
        """Put everybody who failed with these words back in the queue; nothing of it stays in their history."""
        return m.Done(id=id, count=requeue.put_back(desk, id, body.words, who()))
