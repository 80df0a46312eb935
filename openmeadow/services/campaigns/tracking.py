"""What comes back: opens, clicks, unsubscribes, bounces. One function, one transaction."""

from __future__ import annotations

from openmeadow.core.errors import Missing, Passing, Refused
from openmeadow.core.events import Kind
from openmeadow.core.ids import DeliveryId
from openmeadow.core.message.links import with_part
from openmeadow.net.arrival_log import Arrival
from openmeadow.net.link_parameters import with_parameters
from openmeadow.net.spare_file import SpareFile
from openmeadow.services.campaigns.arrivals import Arrivals
from openmeadow.services.subscribers import consent
from openmeadow.services.subscribers.import_events import consequences
from openmeadow.services.workspace import Workspace
from openmeadow.store.campaigns import campaigns, deliveries
from openmeadow.store.engagement import event_counts, events

MOST_BOOKINGS = 20  # told back by the mark of one message, which its reader can see


def happened(
    workspace: Workspace,
    delivery: DeliveryId,
    kind: Kind,
    link: int = 0,
    agent: str = "",
    ip: str = "",
    code: str | None = None,
    diagnostic: str | None = None,
) -> bool:
    """Record what happened to one delivery; a repeat in the same second is taken once."""
    with workspace.store.atomic() as db:
        d = deliveries.delivery(db, delivery)
        if d is None:
            return False
        now = workspace.now()
        (who,) = events.Names(db).agents([agent], [ip])
        new = events.add(db, [(now, int(kind), d.subscriber, d.message, link, who, 0.0, code, diagnostic, None)])
        if new:
            consequences(db, [(now, int(kind), d.subscriber, d.message, code, diagnostic)], live=True)
        return True


def opened(workspace: Workspace, delivery: DeliveryId, agent: str, ip: str) -> None:
    """The image of a delivery was loaded; never fails, the image is shown in any case."""
    workspace.part(Arrivals).take(Arrival(workspace.now(), Kind.OPENED, delivery, 0, agent, ip))


def clicked(workspace: Workspace, delivery: DeliveryId, link: int, agent: str, ip: str, mark: str = "") -> str | None:
    """Records the click; where the link leads, None when it is not one of ours. Where the workspace wishes, the address
    carries ``mark``, with which the place it leads to tells back what was booked."""
    row = campaigns.link(workspace.store.read(), link)
    d = deliveries.delivery(workspace.store.read(), delivery)
    if row is None or d is None or row.message != d.message:
        return None
    workspace.part(Arrivals).take(Arrival(workspace.now(), Kind.CLICKED, delivery, link, agent, ip))
    url, pattern = str(row.url), str(workspace.setting("link_parameters"))
    if pattern:
        url = with_parameters(url, pattern, {"campaign": row.message_name, "purpose": row.purpose_name or ""})
    return with_part(url, f"meadow={mark}") if mark and workspace.setting("conversion_id") else url


def booked(workspace: Workspace, delivery: DeliveryId, value: float, reference: str) -> bool:
    """What a shop tells back by a link's mark: a booking, once for each reference; False where it was known already."""
    if not 0 <= value <= 1_000_000:
        raise Refused("The value of a booking is a number from 0 up.")
    with workspace.store.atomic() as db:
        d = deliveries.delivery(db, delivery)
        if d is None:
            raise Missing("This message does not exist any more.")
        if events.bookings_of(db, d.subscriber, d.message) >= MOST_BOOKINGS:
            raise Refused(f"A message can have at most {MOST_BOOKINGS} bookings.")
        outside = f"booking {delivery} {reference.strip()[:100]}"
        row = (workspace.now(), int(Kind.BOOKED), d.subscriber, d.message, 0, 0, value, None, None, outside)
        return events.add(db, [row]) > 0


def unsubscribed(workspace: Workspace, delivery: DeliveryId) -> bool:
    """One-click, by the page or by mail: consent to the message's purpose is withdrawn at once. Again does no harm. With a
    full disk it is kept aside and takes effect as soon as there is room."""
    try:
        return _unsubscribed(workspace, delivery)
    except Passing:
        if not SpareFile(workspace.folder).keep(delivery, workspace.now()):
            raise
        return True


def process_stored_unsubscribes(workspace: Workspace) -> int:
    """What was kept aside while the disk was full takes effect; how many."""
    spare = SpareFile(workspace.folder)
    spare.reserve()
    kept = spare.records()
    for delivery, _ in kept:
        _unsubscribed(workspace, DeliveryId(delivery))
    if kept:
        spare.forget(kept)
    return len(kept)


def _unsubscribed(workspace: Workspace, delivery: DeliveryId) -> bool:
    d = deliveries.delivery(workspace.store.read(), delivery)
    if d is None:
        return False
    already = event_counts.has(workspace.store.read(), Kind.UNSUBSCRIBED, d.subscriber, d.message)
    if d.campaign_kind == "consent request":
        consent.refuse_request(workspace, d)
    return True if already else happened(workspace, delivery, Kind.UNSUBSCRIBED)
