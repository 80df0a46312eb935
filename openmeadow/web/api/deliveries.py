"""What became of single deliveries of a campaign: unconfirmed ones, and those that the relay refused."""

from __future__ import annotations

from dataclasses import asdict

from flask import Response

from openmeadow.desk import requeue, sources, unconfirmed
from openmeadow.desk.desk import Desk
from openmeadow.store import writing
from openmeadow.web import models as m
from openmeadow.web.described import ANALYSE, Described, who


def shown(source: sources.Source) -> m.MessageSource:
    return m.MessageSource(
        raw=source.text,
        is_made_anew=source.is_made_anew,
        headers=[m.ExplainedHeader(**asdict(h)) for h in source.headers],
    )


def eml(source: sources.Source, name: str) -> Response:
    headers = {"Content-Disposition": f"attachment; filename={name}", "Cache-Control": "no-store"}
    return Response(source.raw, mimetype="message/rfc822", headers=headers)


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

    @api.route("GET", "/campaigns/<int:id>/tests", m.TestCopies)
    def tests(id: int) -> m.TestCopies:
        """Test copies whose source is kept, the latest first."""
        rows = writing.test_copies(desk.store.read(), id)
        return m.TestCopies(copies=[m.TestCopy(**dict(r)) for r in rows])

    @api.route("GET", "/tests/<int:id>/source", m.MessageSource)
    def test_source(id: int) -> m.MessageSource:
        """A test copy as it went over the wire, its headers explained."""
        return shown(sources.of_test(desk, id))

    @api.route("GET", "/tests/<int:id>.eml", "message/rfc822")
    def test_eml(id: int) -> Response:
        """A test copy as a file."""
        return eml(sources.of_test(desk, id), f"test-{id}.eml")

    @api.route("GET", "/deliveries/<int:id>/source", m.MessageSource)
    def sent_source(id: int) -> m.MessageSource:
        """A message that was sent, made anew from its version, person and moment, its headers explained."""
        return shown(sources.of_delivery(desk, id))

    @api.route("GET", "/deliveries/<int:id>.eml", "message/rfc822")
    def sent_eml(id: int) -> Response:
        """A message that was sent, made anew, as a file."""
        return eml(sources.of_delivery(desk, id), f"message-{id}.eml")

    @api.route("GET", "/campaigns/<int:id>/refused", m.RefusedGroups)
    def refused(id: int) -> m.RefusedGroups:
        """What failed at the relay, by its words."""
        return m.RefusedGroups(groups=[m.RefusedGroup(**asdict(g)) for g in requeue.groups(desk, id)])

    @api.route("POST", "/campaigns/<int:id>/requeue", m.Done, body=m.RequeueIn, rights=ANALYSE)
    def put_back(id: int, body: m.RequeueIn) -> m.Done:
        """Put everybody who failed with these words back in the queue; nothing of it stays in their history."""
        return m.Done(id=id, count=requeue.put_back(desk, id, body.words, who()))
