"""Senders: domains, their records, from addresses."""

from __future__ import annotations

from flask import Response

from openmeadow.core.authentication.dkim import kind_of
from openmeadow.core.errors import Missing
from openmeadow.services.senders import domains, removal
from openmeadow.services.workspace import Workspace
from openmeadow.store.senders import senders as table
from openmeadow.store.senders.records import Domain
from openmeadow.web import schemas as m
from openmeadow.web.router import ANALYSE, Routes, who

routes = Routes()


def model(workspace: Workspace, row: Domain) -> m.Domain:
    """A sending domain as its page shows it."""
    alike = domains.looks_like(workspace, row.name)
    addresses = [
        m.FromAddress(
            id=a.id,
            address=a.address,
            confirmed_at=a.confirmed_at,
            domain=a.domain,
            usable=bool(a.confirmed_at) and row.state != "fail",
            looks_like=alike and f"{a.address.rpartition('@')[0]}@{alike}",
        )
        for a in table.addresses(workspace.store.read(), row.id)
    ]
    return m.Domain(
        id=row.id,
        name=row.name,
        state=row.state,
        selector=row.selector or "",
        key_kind=kind_of(row.public_key) if row.public_key else "",
        checked_at=row.checked_at,
        records=[m.Record.model_validate(r) for r in row.records],
        addresses=addresses,
        keys=[
            m.BesideKey(selector=k.selector, state=k.state, made_at=k.made_at, beside=k.beside)
            for k in table.keys(workspace.store.read(), row.id)
        ],
        changes=[m.RecordChange.read_from(c) for c in table.changes(workspace.store.read(), row.id)],
        spf=row.spf,
        looks_like=alike,
    )


def one(workspace: Workspace, row_id: int) -> m.Domain:
    """A sending domain as its page shows it; Missing where there is none."""
    row = table.domain(workspace.store.read(), row_id)
    if row is None:
        raise Missing("This domain is not set up here.")
    return model(workspace, row)


@routes.route("GET", "/senders", m.Domains)
def every(workspace: Workspace) -> m.Domains:
    """All sending domains as last looked up."""
    return m.Domains(domains=[model(workspace, r) for r in table.domains(workspace.store.read())])


@routes.route("POST", "/senders", m.Domain, body=m.NameIn, rights=ANALYSE)
def add(workspace: Workspace, body: m.NameIn) -> m.Domain:
    """Add a domain, make its key, and look its records up."""
    row_id = domains.add_domain(workspace, body.name, who())
    domains.make_key(workspace, row_id, who())
    domains.check(workspace, row_id)
    return one(workspace, row_id)


@routes.route("GET", "/senders/<int:id>", m.Domain)
def see(workspace: Workspace, row_id: int) -> m.Domain:
    """One domain, record by record."""
    return one(workspace, row_id)


@routes.route("POST", "/senders/<int:id>/check", m.Domain)
def check(workspace: Workspace, row_id: int) -> m.Domain:
    """Look every record up again, now."""
    domains.check(workspace, row_id)
    return one(workspace, row_id)


@routes.route("POST", "/senders/<int:id>/key", m.Domain, query=m.KeyQuery, rights=ANALYSE)
def key(workspace: Workspace, row_id: int, query: m.KeyQuery) -> m.Domain:
    """Make the next DKIM key (query ``kind``: rsa or ed25519); it is used once it is published and proved, with ``beside``
    as a second signature."""
    domains.make_key(workspace, row_id, who(), query.kind, beside=query.beside)
    domains.check(workspace, row_id)
    return one(workspace, row_id)


@routes.route("DELETE", "/senders/<int:id>/second-signature", m.Domain, rights=ANALYSE)
def stop_second_signature(workspace: Workspace, row_id: int) -> m.Domain:
    """Sign with one key again; the record of the other must stay for a week."""
    domains.stop_second_signature(workspace, row_id, who())
    domains.check(workspace, row_id)
    return one(workspace, row_id)


@routes.route("POST", "/senders/<int:id>/publish", m.Domain, rights=ANALYSE)
def publish(workspace: Workspace, row_id: int) -> m.Domain:
    """Send the lines that are missing to the zone's name server as a dynamic update (RFC 2136)."""
    domains.publish(workspace, row_id, who())
    return one(workspace, row_id)


@routes.route("GET", "/senders/<int:id>/zone", "text/plain")
def zone(workspace: Workspace, row_id: int) -> Response:
    """All lines the domain needs, as a zone file."""
    headers = {"Content-Disposition": f"attachment; filename=sender-{row_id}.zone"}
    return Response(domains.zone_of(workspace, row_id), mimetype="text/plain", headers=headers)


@routes.route("POST", "/senders/<int:id>/addresses", m.Domain, body=m.NameIn, rights=ANALYSE)
def add_address(workspace: Workspace, row_id: int, body: m.NameIn) -> m.Domain:
    """Add a from address; the confirming link is mailed to it."""
    domains.add_address(workspace, row_id, body.name, who())
    return one(workspace, row_id)


@routes.route("POST", "/from-addresses/<int:id>/confirm", m.Done, rights=ANALYSE)
def ask(workspace: Workspace, row_id: int) -> m.Done:
    """Mail the confirming link again."""
    domains.ask_to_confirm(workspace, row_id)
    return m.Done(id=row_id)


@routes.route("DELETE", "/senders/<int:id>", m.Done, rights=ANALYSE)
def remove(workspace: Workspace, row_id: int) -> m.Done:
    """Remove a domain with its addresses; adding it again, or the restore, brings it back."""
    removal.remove_domain(workspace, row_id, who())
    return m.Done(id=row_id)


@routes.route("POST", "/senders/<int:id>/restore", m.Done, rights=ANALYSE)
def restore(workspace: Workspace, row_id: int) -> m.Done:
    """Put a removed domain back."""
    removal.remove_domain(workspace, row_id, who(), back=True)
    return m.Done(id=row_id)


@routes.route("DELETE", "/from-addresses/<int:id>", m.Done, rights=ANALYSE)
def remove_address(workspace: Workspace, row_id: int) -> m.Done:
    """Remove a from address."""
    removal.remove_address(workspace, row_id, who())
    return m.Done(id=row_id)


@routes.route("POST", "/from-addresses/<int:id>/restore", m.Done, rights=ANALYSE)
def restore_address(workspace: Workspace, row_id: int) -> m.Done:
    """Put a removed from address back."""
    removal.remove_address(workspace, row_id, who(), back=True)
    return m.Done(id=row_id)
