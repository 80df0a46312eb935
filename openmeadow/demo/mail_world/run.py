"""The stand-ins as one process: the DNS server and the mail world."""

from __future__ import annotations

import threading
from pathlib import Path

from openmeadow.demo.mail_world.dns_server import DnsServer
from openmeadow.demo.mail_world.habits import Habits


def run_standins(folder: Path, relay_port: int, dns_port: int, http_port: int, intake_port: int) -> None:
    """DNS and mail world until the end of the process."""
    from openmeadow.demo.mail_world.world import World, serve_http, serve_smtp
    from openmeadow.net.dns import Resolver

    DnsServer(folder / "mail_world" / "zones", dns_port)
    world = World(
        Habits.load(folder / "mail_world" / "people.npz"),
        folder / "clock",
        Resolver(f"127.0.0.1:{dns_port}"),
        ("127.0.0.1", intake_port),
    )
    serve_smtp(world, relay_port)
    serve_http(world, http_port)
    threading.Event().wait()
