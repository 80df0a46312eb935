"""An address check against the mail world's truth: how many bad ones were found, how many good ones called bad."""

from __future__ import annotations

import tempfile
import time
from pathlib import Path

from openmeadow.core.addresses.providers import freemail_domains
from openmeadow.demo.build import NOW
from openmeadow.demo.mail_world.dns_server import DnsServer
from openmeadow.demo.mail_world.habits import draw
from openmeadow.demo.mail_world.world import BOUNCES_LATER, MISTYPED, World, serve_smtp
from openmeadow.demo.mail_world.zones import provider_zones
from openmeadow.demo.ports import free_port
from openmeadow.net.dns import Resolver
from openmeadow.services.subscribers.address_checks import check_list

PEOPLE = 3_000


def figures(people: int = PEOPLE) -> None:
    """Prints both figures, by DNS alone and with the mail hosts asked."""
    habits = draw(people, NOW, seed=11)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "zones").mkdir()
        (folder / "clock").write_text(str(NOW))
        typed = habits.email.tolist()
        provider_zones(folder / "zones", sorted({e.rpartition("@")[2] for e in typed}))
        dns = DnsServer(folder / "zones")
        where = f"127.0.0.1:{dns.port}"
        world = World(habits, folder / "clock", Resolver(where), ("127.0.0.1", 1))
        port = free_port()
        relay = serve_smtp(world, port)
        dead = {
            e
            for e, gone in zip(typed, habits.gone.tolist(), strict=True)
            if gone <= NOW or e.rpartition("@")[2] in MISTYPED
        }
        print(f"\n{people:,} addresses checked, {len(dead):,} of them nobody's in the mail world's truth")
        for words, ask in (("by syntax and DNS", 0), ("and by their mail hosts", port)):
            begun = time.perf_counter()
            found = check_list(typed, freemail_domains(), Resolver(where), reserved=True, port=ask)
            bad = {f["address"] for f in found if f["verdict"] == "bad"}
            later = sum(e.rpartition("@")[2] in BOUNCES_LATER for e in dead - bad)
            print(
                f"  {words:<26} {len(bad & dead):>5,} of {len(dead):,} bad found, {len(bad - dead):,} of "
                f"{people - len(dead):,} good called bad, {time.perf_counter() - begun:.1f} s"
                + (f"; {later:,} missed are at a host that takes everything and bounces later" if later else "")
            )
        relay.stop()
        dns.close()


if __name__ == "__main__":
    figures()
