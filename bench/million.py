"""A campaign to 1,000,000 people: drawing its plan, the memory of planning and of sending; a sequence with all of
them inside.
``python -m bench.million [people]``. The measured parts run in processes of their own."""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from pathlib import Path

from bench.throughput import TAKES_ALL, begin, until_it_listens
from openmeadow.core.moments import DAY
from openmeadow.core.sequences.definition import Definition, Step
from openmeadow.demo import ports
from openmeadow.demo.mail_world.dns_server import DnsServer
from openmeadow.net.signed_tokens import Tokens
from openmeadow.services.campaigns import campaigns, dispatcher, schedule
from openmeadow.services.campaigns.composing import Composers
from openmeadow.services.sequences import editing, runner
from openmeadow.services.subscribers import import_subscribers
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.campaigns import batches as batch_table
from openmeadow.store.campaigns import campaigns as campaign_table
from openmeadow.store.sequences import enrolments, sequences
from tests.conftest import NOW
from tests.services.mailing import mailing, ready_campaign

PLAN = {"pilot_share": 0.05, "batches": 24, "interval": 3600, "resend": True, "order": "most engaged first"}
SENT = 3000


def workspace_of(folder: Path, people: int, relay: int) -> DnsServer:
    """Everyone may be mailed for one purpose, by a sender whose records pass; one campaign to all of them."""
    folder.mkdir()
    (folder / "clock").write_text(str(NOW))
    with mailing(folder, 10):
        pass
    dns = DnsServer(folder / "zones")
    workspace = Workspace(folder)
    with workspace.store.atomic() as db:
        settings.set_setting(db, "relay_port", relay)
        settings.set_setting(db, "resolver", f"127.0.0.1:{dns.port}")
    file = folder / "people.csv"
    with file.open("w") as f:
        f.write("email,name,joined_at,list,consent:News,consent_source:News\n")
        f.writelines(f"m{i}@d{i % 997}.example,M {i},2025-03-01,Foyer,given,Foyer\n" for i in range(people))
    import_subscribers.run(workspace.store, file, NOW, "bench")
    file.unlink()
    id = ready_campaign(workspace, "To a million")
    campaigns.write(workspace, id, {"plan": PLAN})
    workspace.close()
    return dns


def plan_it(folder: Path) -> None:
    workspace = Workspace(folder)
    id = max(r.id for r in campaign_table.every(workspace.store.read()))
    workspace.view()
    begun = time.perf_counter()
    drawn = schedule.preview_plan(workspace, campaigns.row_of(workspace, id))
    drawing = time.perf_counter() - begun
    begun = time.perf_counter()
    campaigns.start(workspace, id, "bench")
    starting = time.perf_counter() - begun
    people = sum(b.people for b in batch_table.batches(workspace.store.read(), id))
    assert drawn
    print(f"  the plan drawn: {drawing:.1f} s; started, {people:,} rows written: {starting:.1f} s", flush=True)
    peak()


def submit(folder: Path) -> None:
    workspace = Workspace(folder)
    id = max(r.id for r in campaign_table.every(workspace.store.read()))
    batch = batch_table.batches(workspace.store.read(), id)[0]
    workspace.clock.set(batch.due_at)  # type: ignore[attr-defined]
    composers, begun, done = Composers(), time.perf_counter(), 0
    for n in dispatcher.turns(workspace, Tokens(folder), batch.id, dispatcher.Together(workspace, composers)):
        done += n
        if done >= SENT:
            break
    composers.close()
    print(f"  {done:,} sent of it: {done / (time.perf_counter() - begun):,.0f} a second", flush=True)
    peak()


INSIDE_DUE = 200


def inside(folder: Path) -> None:
    """A million inside a sequence, some of them due: what a tick costs when nobody and when some are due."""
    workspace = Workspace(folder)
    with workspace.store.atomic() as db:
        address = db.execute("SELECT id FROM from_addresses").fetchone()["id"]
        purpose = db.execute("SELECT id FROM purposes").fetchone()["id"]
    definition = Definition(
        (Step(1, "wait", wait=30 * DAY), Step(2, "label", name="waited"), Step(3, "wait", wait=DAY), Step(4, "message"))
    )
    id = editing.add(workspace, "A million", "bench", definition)
    editing.write(workspace, id, {"purpose": purpose, "from_address": address}, "bench")
    campaigns.write(workspace, sequences.mails(workspace.store.read(), id)[4].id, {"subject": "S", "html": "<p>x</p>"})
    editing.start(workspace, id, "bench")
    ids = workspace.view().columns.people.id.tolist()
    now = workspace.now()
    with workspace.store.atomic() as db:
        enrolments.begin(db, ((id, s, 1, 0, 1, now) for s in ids))
        db.execute("UPDATE enrolments SET step = 1, due_at = ? + id % 2000000 WHERE sequence = ?", (now + 40 * DAY, id))
        db.execute(
            f"UPDATE enrolments SET due_at = ? WHERE id IN (SELECT id FROM enrolments ORDER BY id LIMIT {INSIDE_DUE})",
            (now,),
        )
    begun = time.perf_counter()
    found = enrolments.due(workspace.store.read(), id, now, 500)
    looking = time.perf_counter() - begun
    begun = time.perf_counter()
    moved = runner.tick(workspace)
    busy = time.perf_counter() - begun
    begun = time.perf_counter()
    runner.tick(workspace)
    idle = time.perf_counter() - begun
    print(
        f"  {len(ids):,} inside a sequence: the {len(found)} due found in {1000 * looking:.1f} ms; a tick that moves "
        f"{moved}: {1000 * busy:.0f} ms; a tick with nobody due: {1000 * idle:.1f} ms",
        flush=True,
    )
    peak()


def peak() -> None:
    """Of this program alone: getrusage's figure begins with that of the process it was started from."""
    high = next(x for x in Path("/proc/self/status").read_text().splitlines() if x.startswith("VmHWM"))
    print(f"  peak memory of the process: {int(high.split()[1]) / 1024:,.0f} MB", flush=True)


def main(people: int = 1_000_000) -> None:
    print(f"\nA campaign to {people:,} people")
    port = ports.free_port()
    relay = begin("-c", TAKES_ALL, str(port))
    until_it_listens(port)
    with tempfile.TemporaryDirectory() as name:
        dns = workspace_of(Path(name) / "data", people, port)
        for part in ("plan_it", "submit", "inside"):
            subprocess.run([sys.executable, "-m", "bench.million", part, f"{name}/data"], check=True)
        dns.close()
    relay.kill()
    relay.wait()


if __name__ == "__main__":
    if sys.argv[1:2] and not sys.argv[1].isdigit():
        {"plan_it": plan_it, "submit": submit, "active": inside}[sys.argv[1]](Path(sys.argv[2]))
    else:
        main(*map(int, sys.argv[1:]))
