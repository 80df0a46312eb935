"""The command ``meadow``. A command is loaded when it is called, so that none waits for what it does not need."""

from __future__ import annotations

import os
import sys
from importlib import import_module

import click

from openmeadow.cli.options import WRONG_USE, MeadowGroup, data_folder

# by name: its module here, what it is called there, and what the list of commands says of it
COMMANDS = {
    "backup": (
        "archive",
        "backup",
        "Write a consistent copy of the workspace, with keys and files, while everything runs.",
    ),
    "bench": ("archive", "bench", "Run the benchmarks; see bench/."),
    "campaign": ("archive", "campaign", "Campaigns, to send with another system."),
    "check": ("check", "check", "Check relay, domains, addresses and messages before sending."),
    "consent": ("consent", "consent_", "The consent record."),
    "demo": ("processes", "demo", "Start the demo with its data and simulated mail servers."),
    "export": ("archive", "export", "Export the workspace."),
    "import": ("imports", "import_", "Import subscribers, events or reports."),
    "restore": (
        "archive",
        "restore",
        "Restore a backup into an empty data folder; verifies database, consent record and keys.",
    ),
    "score": ("score", "score_", "Score all subscribers, or show how a score is made up."),
    "segment": ("segments", "segment", "Count, save and export segments."),
    "serve": ("processes", "serve", "Serve the application over HTTP."),
    "set": ("accounts", "set_", "Show every setting, or one; or set one."),
    "standins": ("processes", "standins", "The DNS server and the mail world, on loopback."),
    "user": ("accounts", "user", "Accounts."),
    "worker": ("processes", "worker", "Send what is due, run jobs, check senders, receive bounces."),
}
HIDDEN = ("standins",)
ADD_TO = {"import": ("archive", "check")}  # modules that add commands to a group of another


class LoadedWhenCalled(MeadowGroup):
    """The group of all commands."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """Every command that people call, by name."""
        return sorted({*super().list_commands(ctx), *COMMANDS} - set(HIDDEN))

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        """A command, loaded now."""
        if cmd_name in COMMANDS:
            module, name, _ = COMMANDS[cmd_name]
            for other in ADD_TO.get(cmd_name, ()):
                import_module(f"openmeadow.cli.{other}")
            found: click.Command = getattr(import_module(f"openmeadow.cli.{module}"), name)
            return found
        return super().get_command(ctx, cmd_name)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """The list of commands, without loading them."""
        own = {name: command.get_short_help_str(200) for name, command in self.commands.items()}
        words = own | {name: text for name, (_, _, text) in COMMANDS.items()}
        with formatter.section("Commands"):
            formatter.write_dl([(name, words[name]) for name in self.list_commands(ctx)])


@click.group(cls=LoadedWhenCalled)
def main() -> None:
    """Open Meadow: engagement scores, consent-aware segments and controlled sending."""
    os.umask(0o077)  # what a command writes is for this user alone


@main.command()
def init() -> None:
    """Create an empty workspace."""
    from openmeadow.services.workspace import Workspace
    from openmeadow.store.connection import FILE

    if (data_folder() / FILE).exists():
        click.echo(f"There already is a workspace at {data_folder()}; nothing was changed.", err=True)
        sys.exit(WRONG_USE)
    with Workspace(data_folder()).store.atomic():  # made, and whole
        pass
    click.echo(f"The workspace at {data_folder()} is ready.")
