"""Zones of the mail world: providers that take mail, the relay's reverse name, a block list of its own."""

from __future__ import annotations

from pathlib import Path

from openmeadow.demo.mail_world.world import MISTYPED, RELAY_IP

HEAD = "$TTL 3600\n@ IN SOA ns.{0}. hostmaster.{0}. 1 3600 600 86400 600\n@ IN NS ns.{0}.\n"
RELAY_NAME = "relay.kestrelquay.example"
HOSTED = "-saltmere.example"  # own domains whose mail a provider takes
BLOCK_LIST = "bl.harbourwatch.example"


def provider_zones(folder: Path, domains: list[str]) -> None:
    """One zone a domain whose mail host is the mail world; mistyped domains do not exist."""
    for domain in domains:
        if domain not in MISTYPED:
            host = "mx.postern.example." if domain.endswith(HOSTED) else "mx"
            text = HEAD.format(domain) + f"@ IN MX 10 {host}\nmx IN A 127.0.0.1\nns IN A 127.0.0.1\n"
            (folder / f"{domain}.zone").write_text(text)
    first, second, third, last = RELAY_IP.split(".")
    reverse = f"{third}.{second}.{first}.in-addr.arpa"
    (folder / f"{reverse}.zone").write_text(HEAD.format(reverse) + f"{last} IN PTR {RELAY_NAME}.\n")
    test = '2.0.0.127 IN A 127.0.0.2\n2.0.0.127 IN TXT "a test entry"\n'
    (folder / f"{BLOCK_LIST}.zone").write_text(HEAD.format(BLOCK_LIST) + test)
