"""The commands that carry things out: a campaign's batches, everything, and the benchmarks."""

from __future__ import annotations

import runpy
import sys
from pathlib import Path

import click

from openmeadow.cli import MeadowCommand, MeadowGroup, data_folder, desk, import_, json_option, show
from openmeadow.core.errors import Missing
from openmeadow.core.intake.moments import rfc3339

folder_option = click.option("-o", "out", required=True, type=click.Path(path_type=Path), metavar="DIR")


@click.group(cls=MeadowGroup)
def campaign() -> None:
    """Campaigns, for sending elsewhere."""


@campaign.command("export")
@click.argument("name")
@folder_option
@json_option
def campaign_export(name: str, out: Path, as_json: bool) -> None:
    """The batches as CSV files and the plan as .ics."""
    from openmeadow.desk import elsewhere

    counts = elsewhere.export(desk(), name, out, "command line")

    def plain() -> None:
        for file, n in counts.items():
            click.echo(f"{file}: {n:,} people")
        click.echo(f"and plan.ics, in {out}")

    show(as_json, {"files": counts, "plan": "plan.ics"}, plain)


@click.group(cls=MeadowGroup)
def export() -> None:
    """Take the workspace out."""


@export.command("all")
@folder_option
@json_option
def export_all(out: Path, as_json: bool) -> None:
    """Everything as CSV and NDJSON; meadow import all reads it back."""
    from openmeadow.desk import whole

    counts = whole.export(desk(), out, "command line")
    total = sum(counts.values())
    show(as_json, {"rows": counts}, lambda: click.echo(f"{total:,} rows of {len(counts)} tables written to {out}."))


@import_.command("all")
@click.argument("folder", type=click.Path(path_type=Path))
@json_option
def import_all(folder: Path, as_json: bool) -> None:
    """Read an export of everything into an empty workspace."""
    from openmeadow.desk import whole

    counts = whole.bring_in(desk(makes=True), folder, "command line")
    show(as_json, {"rows": counts}, lambda: click.echo(f"{sum(counts.values()):,} rows of {len(counts)} tables read."))


@click.command(cls=MeadowCommand)
@click.argument("file", type=click.Path(path_type=Path), metavar="FILE.tar")
@json_option
def backup(file: Path, as_json: bool) -> None:
    """Write one consistent copy of the workspace, keys and files included, while everything runs."""
    from openmeadow.desk import backup as backups

    made = backups.back_up(desk(), file)
    document = {"file": str(file), "as_of": rfc3339(made.as_of), "files": made.files, "bytes": made.size}
    plain = f"{made.files} files, {made.size:,} bytes, as of {rfc3339(made.as_of)}, written to {file} and verified."
    show(as_json, document, lambda: click.echo(plain))


@click.command(cls=MeadowCommand)
@click.argument("file", type=click.Path(path_type=Path), metavar="FILE.tar")
@json_option
def restore(file: Path, as_json: bool) -> None:
    """Put a backup into the data folder, which must be empty; verifies database, chain of consent and keys."""
    from openmeadow.desk import backup as backups

    found = backups.restore(file, data_folder())
    document = {
        "as_of": rfc3339(found.as_of),
        "files": found.files,
        "consent_entries": found.entries,
        "plans_paused": found.paused,
    }

    def plain() -> None:
        click.echo(
            f"Restored to {data_folder()} as of {rfc3339(found.as_of)}: the database is whole, and the chain of "
            f"{found.entries:,} consent entries holds."
        )
        if found.paused:
            click.echo(
                f"Everything outgoing is paused: {found.paused} plans or sequences were under way, and some of their mail "
                "may have gone out since. Today says what to decide."
            )

    show(as_json, document, plain)


@click.command(context_settings={"ignore_unknown_options": True, "help_option_names": ["--help"]})
@click.argument("arguments", nargs=-1, type=click.UNPROCESSED)
def bench(arguments: tuple[str, ...]) -> None:
    """Every figure beside its peer; see bench/. Arguments: [PEOPLE] [DELIVERIES]."""
    root = Path(__file__).resolve().parent.parent
    if not (root / "bench" / "__main__.py").exists():
        raise Missing(f"The benchmarks are not here: {root / 'bench'} cannot be opened.")
    sys.path.insert(0, str(root))
    sys.argv = ["bench", *arguments]
    runpy.run_module("bench", run_name="__main__")


def register(main: click.Group) -> None:
    """Add the commands to ``meadow``."""
    for command in (campaign, export, backup, restore, bench):
        main.add_command(command)
