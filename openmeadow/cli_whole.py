"""The commands that carry things out: a campaign's batches, everything, and the benchmarks."""

from __future__ import annotations

import runpy
import sys
from pathlib import Path

import click

from openmeadow.cli import MeadowGroup, desk, import_, json_option, show
from openmeadow.core.errors import Missing

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

    counts = whole.bring_in(desk(), folder, "command line")
    show(as_json, {"rows": counts}, lambda: click.echo(f"{sum(counts.values()):,} rows of {len(counts)} tables read."))


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
    for command in (campaign, export, bench):
        main.add_command(command)
