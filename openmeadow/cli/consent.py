"""``meadow consent``: verify and export the consent record."""

from __future__ import annotations

from pathlib import Path

import click

from openmeadow.cli.options import MeadowGroup, json_option, open_workspace, show


@click.group("consent", cls=MeadowGroup)
def consent_() -> None:
    """The consent record."""


@consent_.command("verify")
@json_option
def consent_verify(as_json: bool) -> None:
    """Verify that no entry of the consent record was changed, removed or inserted."""
    from openmeadow.services.subscribers import consent

    found = consent.check_evidence(open_workspace())

    def plain() -> None:
        if found.verified:
            click.echo(f"{found.entries:,} entries verified.")
        else:
            click.echo(f"Verification failed at entry {found.broken_at:,}: {found.what}.")

    show(as_json, found, plain)
    if not found.verified:
        raise SystemExit(1)


@consent_.command("export")
@click.argument("email", required=False)
@click.option("-o", "out", required=True, type=click.Path(path_type=Path), metavar="FILE.csv|.ndjson")
def consent_export(email: str | None, out: Path) -> None:
    """Export the consent record of one subscriber or of all."""
    from openmeadow.services.subscribers import consent, profile

    d = open_workspace()
    n = consent.export(d, out, profile.find(d, email) if email else None, "command line")
    click.echo(f"{n:,} entries written to {out}.")
