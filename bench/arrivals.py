"""A send, 500 opens and clicks a second and somebody browsing, together for a minute, beside the send alone:
``python -m bench.arrivals``."""

from __future__ import annotations

import asyncio
import contextlib
import json
import os
import statistics
import subprocess
import sys
import threading
import time
from pathlib import Path

from bench import large, screens, throughput
from openmeadow.demo import ports
from openmeadow.net.signed_tokens import Tokens
from openmeadow.services.segments import segments
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.campaigns import campaigns as campaign_table

RATE, SECONDS, CONNECTIONS = 500, 60, 40
MORE = 100_000  # people beside the demo's, so that the campaign lasts longer than the measuring
SEVERAL = 2_000  # deliveries that are opened in turn, so that none is twice within a second
PAGES = ("/today", "/subscribers/map", "/subscribers?sort=score", "/segments", "/campaigns/{}/results", "/health")


def import_more(folder: Path, people: int) -> None:
    """Made-up subscribers with consent, imported as anybody would."""
    path = folder / "more.csv"
    with path.open("w", encoding="utf-8") as f:
        f.write("email,joined_at,consent:Season news,consent_at:Season news,consent_source:Season news\n")
        at = "2026-01-05T09:00:00Z"
        for i, domain in enumerate(large.domains_of(people)):
            f.write(f"more{i}@{domain},{at},given,{at},Foyer form\n")
    large.meadow(folder, "import", "subscribers", str(path))
    path.unlink()


def sent(workspace: Workspace) -> int:
    row = workspace.store.read().execute("SELECT count(*) AS n FROM deliveries WHERE state = 'sent'").fetchone()
    return int(row["n"])


def rate(workspace: Workspace, seconds: float) -> float:
    """Messages a second that the worker sends meanwhile."""
    begun, before = time.monotonic(), sent(workspace)
    time.sleep(seconds)
    return (sent(workspace) - before) / (time.monotonic() - begun)


async def _opens(port: int, tokens: list[str], rate: int, seconds: int) -> tuple[list[float], int]:
    """Open so many a second over a few connections; seconds from when each was due to its answer, and failures."""
    due: asyncio.Queue[tuple[float, str] | None] = asyncio.Queue()
    took: list[float] = []
    failed = 0

    async def reader() -> None:
        nonlocal failed
        r, w = await asyncio.open_connection("127.0.0.1", port)
        while (asked := await due.get()) is not None:
            at, token = asked
            w.write(f"GET /o/{token} HTTP/1.1\r\nHost: bench\r\nUser-Agent: Reader {len(took) % 50}\r\n\r\n".encode())
            head = await r.readuntil(b"\r\n\r\n")
            length = next(int(x.split(b":")[1]) for x in head.lower().split(b"\r\n") if x.startswith(b"content-length"))
            await r.readexactly(length)
            failed += not head.startswith(b"HTTP/1.1 200")
            took.append(time.monotonic() - at)
        w.close()

    readers = [asyncio.create_task(reader()) for _ in range(CONNECTIONS)]
    begun = time.monotonic()
    for n in range(rate * seconds):
        at = begun + n / rate
        if (left := at - time.monotonic()) > 0:
            await asyncio.sleep(left)
        due.put_nowait((at, tokens[n % len(tokens)]))
    for _ in readers:
        due.put_nowait(None)
    await asyncio.gather(*readers)
    return took, failed


def opens() -> None:
    """In a process of its own: the port, the rate and the seconds as arguments, tokens by standard input."""
    port, rate, seconds = (int(n) for n in sys.argv[2:])
    took, failed = asyncio.run(_opens(port, json.load(sys.stdin), rate, seconds))
    print(json.dumps([sorted(took), failed]))


def browse(served: screens.Served, campaign: int, until: threading.Event) -> list[tuple[float, str]]:
    took = []
    while not until.is_set():
        for page in PAGES:
            t = served.timed("GET", page.format(campaign))
            took.append((t.wall, page))
            time.sleep(0.3)
    return took


def with_schedule_open(workspace: Workspace, served: screens.Served, campaign: int) -> float:
    """Messages a second while a tab shows the schedule of what is being sent: the status each second, the page every
    three."""
    ends = threading.Event()

    def tab() -> None:
        second = 0
        while not ends.wait(1.0):
            served.ask("GET", "/status")
            if second % 3 == 0:
                for part in ("", "/results", "/guardrails"):
                    served.ask("GET", f"/campaigns/{campaign}{part}")
            second += 1

    looking = threading.Thread(target=tab)
    looking.start()
    found = rate(workspace, 20)
    ends.set()
    looking.join()
    return found


def measured(folder: Path, workspace: Workspace, campaign: int, served: screens.Served) -> None:
    tokens = Tokens(folder)
    end = time.monotonic() + 60
    while sent(workspace) < SEVERAL:
        assert time.monotonic() < end, "nothing is sent"
        time.sleep(0.2)
    alone = [rate(workspace, 20)]
    watched = with_schedule_open(workspace, served, campaign)
    print(
        f"  sending with the schedule page open {watched:.0f} a second, {alone[0]:.0f} before: {watched / alone[0]:.2f} of it"
    )
    ids = workspace.store.read().execute("SELECT id FROM deliveries WHERE state = 'sent' LIMIT ?", (SEVERAL,)).fetchall()
    marks = [tokens.make("o", r["id"]) for r in ids]
    ends, found = threading.Event(), list[tuple[float, str]]()
    browsing = threading.Thread(target=lambda: found.extend(browse(served, campaign, ends)))
    before = workspace.store.read().execute("SELECT count(*) FROM events WHERE kind = 5").fetchone()[0]
    cpu = served.cpu()
    client = subprocess.Popen(
        [sys.executable, "-m", "bench.arrivals", "opens", str(served.port), str(RATE), str(SECONDS)],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        text=True,
    )
    assert client.stdin is not None
    client.stdin.write(json.dumps(marks))
    client.stdin.close()
    browsing.start()
    begun, at = time.monotonic(), sent(workspace)
    assert client.stdout is not None
    took, failed = json.loads(client.stdout.read())
    used = os.wait4(client.pid, 0)[2]  # by the readers themselves
    lasted = time.monotonic() - begun
    with_them = (sent(workspace) - at) / lasted
    ends.set()
    browsing.join()
    cpu = (served.cpu() - cpu) / (time.monotonic() - begun)
    readers = (used.ru_utime + used.ru_stime) / lasted
    cores = len(os.sched_getaffinity(0))
    end = time.monotonic() + 20  # all that was answered is in the database soon
    while any((folder / "arrivals").glob("*")) and time.monotonic() < end:
        time.sleep(0.1)
    after = workspace.store.read().execute("SELECT count(*) FROM events WHERE kind = 5").fetchone()[0]
    alone.append(rate(workspace, 20))
    waiting = workspace.store.read().execute("SELECT count(*) FROM deliveries WHERE state = 'queued'").fetchone()[0]
    assert waiting, "the campaign ended before the measuring did"
    mean = statistics.mean(alone)
    p50, p99 = (1000 * took[int(len(took) * q)] for q in (0.5, 0.99))
    print(f"  offered {RATE * SECONDS:,}, answered {len(took):,}, failed {failed}, recorded {after - before:,}")
    print(f"  answered within {p50:.0f} ms (half) and {p99:.0f} ms (99 of 100); the server used {cpu:.2f} of a core and")
    print(f"  those who open {readers:.2f}")
    print(
        f"  sending alone {mean:.0f} a second ({alone[0]:.0f} before, {alone[1]:.0f} after); with them {with_them:.0f}:",
        end="",
    )
    print(f" {with_them / mean:.2f} of it, {(cores - cpu - readers) / cores:.2f} of the processor being left to it")
    print(f"  browsing: {len(found)} pages, half within {statistics.median(w for w, _ in found):.2f} s")
    for page in PAGES:
        mine = sorted(wall for wall, p in found if p == page)
        print(
            f"    {page:<28} first {next(w for w, p in found if p == page):.2f} s, half within "
            f"{statistics.median(mine):.2f} s, the slowest {mine[-1]:.2f} s"
        )


def main() -> None:
    print(f"\nA send, {RATE} opens a second and somebody browsing for {SECONDS} s ({24_000 + MORE:,} people)")
    with throughput.workspace_with_relay(False) as (first, _), contextlib.ExitStack() as stack:
        folder = first.folder
        (folder / "clock").unlink()  # seconds must pass, or a second open in one is the same open
        import_more(folder, MORE)
        workspace = Workspace(folder)
        stack.callback(workspace.close)
        with workspace.store.atomic() as db:
            settings.set_setting(db, "intake_port", ports.free_port())
        segments.save(workspace, "For the bench", 'permitted for "Season news"', "bench")
        campaign = campaign_table.every(workspace.store.read())[0].id
        throughput.begun_campaign(workspace, 0)
        worker = throughput.begin("-m", "openmeadow", "--data", str(folder), "worker")
        stack.callback(worker.wait)
        stack.callback(worker.kill)
        with screens.served(folder) as served:
            measured(folder, workspace, campaign, served)


if __name__ == "__main__":
    opens() if sys.argv[1:2] == ["opens"] else main()
