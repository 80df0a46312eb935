"""``meadow segment``: count, parse, save and export rules."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path

import click

from openmeadow.cli.options import MeadowGroup, as_moment, dialect_option, json_option, open_workspace, rule_text, show
from openmeadow.core.imports.dates import rfc3339


@click.group(cls=MeadowGroup)
def segment() -> None:
    """Count, save and export segments."""


@segment.command("count")
@click.argument("rule")
@click.option("--as-of", metavar="TIME", help="Count as of a past time.")
@click.option("--funnel", "with_breakdown", is_flag=True, help="Show how many remain after each condition.")
@json_option
def segment_count(rule: str, as_of: str | None, with_breakdown: bool, as_json: bool) -> None:
    """Count the subscribers who match a rule."""
    d = open_workspace()
    count, view, _, rows = d.count(rule_text(rule), as_moment(d, as_of), with_breakdown)
    document: dict[str, object] = {"count": count, "as_of": rfc3339(view.now)}
    if with_breakdown:
        document["funnel"] = [r.json() for r in rows]

    def plain() -> None:
        for r in rows:
            click.echo(f"{r.remaining:>10,}  {'' if r.alone is None else format(r.alone, ','):>10}  {r.text}")
        click.echo(f"{count:,} of {int(view.alive.sum()):,}, as of {rfc3339(view.now)}")

    show(as_json, document, plain)


@segment.command("parse")
@click.argument("rule")
@json_option
def segment_parse(rule: str, as_json: bool) -> None:
    """Show how a rule is read: its tree, and its text written back."""
    from openmeadow.core.rules.parser import parse

    tree = parse(rule_text(rule))
    show(as_json, {"tree": tree.tree(), "text": tree.text()}, lambda: click.echo(tree.text()))


@segment.command("save")
@click.argument("name")
@click.argument("rule")
@json_option
def segment_save(name: str, rule: str, as_json: bool) -> None:
    """Save a rule as a segment."""
    from openmeadow.services.segments import segments

    d = open_workspace()
    saved = segments.save(d, name, rule_text(rule), "command line")
    show(as_json, asdict(saved), lambda: click.echo(f"{saved.name}: {saved.count:,} subscribers."))


@segment.command("export")
@click.argument("what")
@click.option("-o", "out", required=True, type=click.Path(path_type=Path))
@click.option("--columns", metavar="a,b,…", help="What to write of each; the usual five without it.")
def segment_export(what: str, out: Path, columns: str | None) -> None:
    """Export the subscribers of a segment or a rule as .csv or .ndjson."""
    from openmeadow.services.segments import segments

    d = open_workspace()
    chosen = tuple(c.strip() for c in columns.split(",") if c.strip()) if columns is not None else None
    click.echo(f"{segments.export(d, rule_text(what), out, chosen):,} subscribers written to {out}.")


@segment.command("sql")
@click.argument("what")
@dialect_option
def segment_sql(what: str, dialect: str) -> None:
    """A segment or a rule as one SELECT over exported columns (meadow export columns)."""
    from openmeadow.services.warehouse import sql

    click.echo(sql.segment(open_workspace(), rule_text(what), dialect))
