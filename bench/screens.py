"""Every main page's data at 1,000,000 people over HTTP: cold and warm, with the server's CPU and memory beside it."""

from __future__ import annotations

import contextlib
import http.cookiejar
import json
import os
import socket
import subprocess
import sys
import time
import urllib.request
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from bench import large
from openmeadow.core.events import Kind
from openmeadow.services.subscribers import undo
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.engagement import events

PASSWORD = "evenings by the water"
TICK = os.sysconf("SC_CLK_TCK")


@dataclass
class Taken:
    """One request: seconds on the clock, seconds of the server's CPU, kilobytes of the answer."""

    wall: float
    cpu: float
    kb: float


class Served:
    """``meadow serve`` of a workspace, signed in."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        with socket.socket() as s:
            s.bind(("127.0.0.1", 0))
            self.port = s.getsockname()[1]
        env = os.environ | {"PYTHONUNBUFFERED": "1"}
        self.process = subprocess.Popen(
            [sys.executable, "-m", "openmeadow", "--data", str(folder), "serve", "--port", str(self.port)],
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            env=env,
        )
        self.opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(http.cookiejar.CookieJar()))
        self.csrf = ""
        for _ in range(600):
            with contextlib.suppress(OSError):
                self.ask("POST", "/sign-in", {"name": "bench", "password": PASSWORD})
                break
            time.sleep(0.1)
        self.csrf = self.ask("GET", "/me")["csrf"]

    def ask(self, method: str, path: str, body: object = None) -> Any:
        kind = "application/x-ndjson" if isinstance(body, str) else "application/json"
        data = None if method == "GET" else (body if isinstance(body, str) else json.dumps(body or {})).encode()
        headers = {"Content-Type": kind, "X-Meadow-CSRF": self.csrf}
        request = urllib.request.Request(f"http://127.0.0.1:{self.port}/api{path}", data, headers, method=method)
        with self.opener.open(request, timeout=600) as answer:
            self.size = int(answer.headers.get("Content-Length") or 0)
            return json.load(answer)

    def cpu(self) -> float:
        fields = Path(f"/proc/{self.process.pid}/stat").read_text().rpartition(")")[2].split()
        return (int(fields[11]) + int(fields[12])) / TICK

    def memory(self, what: str = "VmRSS") -> float:
        """Gigabytes; ``VmHWM`` is the peak."""
        lines = Path(f"/proc/{self.process.pid}/status").read_text().splitlines()
        return next(int(x.split()[1]) / 1e6 for x in lines if x.startswith(what))

    def timed(self, method: str, path: str, body: object = None) -> Taken:
        begun, before = time.perf_counter(), self.cpu()
        self.ask(method, path, body)
        return Taken(time.perf_counter() - begun, self.cpu() - before, self.size / 1000)

    def close(self) -> None:
        self.process.terminate()
        self.process.wait(30)


@contextlib.contextmanager
def served(folder: Path) -> Iterator[Served]:
    subprocess.run(
        [sys.executable, "-m", "openmeadow", "--data", str(folder), "user", "add", "bench", "--role", "analyst"],
        input=f"{PASSWORD}\n{PASSWORD}\n",
        text=True,
        capture_output=True,
        check=False,  # it may be there already
    )
    s = Served(folder)
    try:
        yield s
    finally:
        s.close()


PAGES = (
    "/today",
    "/status",
    "/subscribers/map",
    "/subscribers?sort=score",
    "/subscribers?sort=email",
    "/subscribers?text=p12345",
    "/subscribers/500000",
    "/segments",
    "/consent",
    "/subscribers/sources",
    "/sunset-policy?rough=true",
    "/suppressions",
    "/addresses",
    "/campaigns",
    "/campaigns/benchmarks",
    "/health",
    "/sequences",
    "/senders",
    "/campaigns/1/results",
    "/campaigns/1/breakdown",
    "/campaigns/1/guardrails",
    "/campaigns/2/schedule",
    "/campaigns/2/recipients",
    "/campaigns/2/checks",
)
RULE = "opened at least 4 in 120 days and joined more than 60 days ago"


def arrival(s: Served) -> None:
    """What a count costs after news of so many people."""
    s.timed("POST", "/segments/count", {"rule": RULE})
    for people in (1, 100, 100):
        first = 1000 + int(time.time()) % 500_000
        now = time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime())
        rows = [
            {
                "at": now,
                "event": "opened",
                "email": s.ask("GET", f"/subscribers/{first + i}")["email"],
                "message": "Letter 78",
            }
            for i in range(people)
        ]
        s.ask("POST", "/events", "\n".join(map(json.dumps, rows)) + "\n")
        t = s.timed("POST", "/segments/count", {"rule": RULE})
        print(f"  a count after {people} event{'s' if people > 1 else ''}: {t.wall:.3f} s ({t.cpu:.2f} CPU)")


def view_after_news(folder: Path) -> None:
    """What the view itself costs after events of 100 people, beside the count that is asked of it."""
    w = Workspace(folder)
    w.count(RULE)
    for _ in range(3):
        first, at = 1000 + int(time.time() * 7) % 500_000, w.now() - 5
        with w.store.atomic() as db:
            events.add(db, ((at, Kind.OPENED, first + i, 78, 0, 0, 0.0, None, None, None) for i in range(100)))
        begun = time.process_time()
        w.view()
        viewed = time.process_time()
        w.count(RULE)
        print(
            f"  a view after events of 100 people: {viewed - begun:.3f} s of CPU; a count in it: "
            f"{time.process_time() - viewed:.3f} s"
        )
    w.close()


def beside_an_import(s: Served, rows: int = 1_000_000) -> None:
    """Pages while a large event log is imported by another process and read beside the view that serves."""
    path, waits, end = s.folder / "bench.csv", list[float](), 0.0
    domains, at = large.domains_of(1_000_000), time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime(time.time() - 7200))
    with path.open("w") as f:
        f.write("at,event,email,message,agent,ip,code\n")
        f.writelines(f"{at},sent,{large.address_of(i, domains[i])},Bench letter,,,\n" for i in range(rows))
    s.timed("GET", "/subscribers/map")
    begun = time.perf_counter()
    importing = subprocess.Popen(
        [sys.executable, "-m", "openmeadow", "--data", str(s.folder), "import", "events", str(path)],
        stdout=subprocess.DEVNULL,
    )
    imported, was_behind = 0.0, False
    while time.perf_counter() - begun < 600:
        t = s.timed("GET", "/subscribers/map")
        waits.append(t.wall)
        behind = s.ask("GET", "/status")["catching_up"]
        was_behind |= behind
        if importing.poll() is not None:
            imported = imported or time.perf_counter() - begun
            if not behind:
                end = time.perf_counter() - begun
                break
        time.sleep(0.5)
    path.unlink()
    waits.sort()
    print(
        f"  {rows:,} events imported in {imported:.0f} s; the map beside it {len(waits)} times, half within "
        f"{waits[len(waits) // 2]:.2f} s, the slowest {waits[-1]:.2f} s; all read {end - imported:.0f} s after the import"
        f"{'' if was_behind else ' (never behind)'}; memory {s.memory():.2f} GB, at its peak {s.memory('VmHWM'):.2f} GB"
    )
    workspace = Workspace(s.folder)
    undo.undo(workspace, settings.activity(workspace.store.read(), 1)[0].id, "bench")
    workspace.close()


def main(people: int = 1_000_000, deliveries: int = 14_000_000) -> None:
    folder = large.workspace(people, deliveries)
    view_after_news(folder)
    with served(folder) as s:
        print(f"\nPages at {people:,} people (seconds, CPU seconds of the server, kB)")
        for path in PAGES:
            try:
                cold, warm = s.timed("GET", path), [s.timed("GET", path) for _ in range(2)]
            except OSError as e:
                print(f"  {path:<40} {e}")
                continue
            w = min(warm, key=lambda t: t.wall)
            print(
                f"  {path:<40} cold {cold.wall:6.2f} ({cold.cpu:6.2f})  warm {w.wall:6.2f} ({w.cpu:6.2f})  {w.kb:,.0f} kB"
            )
        arrival(s)
        beside_an_import(s)
        mapped = s.memory("RssFile")
        print(f"  memory {s.memory():.2f} GB, at its peak {s.memory('VmHWM'):.2f} GB; {mapped:.2f} GB are mapped files")


if __name__ == "__main__":
    main(*(int(n.replace("_", "")) for n in sys.argv[1:]))
