"""What every command shares: --data, --json, the open workspace, and errors as a sentence and an exit status.

Exit status: 0 done, 1 the work found errors, 2 wrong use, 3 cannot reach or open.
"""

from __future__ import annotations

import json
import os
import sqlite3
import sys
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any, NoReturn
from zoneinfo import ZoneInfo

import click

from openmeadow.core.errors import CannotOpen, MeadowError
from openmeadow.core.imports.dates import moment

if TYPE_CHECKING:
    from openmeadow.services.workspace import Workspace

DONE, FOUND_ERRORS, WRONG_USE, UNREACHABLE = 0, 1, 2, 3


def _remember_data(context: click.Context, _: click.Parameter, value: Path | None) -> None:
    if value is not None:
        context.find_root().meta["data"] = value


_DATA = click.Option(
    ["--data"],
    type=click.Path(path_type=Path),
    expose_value=False,
    is_eager=True,
    callback=_remember_data,
    help="The data folder (default ./data, or MEADOW_DATA).",
)


def end(e: MeadowError | sqlite3.DatabaseError, *, as_json: bool) -> NoReturn:
    """The sentence of an error, and its exit status."""
    sentence = str(e) if isinstance(e, MeadowError) else _damage(e)
    if as_json:
        click.echo(json.dumps({"error": sentence}, ensure_ascii=False))
    click.echo(sentence, err=True)
    sys.exit(UNREACHABLE if isinstance(e, CannotOpen) else FOUND_ERRORS)


class MeadowCommand(click.Command):
    """Every command takes --data, and turns an error of ours into its sentence and exit status."""

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.params.append(_DATA)

    def invoke(self, context: click.Context) -> object:
        """Run the command; a mistake ends it with a sentence and its exit code."""
        try:
            return super().invoke(context)
        except (MeadowError, sqlite3.DatabaseError) as e:
            end(e, as_json=bool(context.params.get("as_json")))


def _damage(e: sqlite3.DatabaseError) -> str:
    """An error of the database itself, as a sentence."""
    return f"The database at {data_folder()} cannot be read: {e}. meadow check workspace tells whether it is damaged."


class MeadowGroup(click.Group):
    command_class = MeadowCommand
    group_class = type

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.params.append(_DATA)


def data_folder() -> Path:
    """The data folder that was given, by option or environment."""
    return Path(click.get_current_context().find_root().meta.get("data") or os.environ.get("MEADOW_DATA") or "data")


def open_workspace(*, makes: bool = False) -> Workspace:
    """The workspace of this command, closed with it. A folder that holds none is refused; a command that ``makes`` one
    says so."""
    from openmeadow.services.workspace import Workspace
    from openmeadow.store.connection import FILE

    if not (data_folder() / FILE).exists():
        if not makes:
            raise CannotOpen(f"{data_folder()} cannot be opened: it is not a workspace. Create one with meadow init.")
        click.echo(f"There was no workspace at {data_folder()}; one was created.", err=True)
    opened = Workspace(data_folder())
    click.get_current_context().call_on_close(opened.close)
    return opened


def zone_of(d: Workspace) -> ZoneInfo:
    """The workspace's time zone."""
    return ZoneInfo(str(d.setting("time_zone")))


def as_moment(d: Workspace, text: str | None) -> int | None:
    """A moment as it was written, in the workspace's zone where it names none; None for none."""
    if text is None:
        return None
    try:
        return moment(text, zone_of(d))
    except ValueError:
        raise click.BadParameter(f"“{text}” is not a time; write it like 2026-03-12T14:10:00+00:00.") from None


def show(as_json: bool, document: object, plain: Callable[[], None]) -> None:
    """``document``, made of models and plain values, as JSON; or what ``plain`` prints for people."""
    if as_json:
        from pydantic_core import to_jsonable_python

        click.echo(json.dumps(to_jsonable_python(document), ensure_ascii=False))
    else:
        plain()


dialect_option = click.option(
    "--dialect", type=click.Choice(["duckdb", "spark"]), default="duckdb", show_default=True, help="Of which engine."
)
json_option = click.option("--json", "as_json", is_flag=True, help="One JSON document on standard output.")


def rule_text(given: str) -> str:
    """A rule as it was given, from a file by @ or from standard input by "-"."""
    if given == "-":
        return sys.stdin.read()
    if given.startswith("@"):
        try:
            return Path(given[1:]).read_text(encoding="utf-8")
        except OSError as e:
            raise CannotOpen(f"The file {given[1:]} cannot be opened: {e.strerror}.") from e
    return given
