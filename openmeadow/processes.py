"""The commands that start processes: serve, worker, stand-ins, demo."""

from __future__ import annotations

import logging
import os
import sys
import webbrowser
from pathlib import Path
from typing import TYPE_CHECKING

import click
import structlog

from openmeadow.cli import MeadowCommand, data_folder
from openmeadow.core.errors import Damaged, Missing

if TYPE_CHECKING:
    from openmeadow.desk.desk import Desk


def _log_lines() -> None:
    structlog.configure(
        processors=[
            structlog.processors.add_log_level,
            structlog.processors.TimeStamper(fmt="iso"),
            structlog.processors.format_exc_info,
            structlog.processors.JSONRenderer(),
        ],
        logger_factory=structlog.PrintLoggerFactory(file=sys.stderr),
    )
    logging.basicConfig(level=logging.WARNING, stream=sys.stderr)


def _whole(folder: Path) -> Desk:
    """The workspace, after a look whether there is one and its database is whole."""
    from openmeadow.desk.desk import Desk
    from openmeadow.store.database import FILE

    if not (folder / FILE).is_file():
        raise Missing(f"{folder} cannot be opened: it holds no workspace. meadow init makes one there.")
    desk = Desk(folder)
    if wrong := desk.store.damage():
        raise Damaged(f"The database at {folder} is damaged: {wrong}. Restore a backup: meadow restore FILE.tar")
    return desk


@click.command(cls=MeadowCommand)
@click.option("--host", default="127.0.0.1", show_default=True)
@click.option("--port", default=8080, show_default=True)
@click.option("--with-parent", is_flag=True, hidden=True)
def serve(host: str, port: int, with_parent: bool) -> None:
    """Serve the application over HTTP."""
    from openmeadow.demo import die_with_parent
    from openmeadow.desk.watch import Watch
    from openmeadow.web.app import make_app
    from openmeadow.web.server import make_server

    _log_lines()
    if with_parent:
        die_with_parent()
    desk = _whole(data_folder())
    app = make_app(desk)
    try:
        server = make_server(app, desk, host, port)
    except OSError as e:
        raise Missing(f"{host} port {port} cannot be opened: {e.strerror or e}.") from e
    Watch(desk)
    if not with_parent:
        click.echo(f"Open Meadow at http://{host}:{port}")
    server.run()


@click.command(cls=MeadowCommand)
@click.option("--once", is_flag=True, help="Do all that is due now, then exit.")
@click.option("--world", default="", hidden=True)
@click.option("--with-parent", is_flag=True, hidden=True)
def worker(once: bool, world: str, with_parent: bool) -> None:
    """Send what is due, do jobs, check senders, take bounces in."""
    from openmeadow.demo import die_with_parent
    from openmeadow.worker import Worker

    _log_lines()
    if with_parent:
        die_with_parent()
    w = Worker(_whole(data_folder()), world)
    if once:
        while w.tick():
            pass
    else:
        w.run()


@click.command(cls=MeadowCommand, hidden=True)
@click.option("--relay", type=int, required=True)
@click.option("--dns", type=int, required=True)
@click.option("--http", type=int, required=True)
@click.option("--intake", type=int, required=True)
def standins(relay: int, dns: int, http: int, intake: int) -> None:
    """The DNS server and the mail world, on loopback."""
    from openmeadow.demo import die_with_parent, run_standins

    die_with_parent()
    run_standins(data_folder(), relay, dns, http, intake)


@click.command(cls=MeadowCommand)
@click.option("--port", default=8080, show_default=True)
@click.option("--fresh", is_flag=True, help="Forget what was done in the demo and begin again.")
@click.option("--people", default=24_000, show_default=True)
@click.option("--no-browser", is_flag=True)
@click.option("--prepare", is_flag=True, hidden=True)
def demo(port: int, fresh: bool, people: int, no_browser: bool, prepare: bool) -> None:
    """Everything, with demo data and stand-ins."""
    from openmeadow import demo as the_demo

    if prepare:
        the_demo.prepare(people)
        return
    if not no_browser and os.environ.get("DISPLAY"):
        webbrowser.open(f"http://127.0.0.1:{port}")
    the_demo.demo(Path(data_folder()), port, fresh, people)


def register(main: click.Group) -> None:
    """Add the commands to ``meadow``."""
    for command in (serve, worker, standins, demo):
        main.add_command(command)
