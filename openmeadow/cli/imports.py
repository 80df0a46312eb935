"""``meadow import``: subscribers, events; reports and archives add themselves in their own modules."""

from __future__ import annotations

import sys
from pathlib import Path

import click

from openmeadow.cli.options import DONE, FOUND_ERRORS, MeadowGroup, json_option, open_workspace, show
from openmeadow.core.imports.report import Report


@click.group("import", cls=MeadowGroup)
def import_() -> None:
    """Import subscribers, events or reports."""


def _finish(report: Report, as_json: bool, noun: str) -> None:
    def plain() -> None:
        verb = "would be added or updated" if report.dry_run else "added or updated"
        click.echo(
            f"{report.rows:,} rows read: {report.taken:,} {noun} {verb}, {report.repeated:,} unchanged, "
            f"{report.aside:,} for unknown addresses, {report.refused_count:,} rejected."
        )
        for r in report.refused:
            click.echo(f"  line {r.line}, {r.column or 'row'}: {r.reason}", err=True)
        if report.aside:
            click.echo(f"  unknown addresses, stored: {', '.join(report.aside_shown[:10])}", err=True)
        for note in report.notes:
            click.echo(f"  {note}")

    show(as_json, report.json(), plain)
    sys.exit(DONE if report.clean else FOUND_ERRORS)


def _pairs(values: tuple[str, ...], option: str) -> dict[str, str]:
    out = {}
    for value in values:
        left, sign, right = value.rpartition("=")
        if not sign:
            raise click.BadParameter(f"“{value}” needs an equals sign.", param_hint=option)
        out[left] = right
    return out


def _value_maps(values: tuple[str, ...]) -> dict[str, dict[str, str]]:
    """By column what each value stands for; a column may have colons in its name, as consents have."""
    out: dict[str, dict[str, str]] = {}
    for left, meaning in _pairs(values, "--values").items():
        column, colon, value = left.rpartition(":")
        if not colon:
            raise click.BadParameter(f"“{left}” needs a colon between column and value.", param_hint="--values")
        out.setdefault(column.strip(), {})[value] = meaning
    return out


@import_.command("subscribers")
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--list", "list_name", help="Also add to this list.")
@click.option("--map", "mapping", multiple=True, metavar="column=field")
@click.option("--consent", multiple=True, metavar="PURPOSE=STATE")
@click.option("--values", multiple=True, metavar="column:from=to", help="What a value of a column stands for.")
@click.option("--source", help="Source of the consent.")
@click.option("--wording", help="What was agreed to, where the file does not say.")
@click.option("--suppressed", default="", metavar="REASON", help="Import as suppression list.")
@click.option("--encoding", default="utf-8", help="utf-8, utf-16 or windows-1252.")
@click.option("--dates", multiple=True, metavar="column=style", help="Date format of a column: day first, …")
@click.option("--dry-run", is_flag=True)
@json_option
def import_subscribers(
    file: Path,
    list_name: str | None,
    mapping: tuple[str, ...],
    consent: tuple[str, ...],
    values: tuple[str, ...],
    source: str | None,
    wording: str | None,
    suppressed: str,
    encoding: str,
    dates: tuple[str, ...],
    dry_run: bool,
    as_json: bool,
) -> None:
    """Import a subscribers CSV."""
    from openmeadow.services.subscribers import import_subscribers as importer

    d = open_workspace(makes=True)
    report = importer.run(
        d.store,
        file,
        d.now(),
        "command line",
        corrections=_pairs(mapping, "--map"),
        list_name=list_name,
        consent=_pairs(consent, "--consent"),
        source=source,
        wording=wording,
        values=_value_maps(values),
        suppressed=suppressed,
        encoding=encoding,
        dates=_pairs(dates, "--dates"),
        dry_run=dry_run,
    )
    _finish(report, as_json, "people")


@import_.command("labels")
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--label", required=True, help="The label that the people of the file get.")
@click.option("--source", default="", help="Where it was worked out; kept in the activity log.")
@json_option
def import_labels(file: Path, label: str, source: str, as_json: bool) -> None:
    """Label the people of a .csv or .parquet file, named by email or person."""
    from openmeadow.services.warehouse import labels

    done = labels.run(open_workspace(), file, label, source, "command line")

    def plain() -> None:
        click.echo(
            f"{done.rows:,} rows read: {done.people:,} people, {done.added:,} of them without “{done.label}” before."
        )
        if done.unknown:
            click.echo(f"  {done.unknown:,} not here: {', '.join(done.unknown_shown)}", err=True)

    show(as_json, done.json(), plain)
    sys.exit(FOUND_ERRORS if done.unknown else DONE)


@import_.command("events")
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--dry-run", is_flag=True)
@json_option
def import_events(file: Path, dry_run: bool, as_json: bool) -> None:
    """Import an event log (CSV with header, NDJSON, or Parquet)."""
    from openmeadow.services.subscribers import import_events as importer

    d = open_workspace(makes=True)
    _finish(importer.run(d.store, file, d.now(), "command line", dry_run=dry_run), as_json, "events")
