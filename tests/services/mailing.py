"""A small workspace that can really send: DNS stand-in, mail world, a sender that holds, a campaign ready to start."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from openmeadow.core.authentication import records
from openmeadow.core.ids import CampaignId
from openmeadow.core.moments import DAY
from openmeadow.demo.mail_world.dns_server import DnsServer
from openmeadow.demo.mail_world.habits import FAR, Habits, draw
from openmeadow.demo.mail_world.world import RELAY_IP, World, serve_http, serve_smtp
from openmeadow.demo.mail_world.zones import provider_zones
from openmeadow.demo.ports import free_port
from openmeadow.net.dns import Resolver, answer_all
from openmeadow.net.signed_tokens import Tokens
from openmeadow.services.campaigns import campaigns, dispatcher
from openmeadow.services.health import providers
from openmeadow.services.segments import segments
from openmeadow.services.senders import domains
from openmeadow.services.subscribers import import_subscribers
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.campaigns import campaigns as campaign_table
from openmeadow.store.campaigns import deliveries
from openmeadow.store.campaigns.delivery_records import Delivery
from openmeadow.store.health import providers as provider_table
from openmeadow.store.senders import senders as sender_table
from openmeadow.store.subscribers import subscribers as subscriber_table
from tests.conftest import NOW, set_clock

DOMAIN = "news.kestrelquay.example"
ZONE = f"""$TTL 60
@ IN SOA ns.kestrelquay.example. hostmaster.kestrelquay.example. 1 60 60 60 60
@ IN NS ns
ns IN A 127.0.0.1
mail IN A 127.0.0.1
relay IN A {RELAY_IP}
bounce.news IN MX 10 mail
bounce.news IN TXT "v=spf1 ip4:{RELAY_IP} -all"
_dmarc IN TXT "v=DMARC1; p=none; rua=mailto:dmarc@kestrelquay.example"
"""
HTML = '<p>Dear {{ first_name or "friend" }},</p><p><a href="https://www.kestrelquay.example/a">Programme</a></p>'


@dataclass(frozen=True, slots=True)
class BatchDelivery(Delivery):
    """A delivery with the batch it belongs to."""

    batch_n: int
    due_at: int
    sent_at: int | None


@dataclass
class Mailing:
    """Everything a test of sending needs; ``relay`` is the running SMTP stand-in."""

    workspace: Workspace
    world: World
    tokens: Tokens
    campaign: int
    relay: object
    control: str


def habits(people: int, **fixed: object) -> Habits:
    """People of the demo with some traits fixed, all joined a year ago with working mailboxes."""
    drawn = draw(people, NOW, seed=5)
    plain = {
        "joined": np.full(people, NOW - 365 * DAY),
        "gone": np.full(people, FAR),
        "until": np.full(people, FAR),
        "source": np.zeros(people, np.int64),
        "proxy": np.zeros(people, bool),
        "sweeps": np.zeros(people, bool),
        "email": np.array([f"p{i}@{'postern.example' if i % 2 else 'saltmere.example'}" for i in range(people)]),
        "name": np.array([f"P{i} Quill" for i in range(people)]),
        "open": np.full(people, 0.5),
    }
    return replace(drawn, **{**plain, **{k: np.asarray(v) for k, v in fixed.items()}})  # type: ignore[arg-type]


def _cell(text: str) -> str:
    return '"' + text.replace('"', '""') + '"' if '"' in text else text


@contextmanager
def mailing(folder: Path, people: int = 60, **traits: object) -> Iterator[Mailing]:
    zones = folder / "zones"
    zones.mkdir()
    (zones / "kestrelquay.example.zone").write_text(ZONE)
    provider_zones(zones, ["postern.example", "saltmere.example", "lanternmail.example", "quill-saltmere.example"])
    dns = DnsServer(zones)
    workspace = Workspace(folder)
    relay_port, http_port, intake_port = free_port(), free_port(), free_port()
    with workspace.store.atomic() as db:
        for name, value in {
            "relay_port": relay_port,
            "resolver": f"127.0.0.1:{dns.port}",
            "relay_ips": [RELAY_IP],
            "intake_port": intake_port,
            "freemail_domains": sorted(NAMED),
            "public_url": "http://127.0.0.1:1",
            "inside_hosts": ["127.0.0.1"],
        }.items():
            settings.set_setting(db, name, value)
    h = habits(people, **traits)
    world = World(h, folder / "clock", Resolver(f"127.0.0.1:{dns.port}"), ("127.0.0.1", intake_port))
    relay, http = serve_smtp(world, relay_port), serve_http(world, http_port)
    file = folder / "people.csv"
    file.write_text(
        "email,name,joined_at,list,consent:News,consent_source:News\n"
        + "".join(f"{_cell(e)},{n},2025-03-01,Foyer,given,Foyer\n" for e, n in zip(h.email, h.name, strict=True))
    )
    import_subscribers.run(workspace.store, file, NOW, "test")
    known_providers(workspace)
    try:
        yield Mailing(workspace, world, Tokens(folder), ready_campaign(workspace), relay, f"http://127.0.0.1:{http_port}")
    finally:
        relay.stop()
        http.shutdown()
        http.server_close()
        dns.close()
        workspace.close()


def on_time(m: Mailing, until: int) -> None:
    """A worker that is there all the time: everything goes out at its moment."""
    while True:
        dispatcher.send_due(m.workspace, m.tokens)
        due = deliveries.next_due(m.workspace.store.read())
        if due is None or due > until:
            break
        set_clock(m.workspace, max(due, m.workspace.now()))
    set_clock(m.workspace, max(until, m.workspace.now()))


def known_providers(workspace: Workspace) -> None:
    """Found by MX; those with a name get it, all others are other domains."""
    while providers.find(workspace).asked:
        pass
    for id, host in enumerate(provider_table.names(workspace.store.read())):
        if host in NAMED:
            providers.change(workspace, id, "test", name=NAMED[host], limits={})
        elif id and host:
            providers.merge(workspace, id, provider_table.OTHER_DOMAINS, "test")


NAMED = {"lanternmail.example": "Lanternmail", "postern.example": "Postern", "brinebox.example": "Brinebox"}


def ready_campaign(workspace: Workspace, name: str = "Harbour nights") -> int:
    """A sender by its published lines, a confirmed from-address, a segment, a written message."""
    db = workspace.store.read()
    row = sender_table.domain_named(db, DOMAIN)
    if row is None:
        id = domains.add_domain(workspace, DOMAIN, "test")
        domains.make_key(workspace, id, "test")
        domains.publish(workspace, id, "test")
        address = domains.add_address(workspace, id, "hello", "test")
        domains.confirm(workspace, address)
        segments.save(workspace, "Everybody", 'permitted for "News"', "test")
    address = sender_table.addresses(db)[0].id
    campaign = campaigns.add(workspace, name, "test")
    with workspace.store.atomic() as w:
        campaign_table.update(w, campaign, {"seed": campaign})  # the same lots every time
    campaigns.write(
        workspace,
        campaign,
        {
            "purpose": subscriber_table.names(db, "purposes")[0].id,
            "from_address": address,
            "from_name": "Kestrel Quay",
            "subject": "Harbour nights",
            "html": HTML,
            "segments_in": [1],
            "plan": {"pilot_share": 0.1, "batches": 2, "interval": 3600, "new_subject": "By the water"},
        },
    )
    return campaign


def look_up(workspace: Workspace) -> list[str]:
    row = sender_table.domain_named(workspace.store.read(), DOMAIN)
    resolver = Resolver(str(workspace.setting("resolver")))
    return [f.state for f in answer_all(records.look(domains.facts(workspace, row)), resolver).records]


def deliveries_of(db: sqlite3.Connection, campaign: CampaignId, kind: str) -> list[BatchDelivery]:
    """All deliveries of one of a campaign's sends, with the number of their batch."""
    return BatchDelivery.read_all(
        db.execute(
            "SELECT d.*, b.n AS batch_n, b.due_at, b.sent_at FROM deliveries d JOIN sends q ON q.id = d.send "
            "JOIN batches b ON b.id = d.batch WHERE q.campaign = ? AND q.kind = ?",
            (campaign, kind),
        )
    )
