"""The demo: Kestrel Quay's workspace, made once, and everything it needs running in one go."""

from __future__ import annotations

import json
import shutil
import sqlite3
import tarfile
import tempfile
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

from openmeadow.core.authentication.dkim import record_text
from openmeadow.core.authentication.findings import txt_line
from openmeadow.core.ids import PurposeId
from openmeadow.demo import past_campaigns, sequence
from openmeadow.demo.mail_world import history
from openmeadow.demo.mail_world.dns_server import DnsServer
from openmeadow.demo.mail_world.habits import Habits
from openmeadow.demo.mail_world.world import RELAY_IP
from openmeadow.demo.mail_world.zones import provider_zones
from openmeadow.services import accounts
from openmeadow.services.campaigns import campaigns
from openmeadow.services.health import providers
from openmeadow.services.models import FormIn
from openmeadow.services.segments import segments, starter_segments
from openmeadow.services.subscribers import consent, import_events, import_subscribers, score_model, signup
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.campaigns import campaigns as campaign_table
from openmeadow.store.health import providers as provider_table
from openmeadow.store.segments import segments as segment_table
from openmeadow.store.senders import senders as sender_table
from openmeadow.store.subscribers import subscribers as subscriber_table

ROOT = Path(__file__).resolve().parents[2]
PREPARED = ROOT / "build" / "demo"
MADE_ANEW = ("columns", "meadow.db-")  # what every start makes again
DATA = Path(__file__).resolve().parent / "data"
NOW = int(datetime(2026, 3, 12, 9, 42, tzinfo=UTC).timestamp())
PEOPLE = 24_000
PURPOSES = ("Season news", "Family concerts", "Patron appeals", "Ticket service messages")
DEMO_USER, DEMO_EMAIL = "demo", "demo@kestrelquay.example"
DEMO_PASSWORD = "evenings by the water"  # of made-up data, served on loopback
SEGMENTS = (
    ("Season news regulars", 'permitted for "Season news" and opened at least 4 in 120 days'),
    ("Engaged patrons", 'has label "patron" and opened at least 1 in 90 days'),
)


Say = Callable[[str], object]


def _quietly(_: str) -> None:
    pass


def build(folder: Path, people: int = PEOPLE, now: int = NOW, say: Say = _quietly) -> None:
    """Make the demo workspace in ``folder``: files first, then imported by the same code as anybody's; ``say`` is told
    what is being done."""
    say("  drawing people and 18 months of mail")
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir(parents=True)
    (folder / "clock").write_text(str(now))
    standins = folder / "mail_world"
    history.make(standins, people, now)
    workspace = Workspace(folder)
    workspace.store.hurry()
    with workspace.store.atomic() as db:
        for name, value in {
            "name": "Kestrel Quay",
            "time_zone": "UTC",
            "demo": True,
            "relay_ips": [RELAY_IP],
            "block_lists": ["bl.harbourwatch.example"],
            "intake_name": "mail.kestrelquay.example",
            "postal_address": "Kestrel Quay, 1 Harbour Steps, Saltmere",
        }.items():
            settings.set_setting(db, name, value)
        purposes = {p: subscriber_table.named(db, "purposes", p)[0] for p in PURPOSES}
        for _, name, purpose in history.mailings(now):
            campaign_table.add_message(db, name, PurposeId(purposes[purpose]))
    say("  importing the subscribers")
    import_subscribers.run(workspace.store, standins / "subscribers.csv", now, "demo")
    say("  importing what they opened and clicked")
    import_events.run(workspace.store, standins / "events.csv", now, "demo")
    say("  finding providers, fitting the score")
    accounts.add(workspace, DEMO_USER, "analyst", DEMO_PASSWORD, DEMO_EMAIL)
    _senders(workspace, standins / "zones", now)
    _providers(workspace, standins / "zones")
    score_model.refit(workspace)
    _consent(workspace)
    starter_segments.make(workspace)
    for name, rule in SEGMENTS:
        segments.save(workspace, name, rule, "demo")
    _campaign(workspace)
    say("  sending the campaigns of the winter")
    past_campaigns.make(workspace, Habits.load(standins / "people.npz"), now)
    say("  running a sequence for some weeks")
    _sequence(workspace, standins, now)
    score_model.refit(workspace)
    score_model.check(workspace)
    workspace.close()
    for name in ("events.csv", "subscribers.csv"):
        (standins / name).unlink()


WORDINGS = {
    "Season news": "Once a week: what is on, what is new on sale, and now and then a look behind the stage.",
    "Family concerts": "Once a month: concerts for children and their families.",
    "Patron appeals": "A few times a year: what the hall needs, and what your gifts made possible.",
}


def _consent(workspace: Workspace) -> None:
    """What people agree to, in words; tickets are a service; one form to join by."""
    ids = {p.name: p.id for p in consent.purposes(workspace)}
    for name, text in WORDINGS.items():
        consent.write_purpose(workspace, PurposeId(ids[name]), {"text": text}, "demo")
    consent.write_purpose(
        workspace, PurposeId(ids["Ticket service messages"]), {"transactional": True, "basis": "contract"}, "demo"
    )
    asked = [PurposeId(ids["Season news"]), PurposeId(ids["Family concerts"])]
    form = FormIn(list_name="Website", purposes=asked, intro="Evenings by the water, in your mailbox.", reminders=[2, 6])
    signup.write_form(workspace, form, "demo")


PROVIDERS = {"lanternmail.example": "Lanternmail", "postern.example": "Postern", "brinebox.example": "Brinebox"}
ALIAS_RULES = {"lanternmail.example": {"after": "+", "dots": True}, "postern.example": {"after": "+", "dots": False}}


def _providers(workspace: Workspace, zones: Path) -> None:
    """Found by the stand-in's MX records, as anybody's are; three of them get the names that people know them by."""
    dns = DnsServer(zones)
    with workspace.store.atomic() as db:
        settings.set_setting(db, "resolver", f"127.0.0.1:{dns.port}")
        settings.set_setting(db, "freemail_domains", sorted(PROVIDERS))
        settings.set_setting(db, "alias_rules", ALIAS_RULES)
    try:
        while providers.find(workspace).asked:
            pass
    finally:
        dns.close()
    for row_id, host in enumerate(provider_table.names(workspace.store.read())):
        if host in PROVIDERS:
            providers.change(workspace, row_id, "demo", name=PROVIDERS[host], limits={})
        elif row_id and host:  # organisations of the coast with hosts of their own, looked at together
            providers.merge(workspace, row_id, provider_table.OTHER_DOMAINS, "demo")
    with workspace.store.atomic() as db:
        settings.set_setting(db, "resolver", "")


def _senders(workspace: Workspace, zones: Path, now: int) -> None:
    """news. is in order, patrons. has lost its key; the zone files are what the DNS stand-in serves."""
    from openmeadow.services.senders.domains import add_domain, make_key

    zones.mkdir()
    for path in (DATA / "zones").glob("*.zone"):
        shutil.copy(path, zones)
    provider_zones(zones, sorted({e.rpartition("@")[2] for e in Habits.load(zones.parent / "people.npz").email.tolist()}))
    lines = []
    for name, address, works in (
        ("news.kestrelquay.example", "hello", True),
        ("patrons.kestrelquay.example", "circle", False),
    ):
        row_id = add_domain(workspace, name, "demo")
        make_key(workspace, row_id, "demo")
        row = sender_table.domain(workspace.store.read(), row_id)
        assert row is not None and row.public_key is not None
        lines.append(txt_line(f"_meadow.{name}", f"meadow={row.token}"))
        public = row.public_key if works else row.public_key[:-40] + "A" * 36 + row.public_key[-4:]
        lines.append(txt_line(f"{row.selector}._domainkey.{name}", record_text(public)))
        with workspace.store.atomic() as db:
            sender_table.confirm(db, sender_table.add_address(db, row_id, f"{address}@{name}", now), now)
    with (zones / "kestrelquay.example.zone").open("a") as f:
        f.write("\n".join(lines) + "\n")


def _campaign(workspace: Workspace) -> None:
    row_id = campaigns.add(workspace, "Spring season on sale", "demo")
    db = workspace.store.read()
    with workspace.store.atomic() as w:
        campaign_table.update(w, row_id, {"seed": 1})  # the same lots in every demo
    purpose = next(PurposeId(r.id) for r in subscriber_table.names(db, "purposes") if r.name == "Season news")
    from_address = next(r.id for r in sender_table.addresses(db) if r.address.startswith("hello@"))
    named = segment_table.named(db, "Season news regulars")
    assert named is not None
    segment = named.id
    campaigns.write(
        workspace,
        row_id,
        {
            "purpose": purpose,
            "from_address": from_address,
            "from_name": "Kestrel Quay",
            "subject": "The spring season is on sale",
            "segments_in": [segment],
            "preview": "Forty-one evenings between April and July, and the organ has its new pipes.",
            "blocks": json.loads((DATA / "message.json").read_text(encoding="utf-8")),
            "plan": {"new_subject": "Forty-one evenings by the water"},
        },
    )


def _sequence(workspace: Workspace, standins: Path, now: int) -> None:
    """One that has run for weeks; the sender is looked at first, as before any start."""
    dns = DnsServer(standins / "zones")
    with workspace.store.atomic() as db:
        settings.set_setting(db, "resolver", f"127.0.0.1:{dns.port}")
    try:
        sequence.begin(workspace, Habits.load(standins / "people.npz"), now)
    finally:
        dns.close()
    with workspace.store.atomic() as db:
        sender_table.look_again(db)  # when the demo starts


def prepare(people: int = PEOPLE, say: Say = _quietly) -> Path:
    """The workspace made once and kept as one compressed file, so that a demo starts by unpacking it."""
    kept = PREPARED / f"{people}.tar.gz"
    if not kept.exists():
        PREPARED.mkdir(parents=True, exist_ok=True)
        with tempfile.TemporaryDirectory(dir=PREPARED) as made:
            folder = Path(made) / "workspace"
            build(folder, people, say=say)
            with sqlite3.connect(folder / "meadow.db") as db:
                db.execute("PRAGMA wal_checkpoint(TRUNCATE)")
            db.close()
            fresh = Path(made) / "workspace.tar.gz"
            with tarfile.open(fresh, "w:gz", compresslevel=6) as archive:
                for path in sorted(folder.iterdir()):
                    if not path.name.startswith(MADE_ANEW):
                        archive.add(path, path.name)
            fresh.replace(kept)  # whole, or not there
    return kept


def unpack(folder: Path, people: int = PEOPLE, say: Say = _quietly) -> None:
    """The prepared workspace in place of a folder: whole, or not there."""
    fresh = folder.with_name(f"{folder.name}.new")
    shutil.rmtree(fresh, ignore_errors=True)
    with tarfile.open(prepare(people, say)) as archive:
        archive.extractall(fresh, filter="data")
    shutil.rmtree(folder, ignore_errors=True)
    fresh.rename(folder)
