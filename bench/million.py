"""A campaign to 1,000,000 people: drawing its plan, and the memory of planning and of handing over.
``python -m bench.million [people]``. The measured parts run in processes of their own."""

from __future__ import annotations

import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from bench.throughput import TAKES_ALL, begin, until_it_listens
from openmeadow import demo
from openmeadow.desk import campaigns, planning, sending
from openmeadow.desk.bring_in import subscribers
from openmeadow.desk.desk import Desk
from openmeadow.standins.dns_server import DnsServer
from openmeadow.store import campaigns as ledger
from openmeadow.store import workspace
from openmeadow.wire.tokens import Tokens
from tests.conftest import NOW
from tests.desk.mailing import mailing, ready_campaign

PLAN = {"lead_share": 0.05, "batches": 24, "interval": 3600, "resend": True, "order": "most engaged first"}
HANDED = 3000


def workspace_of(folder: Path, people: int, relay: int) -> DnsServer:
    """Everybody permitted for one purpose, a sender that holds, one campaign to all of them."""
    folder.mkdir()
    (folder / "clock").write_text(str(NOW))
    with mailing(folder, 10):
        pass
    dns = DnsServer(folder / "zones")
    desk = Desk(folder)
    with desk.store.atomic() as db:
        workspace.set_setting(db, "relay_port", relay)
        workspace.set_setting(db, "resolver", f"127.0.0.1:{dns.port}")
    file = folder / "people.csv"
    with file.open("w") as f:
        f.write("email,name,joined_at,list,consent:News,consent_source:News\n")
        f.writelines(f"m{i}@d{i % 997}.example,M {i},2025-03-01,Foyer,given,Foyer\n" for i in range(people))
    subscribers.bring_in(desk.store, file, NOW, "bench")
    file.unlink()
    id = ready_campaign(desk, "To a million")
    campaigns.write(desk, id, {"plan": PLAN})
    desk.close()
    return dns


def plan_it(folder: Path) -> None:
    desk = Desk(folder)
    id = max(r["id"] for r in ledger.every(desk.store.read()))
    desk.view()
    begun = time.perf_counter()
    drawn = planning.preview_plan(desk, campaigns.row_of(desk, id))
    drawing = time.perf_counter() - begun
    begun = time.perf_counter()
    campaigns.start(desk, id, "bench")
    starting = time.perf_counter() - begun
    people = sum(b["people"] for b in ledger.batches(desk.store.read(), id))
    assert drawn
    print(f"  the plan drawn: {drawing:.1f} s; started, {people:,} rows written: {starting:.1f} s", flush=True)
    peak()


def hand_over(folder: Path) -> None:
    desk = Desk(folder)
    id = max(r["id"] for r in ledger.every(desk.store.read()))
    batch = ledger.batches(desk.store.read(), id)[0]
    desk.clock.set(batch["due_at"])  # type: ignore[attr-defined]
    begun, done = time.perf_counter(), 0
    for n in sending.turns(desk, Tokens(folder), batch["id"]):
        done += n
        if done >= HANDED:
            break
    print(f"  {done:,} handed over of it: {done / (time.perf_counter() - begun):,.0f} a second", flush=True)
    peak()


def peak() -> None:
    print(
        f"  peak memory of the process: {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024:,.0f} MB", flush=True
    )


def main(people: int = 1_000_000) -> None:
    print(f"\nA campaign to {people:,} people")
    port = demo.free_port()
    relay = begin("-c", TAKES_ALL, str(port))
    until_it_listens(port)
    with tempfile.TemporaryDirectory() as name:
        dns = workspace_of(Path(name) / "data", people, port)
        for part in ("plan_it", "hand_over"):
            subprocess.run([sys.executable, "-m", "bench.million", part, f"{name}/data"], check=True)
        dns.close()
    relay.kill()
    relay.wait()


if __name__ == "__main__":
    if sys.argv[1:2] and not sys.argv[1].isdigit():
        {"plan_it": plan_it, "hand_over": hand_over}[sys.argv[1]](Path(sys.argv[2]))
    else:
        main(*map(int, sys.argv[1:]))
