"""The commands that carry things out: a campaign's batches, everything, and the benchmarks."""

from __future__ import annotations

import runpy
import sys
from pathlib import Path

import click

from openmeadow.cli.imports import import_
from openmeadow.cli.options import (
    MeadowCommand,
    MeadowGroup,
    data_folder,
    dialect_option,
    json_option,
    open_workspace,
    rule_text,
    show,
)
from openmeadow.core.errors import CannotOpen
from openmeadow.core.imports.dates import rfc3339

folder_option = click.option("-o", "out", required=True, type=click.Path(path_type=Path), metavar="DIR")


@click.group(cls=MeadowGroup)
def campaign() -> None:
    """Campaigns, to send with another system."""


@campaign.command("export")
@click.argument("name")
@folder_option
@json_option
def campaign_export(name: str, out: Path, as_json: bool) -> None:
    """Export the batches as CSV files and the schedule as .ics."""
    from openmeadow.services.campaigns import external_sending

    counts = external_sending.export(open_workspace(), name, out, "command line")

    def plain() -> None:
        for file, n in counts.items():
            click.echo(f"{file}: {n:,} people")
        click.echo(f"and plan.ics, in {out}")

    show(as_json, {"files": counts, "plan": "plan.ics"}, plain)


@click.group(cls=MeadowGroup)
def export() -> None:
    """Export the workspace."""


@export.command("all")
@folder_option
@json_option
def export_all(out: Path, as_json: bool) -> None:
    """Export everything as CSV and NDJSON; meadow import all reads it."""
    from openmeadow.services import archive

    counts = archive.export(open_workspace(), out, "command line")
    total = sum(counts.values())
    show(as_json, {"rows": counts}, lambda: click.echo(f"{total:,} rows of {len(counts)} tables written to {out}."))


@export.command("columns")
@folder_option
@json_option
def export_columns(out: Path, as_json: bool) -> None:
    """Export what rules and scores are told from as Parquet by tables; an earlier export is brought up to date."""
    from openmeadow.services.warehouse import export as columns

    done = columns.run(open_workspace(), out, "command line")

    def plain() -> None:
        for name, n in done.rows.items():
            click.echo(f"{name}: {n:,} rows")
        click.echo(f"{done.written} of {done.files} files written anew, in {out}.")

    show(as_json, {"rows": done.rows, "files": done.files, "written": done.written}, plain)


QUESTIONS = ["standing", "map", "expected", "replay", "resend"]


@export.command("sql")
@click.argument("question", type=click.Choice(QUESTIONS))
@click.option(
    "--of", "rule", default="joined more than 0 days ago", help="Of the people of a segment or rule; of all without it."
)
@click.option("--days", type=click.IntRange(0), default=180, show_default=True, help="replay: days without engagement.")
@click.option("--ignored", type=click.IntRange(0), default=6, show_default=True, help="replay: messages ignored.")
@click.option("--past", type=click.IntRange(1), default=365, show_default=True, help="replay: over so many days.")
@click.option("--message", help="resend: the message that is sent again.")
@click.option("--purpose", default="", help="resend: what it is about, where that is not known of the message.")
@dialect_option
def export_sql(
    question: str, rule: str, days: int, ignored: int, past: int, message: str | None, purpose: str, dialect: str
) -> None:
    """SQL over exported columns: where everybody stands, the map, expected engagement by provider, the replay of a
    cut-off, the people of a resend."""
    from openmeadow.services.warehouse import sql

    of = rule_text(rule)
    if question == "replay":
        made = sql.replay(open_workspace(), days, ignored, past, of, dialect)
    elif question == "resend":
        if not message:
            raise click.UsageError("Say which message is sent again: --message NAME.")
        made = sql.resend(open_workspace(), message, purpose, of, dialect)
    else:
        made = sql.question(open_workspace(), question, of, dialect)
    click.echo(made)


@import_.command("all")
@click.argument("folder", type=click.Path(path_type=Path))
@json_option
def import_all(folder: Path, as_json: bool) -> None:
    """Import an export of everything into an empty workspace."""
    from openmeadow.services import archive

    counts = archive.import_tables(open_workspace(makes=True), folder, "command line")
    show(as_json, {"rows": counts}, lambda: click.echo(f"{sum(counts.values()):,} rows of {len(counts)} tables read."))


@click.command(cls=MeadowCommand)
@click.argument("file", type=click.Path(path_type=Path), metavar="FILE.tar")
@json_option
def backup(file: Path, as_json: bool) -> None:
    """Write a consistent copy of the workspace, with keys and files, while everything runs."""
    from openmeadow.services import backup as backups

    made = backups.back_up(open_workspace(), file)
    document = {"file": str(file), "as_of": rfc3339(made.as_of), "files": made.files, "bytes": made.size}
    plain = f"{made.files} files, {made.size:,} bytes, as of {rfc3339(made.as_of)}, written to {file} and verified."
    show(as_json, document, lambda: click.echo(plain))


@click.command(cls=MeadowCommand)
@click.argument("file", type=click.Path(path_type=Path), metavar="FILE.tar")
@json_option
def restore(file: Path, as_json: bool) -> None:
    """Restore a backup into an empty data folder; verifies database, consent record and keys."""
    from openmeadow.services import backup as backups

    found = backups.restore(file, data_folder())
    document = {
        "as_of": rfc3339(found.as_of),
        "files": found.files,
        "consent_entries": found.entries,
        "plans_paused": found.paused,
    }

    def plain() -> None:
        click.echo(
            f"Restored to {data_folder()} as of {rfc3339(found.as_of)}: the database is intact, and "
            f"{found.entries:,} consent entries are verified."
        )
        if found.paused:
            click.echo(
                f"All sending is paused: {found.paused} campaigns or sequences were running, and some of their mail "
                "may have been sent since. See Today."
            )

    show(as_json, document, plain)


@click.command(context_settings={"ignore_unknown_options": True, "help_option_names": ["--help"]})
@click.argument("arguments", nargs=-1, type=click.UNPROCESSED)
def bench(arguments: tuple[str, ...]) -> None:
    """Run the benchmarks; see bench/. Arguments: [PEOPLE] [DELIVERIES]."""
    root = Path(__file__).resolve().parents[2]
    if not (root / "bench" / "__main__.py").exists():
        raise CannotOpen(f"The benchmarks are not here: {root / 'bench'} cannot be opened.")
    sys.path.insert(0, str(root))
    sys.argv = ["bench", *arguments]
    runpy.run_module("bench", run_name="__main__")


COMMANDS = (campaign, export, backup, restore, bench)
