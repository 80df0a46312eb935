"""Everything a demo needs, running: the stand-ins, the worker and the server."""

from __future__ import annotations

import os
import shutil
import signal
import socket
import subprocess
import sys
import time
import urllib.request
from pathlib import Path

import click

from openmeadow.demo.build import DEMO_PASSWORD, DEMO_USER, unpack
from openmeadow.demo.ports import free_port
from openmeadow.services import accounts
from openmeadow.services.clock import DemoClock
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings

PARTS = ("the mail world", "the worker", "the server")  # in the order in which they are started


STILL, SAID_EVERY = 120.0, 10.0  # seconds


def _answers(address: str) -> bool:
    try:
        with urllib.request.urlopen(address, timeout=5) as answer:
            answer.read()
        return True
    except OSError:
        return False


def _processor_time(pid: int | None) -> float:
    """Seconds a process has used; 0 where the system does not tell."""
    try:
        fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
        return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")
    except (OSError, ValueError, IndexError):
        return 0.0


class Demo:
    """All processes of a demo; ``stop`` leaves none behind."""

    def __init__(self, folder: Path, port: int) -> None:
        self.folder, self.port = folder, port
        ports = {name: free_port() for name in ("relay", "dns", "http", "intake")}
        self.world = f"http://127.0.0.1:{ports['http']}"
        self.url = f"http://127.0.0.1:{port}"
        workspace = Workspace(folder)
        with workspace.store.atomic() as db:
            for name, value in {
                "public_url": self.url,
                "relay_port": ports["relay"],
                "intake_port": ports["intake"],
                "mail_port": ports["relay"],
                "resolver": f"127.0.0.1:{ports['dns']}",
                "world_url": self.world,
                "web_gateway": self.world,
                "inside_hosts": ["127.0.0.1"],
                "seed_mailboxes": [
                    {"provider": p, "address": a, "listing": f"{self.world}/mailbox/{a}"}
                    for p, a in (
                        ("Lanternmail", "probe@lanternmail.example"),
                        ("Postern", "probe@postern.example"),
                        ("Brinebox", "probe@brinebox.example"),
                    )
                ],
            }.items():
                settings.set_setting(db, name, value)
        user = accounts.named(workspace, DEMO_USER)
        self.entry = f"{self.url}/enter/{accounts.new_link(workspace, user.id, 'sign in')}"
        workspace.close()
        self._children: list[subprocess.Popen[bytes]] = []
        at = [str(ports[name]) for name in ("relay", "dns", "http", "intake")]
        for arguments in (
            ["standins", "--relay", at[0], "--dns", at[1], "--http", at[2], "--intake", at[3]],
            ["worker", "--world", self.world, "--with-parent"],
            ["serve", "--port", str(port), "--with-parent"],
        ):
            self._children.append(self._begin(["--data", str(folder), *arguments]))

    def _begin(self, arguments: list[str]) -> subprocess.Popen[bytes]:
        # in a session of its own: a terminal's Ctrl-C reaches this process alone, which asks each to end, once
        return subprocess.Popen(
            [sys.executable, "-m", "openmeadow", *arguments], stdin=subprocess.PIPE, start_new_session=True
        )

    def wait_ready(self, still: float = STILL) -> None:
        """Until it answers. However slow the machine is, it is waited for as long as its processes do something; where
        one of them ends, or none has done anything for ``still`` seconds, all are ended and a sentence says why."""
        moved = told = time.monotonic()
        before: tuple[float, ...] = ()
        for address in (f"{self.url}/api/ready", f"{self.world}/next"):
            while not _answers(address):
                now, used = time.monotonic(), tuple(_processor_time(c.pid) for c in self._children)
                if used != before:
                    moved, before = now, used
                ended = [name for name, c in zip(PARTS, self._children, strict=False) if c.poll() is not None]
                if ended or now - moved > still:
                    self.stop()
                    why = f"{ended[0]} ended; its lines above say why" if ended else f"nothing moved for {still:g} s"
                    raise click.ClickException(f"The demo did not start: {why}.")
                if now - told > SAID_EVERY:
                    told = now
                    spent = ", ".join(f"{name} {t:.0f} s" for name, t in zip(PARTS, used, strict=False))
                    click.echo(f"Still starting (processor time so far: {spent})…", err=True)
                time.sleep(0.1)

    def stop(self) -> None:
        """Server and worker first, so that the relay still answers for the message under way."""
        world, *ours = self._children
        for together in (ours, [world]):
            for child in together:
                child.terminate()
            for child in together:
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
    with socket.socket() as s:
        if s.connect_ex(("127.0.0.1", port)) == 0:
            raise click.ClickException(f"Port {port} is taken; choose another with --port.")
    made = fresh or not (folder / "meadow.db").exists()
    if made:
        click.echo(f"Creating the demo with {people:,} subscribers (once; later starts are quick)…")
        unpack(folder, people, click.echo)
    elif not isinstance(Workspace(folder).clock, DemoClock):
        raise click.ClickException(f"{folder} is a workspace of yours. Choose another folder for the demo (--data).")
    click.echo("Starting the mail world, the worker and the server…")
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
    except click.ClickException:
        if made:
            shutil.rmtree(folder, ignore_errors=True)
        raise
    except KeyboardInterrupt:
        pass
    finally:
        running.stop()
