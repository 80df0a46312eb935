"""The commands that set a workspace up: settings and accounts."""

from __future__ import annotations

import json
import sys

import click

from openmeadow.cli.options import MeadowCommand, MeadowGroup, json_option, open_workspace, show
from openmeadow.core.imports.dates import rfc3339
from openmeadow.core.settings import GROUPS, SETTINGS, Setting, Value, checked, parsed, shown

ROLE = click.Choice(["analyst", "writer", "observer"])


def _written(setting: Setting, value: Value) -> str:
    said = shown(setting, value)
    return said if isinstance(said, str) and said else json.dumps(said, ensure_ascii=False)


@click.command("set", cls=MeadowCommand)
@click.argument("name", required=False)
@click.argument("value", required=False)
@json_option
def set_(name: str | None, value: str | None, as_json: bool) -> None:
    """Show every setting, or one; or set one. A list is written with commas or as JSON."""
    from openmeadow.services import settings
    from openmeadow.store import settings as settings_table

    if name is not None and name not in SETTINGS:
        raise click.BadParameter(f"there is no setting “{name[:60]}”; meadow set lists them.")
    d = open_workspace(makes=value is not None)
    present = settings_table.settings(d.store.read())
    if value is None:
        chosen = [SETTINGS[name]] if name else list(SETTINGS.values())
        document = {s.name: shown(s, present[s.name]) for s in chosen}

        def listed() -> None:
            if name:
                click.echo(_written(chosen[0], present[name]))
                return
            for group in GROUPS:
                click.echo(f"\n{group}" if group != GROUPS[0] else group)
                for s in (s for s in chosen if s.group == group):
                    click.echo(f"  {s.name:<22} {_written(s, present[s.name])}")
                    click.echo(f"  {'':<22} {s.help} ({s.range}; default {_written(s, s.default)})")

        show(as_json, document, listed)
        return
    assert name is not None
    setting = SETTINGS[name]
    try:
        wanted = checked(setting, parsed(setting, value))
    except ValueError as e:
        raise click.BadParameter(str(e)) from e
    kept = settings.change(d, {name: wanted}, "command line")
    show(as_json, {name: shown(setting, kept[name])}, lambda: click.echo(f"{name} is {_written(setting, kept[name])}."))


@click.group("user", cls=MeadowGroup)
def user() -> None:
    """Accounts."""


@user.command("add")
@click.argument("name")
@click.option("--role", required=True, type=ROLE)
@click.option("--email", help="Address for test messages.")
@click.option("--link", is_flag=True, help="Print a link to choose a password instead of asking for one.")
def user_add(name: str, role: str, email: str | None, link: bool) -> None:
    """Add an account; asks for the password."""
    from openmeadow.services import accounts

    if link:
        d = open_workspace(makes=True)
        token = accounts.invite(d, name, role, email, accounts.COMMAND_LINE)
        click.echo(f"{str(d.setting('public_url')).rstrip('/')}/set-password/{token}")
        return
    password = _asked()
    accounts.add(open_workspace(makes=True), name, role, password, email)
    click.echo(f"{name} can sign in as {role}.")


def _asked() -> str:
    """A password, asked twice on a terminal; from a script it is one line of standard input."""
    if sys.stdin.isatty():
        return str(click.prompt("Password", hide_input=True, confirmation_prompt=True))
    return sys.stdin.readline().rstrip("\n")


@user.command("list")
@json_option
def user_list(as_json: bool) -> None:
    """Every account: role, second factor, when last seen."""
    from openmeadow.store import users

    db = open_workspace().store.read()
    found = []
    for u in users.users(db):
        sessions = users.sessions_of(db, u.id)
        seen = max((s.seen_at for s in sessions), default=None)
        found.append(
            {
                "name": u.name,
                "role": u.role,
                "email": u.email,
                "second_factor": bool(u.totp_secret),
                "invited": not u.password,
                "sessions": len(sessions),
                "tokens": len(users.tokens(db, u.id)),
                "last_seen": None if seen is None else rfc3339(seen),
            }
        )

    def plain() -> None:
        for f in found:
            factor = "two-factor" if f["second_factor"] else "no two-factor"
            state = "invited" if f["invited"] else f"{f['sessions']} sessions, {f['tokens']} tokens, {factor}"
            click.echo(f"{f['name']:<24} {f['role']:<10} {state}")

    show(as_json, found, plain)


@user.command("password")
@click.argument("name")
def user_password(name: str) -> None:
    """Set a password; asks for it. All sessions of the account end."""
    from openmeadow.services import accounts

    d = open_workspace()
    row_id = accounts.named(d, name).id
    accounts.set_password(d, row_id, _asked(), accounts.COMMAND_LINE)
    click.echo(f"Password of {name} changed; their sessions have ended.")


@user.command("role")
@click.argument("name")
@click.argument("role", type=ROLE)
def user_role(name: str, role: str) -> None:
    """Another role; all sessions of the account end."""
    from openmeadow.services import accounts

    d = open_workspace()
    accounts.set_role(d, accounts.named(d, name).id, role, accounts.COMMAND_LINE)
    click.echo(f"{name} is now {role}.")


@user.command("remove")
@click.argument("name")
def user_remove(name: str) -> None:
    """Remove an account; what it did stays in the activity log."""
    from openmeadow.services import accounts

    d = open_workspace()
    accounts.remove(d, accounts.named(d, name).id, accounts.COMMAND_LINE)
    click.echo(f"{name} removed.")


@user.command("reset-second-factor")
@click.argument("name")
def user_reset(name: str) -> None:
    """Take the second factor off an account whose authenticator was lost."""
    from openmeadow.services import accounts

    d = open_workspace()
    accounts.drop_second_factor(d, accounts.named(d, name).id, accounts.COMMAND_LINE)
    click.echo(f"Two-factor authentication of {name} is off.")


@user.command("sign-out")
@click.argument("name")
def user_sign_out(name: str) -> None:
    """End all sessions of an account."""
    from openmeadow.services import accounts

    d = open_workspace()
    n = accounts.sign_out_everywhere(d, accounts.named(d, name).id, accounts.COMMAND_LINE)
    click.echo(f"{n} sessions of {name} ended.")


COMMANDS = (set_, user)
