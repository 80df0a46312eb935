"""What comes back: opens, clicks, unsubscribes, bounces. One function, one transaction."""

from __future__ import annotations

from openmeadow.core.columns import Kind
from openmeadow.desk.bring_in.events import consequences
from openmeadow.desk.desk import Desk
from openmeadow.store import campaigns, events
from openmeadow.wire.tokens import Tokens


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
        d = campaigns.delivery(db, delivery)
        if d is None:
            return False
        now = desk.now()
        (who,) = events.Names(db).agents([agent], [ip])
        new = events.add(db, [(now, int(kind), d["subscriber"], d["message"], link, who, 0.0, code, diagnostic, None)])
        if new:
            consequences(db, [(now, int(kind), d["subscriber"], d["message"], code, diagnostic)])
        return True


def opened(desk: Desk, delivery: int, agent: str, ip: str) -> None:
    happened(desk, delivery, Kind.OPENED, agent=agent, ip=ip)


def clicked(desk: Desk, delivery: int, link: int, agent: str, ip: str) -> str | None:
    """Records the click; where the link leads, None when it is not one of ours."""
    row = campaigns.link(desk.store.read(), link)
    d = campaigns.delivery(desk.store.read(), delivery)
    if row is None or d is None or row["message"] != d["message"]:
        return None
    happened(desk, delivery, Kind.CLICKED, link, agent, ip)
    return str(row["url"])


def unsubscribed(desk: Desk, delivery: int) -> bool:
    """One-click or by the page: consent to the message's purpose is withdrawn at once. Again does no harm."""
    from openmeadow.desk import asking

    d = campaigns.delivery(desk.store.read(), delivery)
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


def returned(desk: Desk, tokens: Tokens, to: str, raw: bytes) -> bool:
    """A message at the return path; True when it was matched to somebody."""
    from openmeadow.desk import reports

    return bool(reports.take_mail(desk, tokens, to, raw).get("matched"))
