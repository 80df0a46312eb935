"""What comes back: opens, clicks, unsubscribes, bounces. One function, one transaction."""

from __future__ import annotations

from contextlib import suppress

from openmeadow.core.columns import Kind
from openmeadow.core.errors import Busy, Missing, NoSpace, Refused
from openmeadow.desk.bring_in.events import consequences
from openmeadow.desk.desk import Desk
from openmeadow.store import campaigns, events, ledger
from openmeadow.wire.spare_file import SpareFile

MOST_EVENTS = 200  # kept of one message to one person
MOST_BOOKINGS = 20  # told back by the mark of one message, which its reader can see


def happened(
    desk: Desk,
    delivery: int,
    kind: Kind,
    link: int = 0,
    agent: str = "",
    ip: str = "",
    code: str | None = None,
    diagnostic: str | None = None,
) -> bool:
    """Record what happened to one delivery; a repeat in the same second is taken once."""
    with desk.store.atomic() as db:
        d = ledger.delivery(db, delivery)
        if d is None:
            return False
        if kind in (Kind.OPENED, Kind.CLICKED) and events.of_message(db, d["subscriber"], d["message"]) >= MOST_EVENTS:
            return False  # a machine that asks on and on
        now = desk.now()
        (who,) = events.Names(db).agents([agent], [ip])
        new = events.add(db, [(now, int(kind), d["subscriber"], d["message"], link, who, 0.0, code, diagnostic, None)])
        if new:
            consequences(db, [(now, int(kind), d["subscriber"], d["message"], code, diagnostic)], live=True)
        return True


def opened(desk: Desk, delivery: int, agent: str, ip: str) -> None:
    with suppress(NoSpace, Busy):  # the image is shown in any case
        happened(desk, delivery, Kind.OPENED, agent=agent, ip=ip)


def clicked(desk: Desk, delivery: int, link: int, agent: str, ip: str, mark: str = "") -> str | None:
    """Records the click; where the link leads, None when it is not one of ours. Where the workspace wishes, the address
    carries ``mark``, with which the place it leads to tells back what was booked."""
    row = campaigns.link(desk.store.read(), link)
    d = ledger.delivery(desk.store.read(), delivery)
    if row is None or d is None or row["message"] != d["message"]:
        return None
    with suppress(NoSpace, Busy):  # the reader comes to the link in any case
        happened(desk, delivery, Kind.CLICKED, link, agent, ip)
    if mark and desk.setting("tell_back"):
        return with_mark(str(row["url"]), mark)
    return str(row["url"])


def with_mark(url: str, mark: str) -> str:
    """An address with one more part in its query, its own parts and its place kept."""
    front, hash_, place = url.partition("#")
    return f"{front}{'&' if '?' in front else '?'}meadow={mark}{hash_}{place}"


def booked(desk: Desk, delivery: int, value: float, reference: str) -> bool:
    """What a shop tells back by a link's mark: a booking, once for each reference; False where it was known already."""
    if not 0 <= value <= 1_000_000:
        raise Refused("The value of a booking is a number from 0 on.")
    with desk.store.atomic() as db:
        d = ledger.delivery(db, delivery)
        if d is None:
            raise Missing("This message is not there any more.")
        if events.bookings_of(db, d["subscriber"], d["message"]) >= MOST_BOOKINGS:
            raise Refused(f"At most {MOST_BOOKINGS} bookings are taken for one message.")
        outside = f"booking {delivery} {reference.strip()[:100]}"
        row = (desk.now(), int(Kind.BOOKED), d["subscriber"], d["message"], 0, 0, value, None, None, outside)
        return events.add(db, [row]) > 0


def unsubscribed(desk: Desk, delivery: int) -> bool:
    """One-click, by the page or by mail: consent to the message's purpose is withdrawn at once. Again does no harm. With a
    full disk it is kept aside and takes effect as soon as there is room."""
    try:
        return _unsubscribed(desk, delivery)
    except (NoSpace, Busy):
        if not SpareFile(desk.folder).keep(delivery, desk.now()):
            raise
        return True


def take_kept_unsubscribes(desk: Desk) -> int:
    """What was kept aside while the disk was full takes effect; how many."""
    spare = SpareFile(desk.folder)
    spare.reserve()
    kept = spare.records()
    for delivery, _ in kept:
        _unsubscribed(desk, delivery)
    if kept:
        spare.forget(kept)
    return len(kept)


def _unsubscribed(desk: Desk, delivery: int) -> bool:
    from openmeadow.desk import asking

    d = ledger.delivery(desk.store.read(), delivery)
    if d is None:
        return False
    already = (
        desk.store.read()
        .execute(
            "SELECT 1 FROM events WHERE kind = ? AND subscriber = ? AND message = ?",
            (int(Kind.UNSUBSCRIBED), d["subscriber"], d["message"]),
        )
        .fetchone()
    )
    if d["campaign_kind"] == "consent request":
        asking.refuse(desk, d)
    return True if already else happened(desk, delivery, Kind.UNSUBSCRIBED)
