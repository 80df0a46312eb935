"""Domains and from addresses that are no longer used: removed, and put back."""

from __future__ import annotations

from openmeadow.core.errors import Missing, Refused
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.senders import senders


def remove_domain(workspace: Workspace, row_id: int, who: str, *, back: bool = False) -> None:
    """Remove a sending domain with its addresses, or put them back. Refused while a campaign or sequence sends from it."""
    row = senders.domain(workspace.store.read(), row_id)
    if row is None:
        raise Missing("This domain is not set up here.")
    if not back:
        _unused(workspace, [a.id for a in senders.addresses(workspace.store.read(), row_id)], row.name)
    with workspace.store.atomic() as db:
        senders.set_removed(db, "domains", row_id, None if back else workspace.now())
        settings.log(db, workspace.now(), who, "restored domain" if back else "removed domain", row.name)


def remove_address(workspace: Workspace, row_id: int, who: str, *, back: bool = False) -> None:
    """Remove a from address, or put it back."""
    row = senders.address(workspace.store.read(), row_id)
    if row is None:
        raise Missing("This address is not set up here.")
    if not back:
        _unused(workspace, [row_id], row.address)
    with workspace.store.atomic() as db:
        senders.set_removed(db, "from_addresses", row_id, None if back else workspace.now())
        settings.log(db, workspace.now(), who, "restored address" if back else "removed address", row.address)


def _unused(workspace: Workspace, addresses: list[int], name: str) -> None:
    users = senders.sending_from(workspace.store.read(), addresses)
    if users:
        raise Refused(f"“{users[0]}” sends from {name}. Stop it first, or choose another from address there.")
