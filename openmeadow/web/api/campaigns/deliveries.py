"""What became of single deliveries of a campaign: unconfirmed ones, and those that the relay refused."""

from __future__ import annotations

from flask import Response

from openmeadow.core.ids import CampaignId, DeliveryId
from openmeadow.services.campaigns import message_source, requeue, unconfirmed
from openmeadow.services.workspace import Workspace
from openmeadow.store.campaigns import content
from openmeadow.web import schemas as m
from openmeadow.web.router import ANALYSE, Routes, who


def shown(source: message_source.Source) -> m.MessageSource:
    """The source of a message with its headers explained."""
    return m.MessageSource(
        raw=source.text,
        is_made_anew=source.is_made_anew,
        headers=[m.ExplainedHeader.read_from(h) for h in source.headers],
    )


def eml(source: message_source.Source, name: str) -> Response:
    """The source of a message as a file."""
    headers = {"Content-Disposition": f"attachment; filename={name}", "Cache-Control": "no-store"}
    return Response(source.raw, mimetype="message/rfc822", headers=headers)


routes = Routes()


@routes.route("POST", "/campaigns/<int:id>/resolve", m.Done, body=m.Resolve, rights=ANALYSE)
def settle(workspace: Workspace, row_id: CampaignId, body: m.Resolve) -> m.Done:
    """Say of all unconfirmed deliveries, or of some, that they arrived or are to be sent again."""
    return m.Done(id=row_id, count=unconfirmed.resolve(workspace, row_id, body.arrived, who(), body.deliveries))


@routes.route("GET", "/campaigns/<int:id>/unconfirmed", m.UnconfirmedList)
def unconfirmed_list(workspace: Workspace, row_id: CampaignId) -> m.UnconfirmedList:
    """The unconfirmed deliveries with person, Message-ID and moment."""
    return m.UnconfirmedList(people=[m.UnconfirmedDelivery.read_from(u) for u in unconfirmed.listed(workspace, row_id)])


@routes.route("POST", "/campaigns/<int:id>/relay-log", m.RelayLogRead, body=m.RelayLog, rights=ANALYSE)
def relay_log(workspace: Workspace, row_id: CampaignId, body: m.RelayLog) -> m.RelayLogRead:
    """Settle unconfirmed deliveries by the relay's own log."""
    found = unconfirmed.read_log(workspace, row_id, body.text, who(), complete=body.complete)
    return m.RelayLogRead.read_from(found)


@routes.route("GET", "/campaigns/<int:id>/tests", m.TestCopies)
def tests(workspace: Workspace, row_id: CampaignId) -> m.TestCopies:
    """Test copies whose source is kept, the latest first."""
    rows = content.test_copies(workspace.store.read(), row_id)
    return m.TestCopies(copies=[m.TestCopy.read_from(r) for r in rows])


@routes.route("GET", "/tests/<int:id>/source", m.MessageSource)
def test_source(workspace: Workspace, row_id: int) -> m.MessageSource:
    """A test copy as it went over the wire, its headers explained."""
    return shown(message_source.of_test(workspace, row_id))


@routes.route("GET", "/tests/<int:id>.eml", "message/rfc822")
def test_eml(workspace: Workspace, row_id: int) -> Response:
    """A test copy as a file."""
    return eml(message_source.of_test(workspace, row_id), f"test-{row_id}.eml")


@routes.route("GET", "/deliveries/<int:id>/source", m.MessageSource)
def sent_source(workspace: Workspace, row_id: DeliveryId) -> m.MessageSource:
    """A message that was sent, made anew from its version, person and moment, its headers explained."""
    return shown(message_source.of_delivery(workspace, row_id))


@routes.route("GET", "/deliveries/<int:id>.eml", "message/rfc822")
def sent_eml(workspace: Workspace, row_id: DeliveryId) -> Response:
    """A message that was sent, made anew, as a file."""
    return eml(message_source.of_delivery(workspace, row_id), f"message-{row_id}.eml")


@routes.route("GET", "/campaigns/<int:id>/refused", m.RefusedGroups)
def refused(workspace: Workspace, row_id: CampaignId) -> m.RefusedGroups:
    """What failed at the relay, by its words."""
    return m.RefusedGroups(groups=[m.RefusedGroup.read_from(g) for g in requeue.groups(workspace, row_id)])


@routes.route("POST", "/campaigns/<int:id>/requeue", m.Done, body=m.RequeueIn, rights=ANALYSE)
def put_back(workspace: Workspace, row_id: CampaignId, body: m.RequeueIn) -> m.Done:
    """Put everybody who failed with these words back in the queue; nothing of it stays in their history."""
    return m.Done(id=row_id, count=requeue.put_back(workspace, row_id, body.words, who()))
