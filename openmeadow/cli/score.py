"""``meadow score``: score all subscribers, or show why one has their score."""

from __future__ import annotations

import sqlite3
from dataclasses import asdict
from pathlib import Path

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
    from openmeadow.services.subscribers import score_model

    d = open_workspace()
    score_model.refit(d) if full else score_model.refit_if_due(d)
    summary = d.score_summary(as_moment(d, as_of), full)
    as_of_text = rfc3339(summary.as_of)

    def plain() -> None:
        for band, count in summary.bands.items():
            click.echo(f"{band:<10}{count:>12,}")
        m = summary.model
        own = f"fitted on {m.people:,} people" if m.own else "not enough history of your own yet"
        click.echo(f"alpha {m.alpha:.3f}, beta {m.beta:.3f}, gamma {m.gamma:.3f}, delta {m.delta:.2f}: {own}")
        click.echo(f"{summary.subscribers:,} subscribers in {summary.seconds} s, as of {as_of_text}")

    show(as_json, asdict(summary) | {"as_of": as_of_text, "model": summary.model.model_dump()}, plain)


@score_.command("show")
@click.argument("email")
@click.option("--as-of", metavar="TIME")
@json_option
def score_show(email: str, as_of: str | None, as_json: bool) -> None:
    """Show how the score of a subscriber is made up."""
    from openmeadow.services.subscribers import profile, score_model

    d = open_workspace()
    score_model.refit_if_due(d)
    why = profile.explain(d, SubscriberId(profile.find(d, email)), as_moment(d, as_of))
    document = why.model_dump() | {
        "as_of": rfc3339(why.as_of),
        "last_engaged": why.last_engaged and rfc3339(why.last_engaged),
        "steps": [t.model_dump() | {"at": rfc3339(t.at)} for t in why.steps],
    }

    def plain() -> None:
        click.echo(f"{why.band}, score {why.score:.1f}: {profile.in_words(why)}")
        for t in why.steps:
            counts = f"{100 * t.chance:5.1f}" if t.counts else "    –"
            click.echo(f"  {rfc3339(t.at)}  {counts}  {t.what:<17} {t.message}")

    show(as_json, document, plain)


@score_.command("export")
@click.option("-o", "out", required=True, metavar="FILE", help="A .csv or .ndjson file.")
@click.option("--as-of", metavar="TIME")
def score_export(out: str, as_of: str | None) -> None:
    """Write everybody's score to a file."""
    from openmeadow.services.subscribers import score_export as service
    from openmeadow.services.subscribers import score_model

    d = open_workspace()
    score_model.refit_if_due(d)
    people = service.write(d, Path(out), as_moment(d, as_of))
    click.echo(f"{people:,} subscribers written to {out}")


@score_.command("check")
@json_option
def score_check(as_json: bool) -> None:
    """Hold the score against what came of the last 12 mailings."""
    from openmeadow.services.subscribers import score_model

    found = score_model.check(open_workspace())

    def plain() -> None:
        if found.auc is None:
            click.echo("There is nothing to check yet: no mailing to 30 people or more is settled.")
            return
        click.echo(f"{found.mailings} mailings, {found.people:,} messages")
        beside = f"recency alone {found.auc_recency:.3f}, engaged in the last 90 days {found.auc_90_days:.3f}"
        click.echo(
            f"AUC {found.auc:.3f} ({beside}); Brier {found.brier:.4f}; calibration error {found.calibration_error:.4f}"
        )
        for part in found.tenths:
            click.echo(f"  expected {100 * part.expected:5.1f}%   observed {100 * part.observed:5.1f}%   {part.people:,}")
        if found.auc_recency is not None and found.auc_recency > found.auc:
            click.echo("Recency alone ranks your subscribers better than the score does.")

    show(as_json, found.model_dump(), plain)
