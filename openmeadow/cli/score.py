"""``meadow score``: score all subscribers, or show why one has their score."""

from __future__ import annotations

import sqlite3
from dataclasses import asdict

import click

from openmeadow.cli.options import MeadowGroup, as_moment, end, json_option, open_workspace, show
from openmeadow.core.errors import MeadowError
from openmeadow.core.ids import SubscriberId
from openmeadow.core.imports.dates import rfc3339


class ScoreGroup(MeadowGroup):
    """``meadow score`` alone works; ``meadow score show`` is its subcommand."""

    def invoke(self, context: click.Context) -> object:
        """Score everybody where no other command of the group is named."""
        try:
            return super().invoke(context)
        except (MeadowError, sqlite3.DatabaseError) as e:
            end(e, as_json=bool(context.params.get("as_json")))


@click.group("score", cls=ScoreGroup, invoke_without_command=True)
@click.option("--full", is_flag=True, help="Recalculate everything.")
@click.option("--as-of", metavar="TIME")
@json_option
@click.pass_context
def score_(context: click.Context, full: bool, as_of: str | None, as_json: bool) -> None:
    """Score all subscribers, or show how a score is made up."""
    if context.invoked_subcommand:
        return
    d = open_workspace()
    summary = d.score_summary(as_moment(d, as_of), full)
    as_of_text = rfc3339(summary.as_of)

    def plain() -> None:
        for band, count in summary.bands.items():
            click.echo(f"{band:<10}{count:>12,}")
        click.echo(f"{summary.subscribers:,} subscribers in {summary.seconds} s, as of {as_of_text}")

    show(as_json, asdict(summary) | {"as_of": as_of_text}, plain)


@score_.command("show")
@click.argument("email")
@click.option("--as-of", metavar="TIME")
@json_option
def score_show(email: str, as_of: str | None, as_json: bool) -> None:
    """Show how the score of a subscriber is made up."""
    from openmeadow.services.subscribers import profile

    d = open_workspace()
    why = profile.explain(d, SubscriberId(profile.find(d, email)), as_moment(d, as_of))
    document = why.model_dump() | {
        "as_of": rfc3339(why.as_of),
        "last_engaged": why.last_engaged and rfc3339(why.last_engaged),
        "terms": [t.model_dump() | {"at": rfc3339(t.at)} for t in why.terms],
    }

    def plain() -> None:
        click.echo(f"{why.band}, score {why.score:.1f} = 100 × {why.E:.4f} / ({why.N:.4f} + 1)")
        for t in why.terms:
            click.echo(f"  {rfc3339(t.at)}  {t.weight:.4f} × {t.value:<4g} {t.what:<13} {t.message}")

    show(as_json, document, plain)
