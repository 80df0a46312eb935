"""How long others wait to write while long work goes on at 1,000,000 people: ``python -m bench.locks``. Another process
writes a line every 25 ms, as an unsubscribe would; what each act did is undone, which is measured too."""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from bench import large
from openmeadow.core.consent.sunset import SPARED
from openmeadow.core.moments import DAY
from openmeadow.core.sequences.definition import Definition, Step
from openmeadow.services.campaigns import campaigns, first_send
from openmeadow.services.models import CampaignChanges
from openmeadow.services.segments import segments
from openmeadow.services.sequences import editing, runner
from openmeadow.services.subscribers import bulk_actions, import_events, import_subscribers, undo
from openmeadow.services.subscribers.selection import Choice
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.connection import Store
from openmeadow.store.segments import segments as segment_table
from openmeadow.store.sequences import sequences

EVERY = 0.025


def probe(folder: Path) -> None:
    """Until standard input ends: how long each small write waited, as JSON."""
    store, waits = Store(folder), []
    sys.stdout.write("ready\n")
    sys.stdout.flush()
    while not Path(sys.argv[3]).exists():
        begun = time.perf_counter()
        with store.atomic() as db:
            waits.append(time.perf_counter() - begun)
            settings.set_setting(db, "bench_probe", len(waits))
        time.sleep(EVERY)
    print(json.dumps(sorted(waits)))


@contextmanager
def watched(folder: Path, title: str) -> Iterator[None]:
    with tempfile.TemporaryDirectory() as name:
        ends = Path(name) / "ends"
        process = subprocess.Popen(
            [sys.executable, "-m", "bench.locks", "probe", str(folder), str(ends)], stdout=subprocess.PIPE, text=True
        )
        assert process.stdout is not None
        process.stdout.readline()
        time.sleep(0.2)
        begun = time.perf_counter()
        try:
            yield
        finally:
            took = time.perf_counter() - begun
            ends.touch()
        waits = json.loads(process.stdout.read())
        process.wait()
    p99 = waits[int(len(waits) * 0.99)]
    print(
        f"  {title:<52} {took:6.1f} s; {len(waits):5} writes waited at most {1000 * waits[-1]:5.0f} ms, "
        f"99 of 100 within {1000 * p99:4.0f} ms",
        flush=True,
    )


def acts(workspace: Workspace, folder: Path) -> None:
    everybody = Choice('permitted for "Season news"', also=SPARED)

    def both(title: str, do: Callable[[], int]) -> None:
        with watched(workspace.folder, title):
            action = do()
        with watched(workspace.folder, f"… undone: {title}"):
            undo.undo(workspace, action, "bench")

    both("a label for everybody permitted", lambda: bulk_actions.do(workspace, "label", "Bench", everybody, "bench")[0])
    both("everybody permitted suppressed", lambda: bulk_actions.do(workspace, "suppress", "bench", everybody, "bench")[0])
    people, events, now = folder / "p.csv", folder / "e.csv", workspace.now()
    with people.open("w") as f:
        f.write("email,name,joined_at,list,consent:Season news,consent_source:Season news\n")
        f.writelines(f"new{i}@d{i % 997}.example,P {i},2025-01-01,Foyer,given,Foyer form\n" for i in range(100_000))
    with events.open("w") as f:
        f.write("at,event,email,message,agent,ip,code\n")
        domains, at = large.domains_of(1_000_000), large._moment(now - 3600)
        f.writelines(f"{at},sent,{large.address_of(i, domains[i])},Bench letter,,,\n" for i in range(300_000))
    both("100,000 new people imported", lambda: import_subscribers.run(workspace.store, people, now, "bench").action or 0)
    both("300,000 events imported", lambda: import_events.run(workspace.store, events, now, "bench").action or 0)


def a_start(workspace: Workspace) -> None:
    if segment_table.named(workspace.store.read(), "Permitted") is None:
        segments.save(workspace, "Permitted", 'permitted for "Season news"', "bench")
    segment = segment_table.named(workspace.store.read(), "Permitted")
    assert segment is not None
    id = campaigns.add(workspace, f"Bench {time.time():.0f}", "bench")
    texts: CampaignChanges = {"purpose": 1, "subject": "Evenings by the water", "html": "<p>Hello</p>"}  # type: ignore[typeddict-item]
    plan = {"batches": 24, "pilot_share": 0.05, "resend": False, "start": workspace.now() + 90_000}
    campaigns.write(workspace, id, {**texts, "segments_in": [segment.id], "plan": plan})
    with watched(workspace.folder, "a campaign to everybody permitted started"):
        campaigns.start(workspace, id, "bench", external=True)  # it has no sender
    with watched(workspace.folder, "… stopped"):
        campaigns.stop(workspace, id, "bench")
    first_send.clear(workspace, id)


def a_sequence(workspace: Workspace, people: int = 300_000) -> None:
    id = editing.add(workspace, f"Bench {time.time():.0f}", "bench", Definition((Step(1, "wait", wait=DAY),)))
    who = workspace.view().columns.people.id[:people].tolist()
    with workspace.store.atomic() as db:
        sequences.update(db, id, {"state": "running"})  # it has no sender
    with watched(workspace.folder, f"{people:,} people put into a sequence"):
        editing.add_people(workspace, id, who, "bench")
    with watched(workspace.folder, "… who enter it"):
        runner.tick(workspace)
    with watched(workspace.folder, "… and leave, as it ends"):
        editing.end(workspace, id, "bench")
    with workspace.store.atomic() as db:  # the workspace is kept for the next time
        db.execute("DELETE FROM enrolments WHERE sequence = ?", (id,))


def main(people: int = 1_000_000, deliveries: int = 14_000_000) -> None:
    print(f"\nLong work at {people:,} people, and how long others wait to write")
    workspace = Workspace(large.workspace(people, deliveries))
    with tempfile.TemporaryDirectory() as name:
        acts(workspace, Path(name))
    a_start(workspace)
    a_sequence(workspace)
    workspace.close()


if __name__ == "__main__":
    probe(Path(sys.argv[2])) if sys.argv[1:2] == ["probe"] else main()
