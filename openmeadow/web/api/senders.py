"""Senders: domains, their records, from-addresses."""

from __future__ import annotations

import json
import sqlite3

from flask import Response

from openmeadow.core.errors import Missing
from openmeadow.desk import senders
from openmeadow.desk.desk import Desk
from openmeadow.store import senders as table
from openmeadow.web import models as m
from openmeadow.web.described import ANALYSE, Described, who


def register(api: Described, desk: Desk) -> None:
    def model(row: sqlite3.Row) -> m.Domain:
        alike = senders.looks_like(desk, row["name"])
        addresses = [
            m.FromAddress(
                id=a["id"],
                address=a["address"],
                confirmed_at=a["confirmed_at"],
                domain=a["domain"],
                usable=bool(a["confirmed_at"]) and row["state"] != "broken",
                looks_like=alike and f"{a['address'].rpartition('@')[0]}@{alike}",
            )
            for a in table.addresses(desk.store.read(), row["id"])
        ]
        return m.Domain(
            id=row["id"],
            name=row["name"],
            state=row["state"],
            selector=row["selector"] or "",
            checked_at=row["checked_at"],
            records=[m.Record(**r) for r in json.loads(row["records"])],
            addresses=addresses,
            keys=[
                m.BesideKey(selector=k["selector"], state=k["state"], made_at=k["made_at"])
                for k in table.keys(desk.store.read(), row["id"])
            ],
            changes=[
                m.RecordChange(**{f: c[f] for f in m.RecordChange.model_fields})
                for c in table.changes(desk.store.read(), row["id"])
            ],
            spf=json.loads(row["spf"]),
            looks_like=alike,
        )

    def one(id: int) -> m.Domain:
        row = table.domain(desk.store.read(), id)
        if row is None:
            raise Missing("There is no such domain among the senders.")
        return model(row)

    @api.route("GET", "/senders", m.Domains)
    def every() -> m.Domains:
        """All sending domains as last looked up."""
        return m.Domains(domains=[model(r) for r in table.domains(desk.store.read())])

    @api.route("POST", "/senders", m.Domain, body=m.NameIn, rights=ANALYSE)
    def add(body: m.NameIn) -> m.Domain:
        """Add a domain, make its key, and look its records up."""
        id = senders.add_domain(desk, body.name, who())
        senders.make_key(desk, id, who())
        senders.check(desk, id)
        return one(id)

    @api.route("GET", "/senders/<int:id>", m.Domain)
    def see(id: int) -> m.Domain:
        """One domain, record by record."""
        return one(id)

    @api.route("POST", "/senders/<int:id>/check", m.Domain)
    def check(id: int) -> m.Domain:
        """Look every record up again, now."""
        senders.check(desk, id)
        return one(id)

    @api.route("POST", "/senders/<int:id>/key", m.Domain, query=m.KeyQuery, rights=ANALYSE)
    def key(id: int, query: m.KeyQuery) -> m.Domain:
        """Make the next DKIM key (query ``kind``: rsa or ed25519); it is used once it is published and proved."""
        senders.make_key(desk, id, who(), query.kind)
        senders.check(desk, id)
        return one(id)

    @api.route("POST", "/senders/<int:id>/publish", m.Domain, rights=ANALYSE)
    def publish(id: int) -> m.Domain:
        """Send the lines that are missing to the zone's name server as a dynamic update (RFC 2136)."""
        senders.publish(desk, id, who())
        return one(id)

    @api.route("GET", "/senders/<int:id>/zone", "text/plain")
    def zone(id: int) -> Response:
        """All lines the domain needs, as a zone file."""
        headers = {"Content-Disposition": f"attachment; filename=sender-{id}.zone"}
        return Response(senders.zone_of(desk, id), mimetype="text/plain", headers=headers)

    @api.route("POST", "/senders/<int:id>/addresses", m.Domain, body=m.NameIn, rights=ANALYSE)
    def add_address(id: int, body: m.NameIn) -> m.Domain:
        """Add a from-address; the confirming link is mailed to it."""
        senders.add_address(desk, id, body.name, who())
        return one(id)

    @api.route("POST", "/from-addresses/<int:id>/ask", m.Done, rights=ANALYSE)
    def ask(id: int) -> m.Done:
        """Mail the confirming link again."""
        senders.ask_to_confirm(desk, id)
        return m.Done(id=id)
