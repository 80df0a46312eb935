"""A workspace of 1,000,000 people made through the importer, kept between runs: what the benchmarks of screens, arrival
and locks are measured on."""

from __future__ import annotations

import datetime
import os
import subprocess
import sys
import time
from pathlib import Path

import numpy as np

from bench.world import NOW, make
from openmeadow.core.arrays import FAR
from openmeadow.core.events import Kind
from openmeadow.core.ids import PurposeId
from openmeadow.services.campaigns import campaigns, external_sending
from openmeadow.services.models import CampaignChanges
from openmeadow.services.segments import segments
from openmeadow.services.workspace import Workspace
from openmeadow.store.engagement import events
from openmeadow.store.segments import segments as segment_table
from openmeadow.store.subscribers import subscribers

PROVIDERS = (("postern.example", 0.38), ("lanternmail.example", 0.27), ("brinebox.example", 0.12))
ZONES = ("Europe/Lisbon", "Europe/Copenhagen", "Europe/Athens", "")
LISTS = ("Website", "Foyer", "Autumn fair")
AGENTS = [f"Mail reader {n // 4}.{n % 4}" for n in range(40)]
FOLDER = Path(os.environ.get("MEADOW_BENCH", Path.home() / ".cache" / "meadow-bench"))


def address_of(i: int, domain: str) -> str:
    return f"p{i}@{domain}"


def domains_of(people: int) -> list[str]:
    r = np.random.default_rng(3)
    names = [name for name, _ in PROVIDERS] + [f"d{i}.example" for i in range(997)]
    left = 1 - sum(share for _, share in PROVIDERS)
    chance = [share for _, share in PROVIDERS] + [left / 997] * 997
    return [names[i] for i in r.choice(len(names), people, p=chance).tolist()]


def _moment(at: int) -> str:
    return datetime.datetime.fromtimestamp(at, datetime.UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


def write_files(folder: Path, people: int, deliveries: int, end: int) -> list[Path]:
    """subscribers.csv and events.csv of the made-up world, moved so that its present is ``end``."""
    c, shift = make(people, deliveries), end - NOW
    domains = domains_of(people)
    r = np.random.default_rng(5)
    list_of, zone_of = r.integers(0, 3, people).tolist(), r.integers(0, 4, people).tolist()
    said = r.choice(3, people, p=(0.88, 0.05, 0.07)).tolist()
    out = [folder / "subscribers.csv", folder / "events.csv"]
    with out[0].open("w", encoding="utf-8") as f:
        f.write(
            "email,name,joined_at,list,time_zone,consent:Season news,consent_at:Season news,consent_source:Season news\n"
        )
        for i, at in enumerate((c.people.joined_at + shift).tolist()):
            when, state = _moment(at), ("given", "withdrawn", "none")[said[i]]
            f.write(
                f"{address_of(i, domains[i])},Person {i},{when},{LISTS[list_of[i]]},{ZONES[zone_of[i]]},{state},{when},"
                f"{LISTS[list_of[i]]} form\n"
            )
    rows = c.rows
    agent = r.integers(0, len(AGENTS), people).tolist()
    with out[1].open("w", encoding="utf-8") as f:
        f.write("at,event,email,message,agent,ip,code\n")

        def put(at: np.ndarray, person: np.ndarray, message: np.ndarray, word: str, tail: str, *, opened: bool) -> None:
            for t, p, m in zip((at + shift).tolist(), person.tolist(), message.tolist(), strict=True):
                end_of = f"{AGENTS[agent[p]]},198.51.{p % 50}.{p % 250}," if opened else tail
                f.write(f"{_moment(t)},{word},{address_of(p, domains[p])},Letter {m},{end_of}\n")

        put(rows.first_at, rows.person, rows.message, "sent", ",,", opened=False)
        failed = rows.failed_at < FAR
        put(rows.failed_at[failed], rows.person[failed], rows.message[failed], "bounced", ",,4.2.2", opened=False)
        for kind, word in ((Kind.OPENED, "opened"), (Kind.CLICKED, "clicked")):
            a = c.acts
            mine = (a.kind == kind) & (a.by == 0)
            put(a.at[mine], a.person[mine], a.message[mine], word, "", opened=True)
        machine = (c.acts.kind == Kind.OPENED) & (c.acts.by == 1)
        put(
            c.acts.at[machine],
            c.acts.person[machine],
            c.acts.message[machine],
            "opened",
            "prefetch,192.0.2.7,",
            opened=False,
        )
    return out


def write_campaigns(folder: Path) -> None:
    """A campaign to everybody who is permitted, of which all is sent and a third was opened, and a draft to the same."""
    w = Workspace(folder)
    db = w.store.read()
    purpose = PurposeId(subscribers.names(db, "purposes")[0].id)
    segments.save(w, "Permitted", 'permitted for "Season news"', "bench")
    segment = segment_table.named(db, "Permitted")
    assert segment is not None
    ids = []
    for name in ("Large letter", "Draft letter"):
        ids.append(campaigns.add(w, name, "bench"))
        texts: CampaignChanges = {"purpose": purpose, "subject": "Evenings by the water", "html": "<p>Hello</p>"}
        plan = {"batches": 24, "pilot_share": 0.05, "resend": False}
        campaigns.write(w, ids[-1], {**texts, "segments_in": [segment.id], "plan": plan})
    external_sending.start(w, ids[0], "bench")
    now, message = w.now(), campaigns.row_of(w, ids[0]).message or 0
    with w.store.atomic() as out:
        mine = "SELECT id FROM sends WHERE campaign = ?"
        out.execute(f"UPDATE deliveries SET state = 'sent', changed_at = ? WHERE send IN ({mine})", (now - 3600, ids[0]))
        out.execute("UPDATE campaigns SET state = 'sending', external = 0 WHERE id = ?", (ids[0],))
        people = [r[0] for r in out.execute(f"SELECT subscriber FROM deliveries WHERE send IN ({mine})", (ids[0],))]
        for at, kind, some in ((now - 3600, Kind.SENT, people), (now - 1800, Kind.OPENED, people[::3])):
            events.add(out, ((at, kind, i, message, 0, int(kind == Kind.OPENED), 0.0, None, None, None) for i in some))
    w.view()  # the columns with it, mirrored
    w.close()


def meadow(folder: Path, *command: str) -> None:
    subprocess.run([sys.executable, "-m", "openmeadow", "--data", str(folder), *command], check=True)


def workspace(people: int = 1_000_000, deliveries: int = 14_000_000) -> Path:
    """The kept workspace; made where there is none, which takes about ten minutes. Its clock is the real one, its history
    ends on the day it was made."""
    folder = FOLDER / f"{people}-{deliveries}"
    if (folder / "ready").exists():
        return folder
    folder.mkdir(parents=True, exist_ok=True)
    end = int(time.time())
    files = write_files(folder, people, deliveries, end)
    meadow(folder, "init")
    for kind, path in zip(("subscribers", "events"), files, strict=True):
        begun = time.perf_counter()
        meadow(folder, "import", kind, str(path))
        print(f"  {kind} imported in {time.perf_counter() - begun:,.0f} s")
        path.unlink()
    begun = time.perf_counter()
    write_campaigns(folder)
    print(f"  a campaign to everybody permitted written and sent in {time.perf_counter() - begun:,.0f} s")
    (folder / "ready").write_text(f"{end}\n")
    return folder


if __name__ == "__main__":
    print(workspace(*(int(n.replace("_", "")) for n in sys.argv[1:])))
