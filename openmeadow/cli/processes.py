"""The commands that start processes: serve, worker, stand-ins, demo."""

from __future__ import annotations

import logging
import os
import signal
import sys
import threading
import time
import webbrowser
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

import click
import structlog

from openmeadow.cli.options import MeadowCommand, data_folder
from openmeadow.core.errors import CannotOpen, Damaged

SWITCH = 0.001  # seconds that a thread computes while others of the server wait: an open is not answered after a view


LEVELS = ("debug", "info", "warning", "error")
_level = click.option("--log-level", type=click.Choice(LEVELS), default="info", show_default=True)


def _log_lines(level: str) -> None:
    """Lines of JSON on standard error, from a level on; each with the request or the job that it belongs to."""
    structlog.configure(
        wrapper_class=structlog.make_filtering_bound_logger(level),
        processors=[
            structlog.contextvars.merge_contextvars,
            structlog.processors.add_log_level,
            structlog.processors.TimeStamper(fmt="iso"),
            structlog.processors.format_exc_info,
            structlog.processors.JSONRenderer(),
        ],
        logger_factory=structlog.PrintLoggerFactory(file=sys.stderr),
    )
    logging.basicConfig(level=logging.WARNING, stream=sys.stderr)


CALM, LONGEST_PUT_OFF, LOOKS_EVERY = 5.0, 120.0, 0.25  # seconds without a request before that look begins
LAST = 19  # the priority of a thread that nobody waits for
LARGE = 200_000_000  # bytes of a database from which on a look at all of it takes seconds


class _Whole:
    """The workspace, after a look whether there is one and its database is whole; a large one is looked at beside the work
    that begins meanwhile."""

    def __init__(self, folder: Path) -> None:
        from openmeadow.services.workspace import Workspace
        from openmeadow.store.connection import FILE

        if not (folder / FILE).is_file():
            raise CannotOpen(f"{folder} cannot be opened: it is not a workspace. Create one with meadow init.")
        self.workspace = Workspace(folder)
        self._is_large, self._wrong = (folder / FILE).stat().st_size >= LARGE, ""
        if not self._is_large:
            self._look()
            self.end()

    def _look(self) -> None:
        self._wrong = self.workspace.store.damage()

    def begin(self, stop: Callable[[], None], is_busy: Callable[[], bool] = lambda: False) -> None:
        """What is still to be looked at, by a thread that stops the work where the database is damaged: once the first
        rush is over."""

        def go() -> None:
            calm, end = 0.0, time.monotonic() + LONGEST_PUT_OFF
            while calm < CALM and time.monotonic() < end:
                time.sleep(LOOKS_EVERY)
                calm = 0.0 if is_busy() else calm + LOOKS_EVERY
            # Linux gives each thread a priority of its own: who waits for a page has the processor first
            with suppress(AttributeError, OSError):
                os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), LAST)
            self._look()
            if self._wrong:
                stop()

        if self._is_large:
            threading.Thread(target=go, name="is it whole", daemon=True).start()

    def end(self) -> None:
        """Damaged, with what is wrong, where that was found."""
        if self._wrong:
            raise Damaged(
                f"The database at {self.workspace.folder} is damaged: {self._wrong}. Restore a backup: meadow restore FILE.tar"
            )


def _die_with_parent() -> None:
    """Leave when the starting process is gone: its end of our standard input closes."""

    def watch() -> None:
        while os.read(0, 1):
            pass
        os._exit(0)

    threading.Thread(target=watch, daemon=True).start()


def _when_told(stop: Callable[[], None]) -> None:
    """What is done when the process is asked to end, by the system or by Ctrl-C; asked twice, it ends at once."""

    def told(number: int, _: object) -> None:
        signal.signal(number, signal.SIG_DFL)
        stop()

    for number in (signal.SIGTERM, signal.SIGINT):
        signal.signal(number, told)


@click.command(cls=MeadowCommand)
@click.option("--host", default="127.0.0.1", show_default=True)
@click.option("--port", default=8080, show_default=True)
@click.option("--access-log", is_flag=True, help="A line for every request: its route, never what an address holds.")
@_level
@click.option("--with-parent", is_flag=True, hidden=True)
def serve(host: str, port: int, access_log: bool, log_level: str, with_parent: bool) -> None:
    """Serve the application over HTTP."""
    from openmeadow.services.today.process_watch import Watch
    from openmeadow.web.app import make_app
    from openmeadow.web.server import make_server

    _log_lines(log_level)
    if with_parent:
        _die_with_parent()
    whole = _Whole(data_folder())
    open_workspace = whole.workspace
    app = make_app(open_workspace)
    app.config["ACCESS_LOG"] = access_log
    try:
        server = make_server(app, open_workspace, host, port)
    except OSError as e:
        raise CannotOpen(f"{host} port {port} cannot be opened: {e.strerror or e}.") from e
    Watch(open_workspace)
    _when_told(server.stop)
    sys.setswitchinterval(SWITCH)
    if not with_parent:
        click.echo(f"Open Meadow at http://{host}:{port}")
    whole.begin(server.stop, lambda: server.is_busy)
    server.run()
    whole.end()


@click.command(cls=MeadowCommand)
@click.option("--once", is_flag=True, help="Do everything that is due now, then exit.")
@click.option("--world", default="", hidden=True)
@_level
@click.option("--with-parent", is_flag=True, hidden=True)
def worker(once: bool, world: str, log_level: str, with_parent: bool) -> None:
    """Send what is due, run jobs, check senders, receive bounces."""
    from openmeadow.worker.loop import Worker

    _log_lines(log_level)
    if with_parent:
        _die_with_parent()
    whole = _Whole(data_folder())
    open_workspace = whole.workspace
    w = Worker(open_workspace, world)
    _when_told(open_workspace.stopping.set)
    whole.begin(open_workspace.stopping.set)
    if once:
        while w.tick() and not open_workspace.stopping.is_set():
            pass
    else:
        w.run()
    whole.end()


@click.command(cls=MeadowCommand, hidden=True)
@click.option("--relay", type=int, required=True)
@click.option("--dns", type=int, required=True)
@click.option("--http", type=int, required=True)
@click.option("--intake", type=int, required=True)
def standins(relay: int, dns: int, http: int, intake: int) -> None:
    """The DNS server and the mail world, on loopback."""
    from openmeadow.demo.mail_world.run import run_standins

    _die_with_parent()
    run_standins(data_folder(), relay, dns, http, intake)


@click.command(cls=MeadowCommand)
@click.option("--port", default=8080, show_default=True)
@click.option("--fresh", is_flag=True, help="Reset the demo.")
@click.option("--people", default=24_000, show_default=True)
@click.option("--no-browser", is_flag=True)
@click.option("--prepare", is_flag=True, hidden=True)
def demo(port: int, fresh: bool, people: int, no_browser: bool, prepare: bool) -> None:
    """Start the demo with its data and simulated mail servers."""
    from openmeadow.demo import build, run

    if prepare:
        build.prepare(people, click.echo)
        return
    if not no_browser and os.environ.get("DISPLAY"):
        webbrowser.open(f"http://127.0.0.1:{port}")
    run.demo(Path(data_folder()), port, fresh, people)


COMMANDS = (serve, worker, standins, demo)
