"""The command ``meadow``."""

from __future__ import annotations

import os
import sys

import click

from openmeadow.cli import accounts, archive, check, consent, imports, processes, score, segments
from openmeadow.cli.options import WRONG_USE, MeadowGroup, data_folder
from openmeadow.services.workspace import Workspace
from openmeadow.store.connection import FILE


@click.group(cls=MeadowGroup)
def main() -> None:
    """Open Meadow: engagement scores, consent-aware segments and controlled sending."""
    os.umask(0o077)  # what a command writes is for this user alone


@main.command()
def init() -> None:
    """Create an empty workspace."""
    if (data_folder() / FILE).exists():
        click.echo(f"There already is a workspace at {data_folder()}; nothing was changed.", err=True)
        sys.exit(WRONG_USE)
    with Workspace(data_folder()).store.atomic():  # made, and whole
        pass
    click.echo(f"The workspace at {data_folder()} is ready.")


for command in (
    imports.import_,
    score.score_,
    segments.segment,
    consent.consent_,
    *processes.COMMANDS,
    *accounts.COMMANDS,
    *check.COMMANDS,
    *archive.COMMANDS,
):
    main.add_command(command)
