"""The demo: Kestrel Quay's workspace, made once, and everything it needs running in one go."""

from __future__ import annotations

import itertools
import os
import random
import shutil
import signal
import socket
import subprocess
import sys
import threading
import time
import urllib.request
from datetime import UTC, datetime
from pathlib import Path

import click

from openmeadow import demo_past, demo_sequence
from openmeadow.clock import DemoClock
from openmeadow.core.authentication.dkim import record_text
from openmeadow.core.authentication.findings import txt_line
from openmeadow.desk import accounts, campaigns, consent, joining, providers, ready_made, segments
from openmeadow.desk.bring_in import events, subscribers
from openmeadow.desk.desk import Desk
from openmeadow.standins import history
from openmeadow.standins.dns_server import DnsServer
from openmeadow.standins.habits import Habits
from openmeadow.standins.world import RELAY_IP
from openmeadow.standins.zones import provider_zones
from openmeadow.store import campaigns as campaign_table
from openmeadow.store import providers as provider_table
from openmeadow.store import senders as sender_table
from openmeadow.store import subscribers as subscriber_table
from openmeadow.store import workspace

ROOT = Path(__file__).resolve().parent.parent
PREPARED = ROOT / "build" / "demo"
NOW = int(datetime(2026, 3, 12, 9, 42, tzinfo=UTC).timestamp())
PEOPLE = 24_000
PURPOSES = ("Season news", "Family concerts", "Patron appeals", "Ticket service messages")
DEMO_USER, DEMO_EMAIL = "demo", "demo@kestrelquay.example"
DEMO_PASSWORD = "evenings by the water"  # of made-up data, served on loopback
SEGMENTS = (
    ("Season news regulars", 'permitted for "Season news" and opened at least 4 in 120 days'),
    ("Patrons who read", 'has label "patron" and opened at least 1 in 90 days'),
)


def build(folder: Path, people: int = PEOPLE, now: int = NOW) -> None:
    """Make the demo workspace in ``folder``: files first, then brought in by the same code as anybody's."""
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir(parents=True)
    (folder / "clock").write_text(str(now))
    standins = folder / "standins"
    history.make(standins, people, now)
    desk = Desk(folder)
    with desk.store.atomic() as db:
        for name, value in {
            "name": "Kestrel Quay",
            "time_zone": "UTC",
            "demo": True,
            "relay_ips": [RELAY_IP],
            "block_lists": ["bl.harbourwatch.example"],
            "intake_name": "mail.kestrelquay.example",
            "postal_address": "Kestrel Quay, 1 Harbour Steps, Saltmere",
        }.items():
            workspace.set_setting(db, name, value)
        purposes = {p: subscriber_table.named(db, "purposes", p)[0] for p in PURPOSES}
        for _, name, purpose in history.mailings(now):
            campaign_table.add_message(db, name, purposes[purpose])
    subscribers.bring_in(desk.store, standins / "subscribers.csv", now, "demo")
    events.bring_in(desk.store, standins / "events.csv", now, "demo")
    accounts.add(desk, DEMO_USER, "analyst", DEMO_PASSWORD, DEMO_EMAIL)
    _senders(desk, standins / "zones", now)
    _providers(desk, standins / "zones")
    desk.view()
    _consent(desk)
    ready_made.make(desk)
    for name, rule in SEGMENTS:
        segments.save(desk, name, rule, "demo")
    _campaign(desk)
    demo_past.make(desk, Habits.load(standins / "people.npz"), now)
    _sequence(desk, standins, now)
    desk.close()
    for name in ("events.csv", "subscribers.csv"):
        (standins / name).unlink()


WORDINGS = {
    "Season news": "Once a week: what is on, what is new on sale, and now and then a look behind the stage.",
    "Family concerts": "Once a month: concerts for children and whoever brings them.",
    "Patron appeals": "A few times a year: what the hall needs, and what became of what was given.",
}


def _consent(desk: Desk) -> None:
    """What people agree to, in words; tickets are a service; one form to join by."""
    ids = {p["name"]: p["id"] for p in consent.purposes(desk)}
    for name, text in WORDINGS.items():
        consent.write_purpose(desk, ids[name], {"text": text}, "demo")
    consent.write_purpose(desk, ids["Ticket service messages"], {"transactional": True, "basis": "contract"}, "demo")
    asked = [ids["Season news"], ids["Family concerts"]]
    form = {"purposes": asked, "intro": "Evenings by the water, in your mailbox.", "ask_name": True, "confirm": True}
    joining.write_form(desk, "Website", {**form, "reminders": [2, 6], "is_open": True}, "demo")


PROVIDERS = {"lanternmail.example": "Lanternmail", "postern.example": "Postern", "brinebox.example": "Brinebox"}
ALIAS_RULES = {"lanternmail.example": {"after": "+", "dots": True}, "postern.example": {"after": "+", "dots": False}}


def _providers(desk: Desk, zones: Path) -> None:
    """Found by the stand-in's MX records, as anybody's are; three of them get the names that people know them by."""
    dns = DnsServer(zones)
    with desk.store.atomic() as db:
        workspace.set_setting(db, "resolver", f"127.0.0.1:{dns.port}")
        workspace.set_setting(db, "freemail_domains", sorted(PROVIDERS))
        workspace.set_setting(db, "alias_rules", ALIAS_RULES)
    try:
        while providers.find(desk).asked:
            pass
    finally:
        dns.close()
    for id, host in enumerate(provider_table.names(desk.store.read())):
        if host in PROVIDERS:
            providers.change(desk, id, "demo", name=PROVIDERS[host], limits={})
        elif id and host:  # organisations of the coast with hosts of their own, looked at together
            providers.merge(desk, id, provider_table.OTHER_DOMAINS, "demo")
    with desk.store.atomic() as db:
        workspace.set_setting(db, "resolver", "")


def _senders(desk: Desk, zones: Path, now: int) -> None:
    """news. is in order, patrons. has lost its key; the zone files are what the DNS stand-in serves."""
    from openmeadow.desk.senders import add_domain, make_key

    zones.mkdir()
    for path in (ROOT / "demo" / "zones").glob("*.zone"):
        shutil.copy(path, zones)
    provider_zones(zones, sorted({e.rpartition("@")[2] for e in Habits.load(zones.parent / "people.npz").email.tolist()}))
    lines = []
    for name, address, works in (
        ("news.kestrelquay.example", "hello", True),
        ("patrons.kestrelquay.example", "circle", False),
    ):
        id = add_domain(desk, name, "demo")
        make_key(desk, id, "demo")
        row = sender_table.domain(desk.store.read(), id)
        assert row is not None
        lines.append(txt_line(f"_meadow.{name}", f"meadow={row['token']}"))
        public = row["public_key"] if works else row["public_key"][:-40] + "A" * 36 + row["public_key"][-4:]
        lines.append(txt_line(f"{row['selector']}._domainkey.{name}", record_text(public)))
        with desk.store.atomic() as db:
            sender_table.confirm(db, sender_table.add_address(db, id, f"{address}@{name}", now), now)
    with (zones / "kestrelquay.example.zone").open("a") as f:
        f.write("\n".join(lines) + "\n")


def _campaign(desk: Desk) -> None:
    id = campaigns.add(desk, "Spring season on sale", "demo")
    db = desk.store.read()
    with desk.store.atomic() as w:
        campaign_table.update(w, id, {"seed": 1})  # the same lots in every demo
    purpose = next(r["id"] for r in subscriber_table.names(db, "purposes") if r["name"] == "Season news")
    from_address = next(r["id"] for r in sender_table.addresses(db) if r["address"].startswith("hello@"))
    segment = db.execute("SELECT id FROM segments WHERE name = 'Season news regulars'").fetchone()["id"]
    campaigns.write(
        desk,
        id,
        {
            "purpose": purpose,
            "from_address": from_address,
            "from_name": "Kestrel Quay",
            "subject": "The spring season is on sale",
            "segments_in": [segment],
            "preview": "Forty-one evenings between April and July, and the organ has its new pipes.",
            "html": (ROOT / "demo" / "message.html").read_text(encoding="utf-8"),
            "plan": {"new_subject": "Forty-one evenings by the water"},
        },
    )


def _sequence(desk: Desk, standins: Path, now: int) -> None:
    """One that has run for weeks; the sender is looked at first, as before any start."""
    dns = DnsServer(standins / "zones")
    with desk.store.atomic() as db:
        workspace.set_setting(db, "resolver", f"127.0.0.1:{dns.port}")
    try:
        demo_sequence.begin(desk, Habits.load(standins / "people.npz"), now)
    finally:
        dns.close()
    with desk.store.atomic() as db:
        sender_table.look_again(db)  # when the demo starts


def prepare(people: int = PEOPLE) -> Path:
    """The workspace made once and kept, so that a demo starts by copying it."""
    folder = PREPARED / str(people)
    if not (folder / "whole").exists():
        build(folder, people)
        (folder / "whole").write_text("")
    return folder


_PORTS = itertools.count(random.SystemRandom().randrange(10_000))


def free_port() -> int:
    """A port nothing on this machine uses, neither by TCP nor by UDP, and never the same twice in a process.

    It lies below the range from which systems give ports to outgoing connections (32,768 and up), so that no
    connection opened between this answer and its use can take it.
    """
    while True:
        port = 20_000 + next(_PORTS) * 7 % 12_000
        with socket.socket() as tcp, socket.socket(type=socket.SOCK_DGRAM) as udp:
            try:
                tcp.bind(("127.0.0.1", port))
                udp.bind(("127.0.0.1", port))
            except OSError:
                continue
            return port


def die_with_parent() -> None:
    """Leave when the starting process is gone: its end of our standard input closes."""

    def watch() -> None:
        while os.read(0, 1):
            pass
        os._exit(0)

    threading.Thread(target=watch, daemon=True).start()


def run_standins(folder: Path, relay_port: int, dns_port: int, http_port: int, intake_port: int) -> None:
    """DNS and mail world until the end of the process."""
    from openmeadow.standins.world import World, serve_http, serve_smtp
    from openmeadow.wire.dns import Resolver

    DnsServer(folder / "standins" / "zones", dns_port)
    world = World(
        Habits.load(folder / "standins" / "people.npz"),
        folder / "clock",
        Resolver(f"127.0.0.1:{dns_port}"),
        ("127.0.0.1", intake_port),
    )
    serve_smtp(world, relay_port)
    serve_http(world, http_port)
    threading.Event().wait()


PARTS = ("the stand-ins", "the worker", "the server")  # in the order in which they are started


class Demo:
    """All processes of a demo; ``stop`` leaves none behind."""

    def __init__(self, folder: Path, port: int) -> None:
        self.folder, self.port = folder, port
        ports = {name: free_port() for name in ("relay", "dns", "http", "intake")}
        self.world = f"http://127.0.0.1:{ports['http']}"
        self.url = f"http://127.0.0.1:{port}"
        desk = Desk(folder)
        with desk.store.atomic() as db:
            for name, value in {
                "public_url": self.url,
                "relay_port": ports["relay"],
                "intake_port": ports["intake"],
                "mail_port": ports["relay"],
                "resolver": f"127.0.0.1:{ports['dns']}",
                "world_url": self.world,
                "web_gateway": self.world,
                "inside_hosts": ["127.0.0.1"],
                "placement_boxes": [
                    {"provider": p, "address": a, "listing": f"{self.world}/mailbox/{a}"}
                    for p, a in (
                        ("Lanternmail", "probe@lanternmail.example"),
                        ("Postern", "probe@postern.example"),
                        ("Brinebox", "probe@brinebox.example"),
                    )
                ],
            }.items():
                workspace.set_setting(db, name, value)
        user = accounts.named(desk, DEMO_USER)
        self.entry = f"{self.url}/enter/{accounts.new_link(desk, user.id, 'sign in')}"
        desk.close()
        self._children: list[subprocess.Popen[bytes]] = []
        base = [sys.executable, "-m", "openmeadow", "--data", str(folder)]
        for arguments in (
            [
                "standins",
                "--relay",
                str(ports["relay"]),
                "--dns",
                str(ports["dns"]),
                "--http",
                str(ports["http"]),
                "--intake",
                str(ports["intake"]),
            ],
            ["worker", "--world", self.world, "--with-parent"],
            ["serve", "--port", str(port), "--with-parent"],
        ):
            self._children.append(subprocess.Popen([*base, *arguments], stdin=subprocess.PIPE))

    def wait_ready(self, seconds: float = 180) -> None:
        for address in (f"{self.url}/api/ready", f"{self.world}/next"):
            end = time.monotonic() + seconds
            while True:
                try:
                    urllib.request.urlopen(address, timeout=5).read()
                    break
                except OSError:
                    ended = [name for name, c in zip(PARTS, self._children, strict=False) if c.poll() is not None]
                    if time.monotonic() > end or ended:
                        self.stop()
                        why = f"{ended[0]} ended; its lines above say why" if ended else f"no answer in {seconds:g} s"
                        raise click.ClickException(f"The demo did not start: {why}.") from None
                    time.sleep(0.1)

    def stop(self) -> None:
        for child in self._children:
            child.terminate()
        for child in self._children:
            try:
                child.wait(10)
            except subprocess.TimeoutExpired:
                child.kill()
                child.wait()
            if child.stdin:
                child.stdin.close()

    def wait(self) -> None:
        while all(c.poll() is None for c in self._children):
            time.sleep(0.5)


def demo(folder: Path, port: int, fresh: bool, people: int) -> None:
    """Start everything, print the address, stay until interrupted."""
    if fresh or not (folder / "meadow.db").exists():
        click.echo(f"Making Kestrel Quay with {people:,} people (once; later starts are quick)…")
        prepared = prepare(people)
        shutil.rmtree(folder, ignore_errors=True)
        shutil.copytree(prepared, folder)
    elif not isinstance(Desk(folder).clock, DemoClock):
        raise click.ClickException(f"{folder} holds a workspace of yours; the demo wants a folder of its own (--data).")
    with socket.socket() as s:
        if s.connect_ex(("127.0.0.1", port)) == 0:
            raise click.ClickException(f"Port {port} is taken; choose another with --port.")
    running = Demo(folder, port)
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    try:
        running.wait_ready()
        click.echo(
            f"Open Meadow is ready. Sign in once as the demo analyst:\n  {running.entry}\n"
            f"or as {DEMO_USER} with the password “{DEMO_PASSWORD}”.\n"
            f"The demo's mailboxes: {running.world}/\nStop with Ctrl-C."
        )
        running.wait()
    except KeyboardInterrupt:
        pass
    finally:
        running.stop()
