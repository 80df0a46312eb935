"""The command ``meadow``. Exit status: 0 done, 1 the work found errors, 2 wrong use, 3 cannot reach or open."""

from __future__ import annotations

import json
import os
import sqlite3
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any, NoReturn
from zoneinfo import ZoneInfo

import click

from openmeadow.core.errors import MeadowError, Missing
from openmeadow.core.intake.moments import moment, rfc3339
from openmeadow.core.intake.report import Report
from openmeadow.desk.desk import Desk
from openmeadow.store.database import FILE

DONE, FOUND_ERRORS, WRONG_USE, UNREACHABLE = 0, 1, 2, 3


class Unopened(Missing):
    """Something outside that cannot be opened: exit status 3."""


def _remember_data(context: click.Context, _: click.Parameter, value: Path | None) -> None:
    if value is not None:
        context.find_root().meta["data"] = value


_DATA = click.Option(
    ["--data"],
    type=click.Path(path_type=Path),
    expose_value=False,
    is_eager=True,
    callback=_remember_data,
    help="The data folder (default ./data, or MEADOW_DATA).",
)


def _end(e: MeadowError | sqlite3.DatabaseError, *, as_json: bool) -> NoReturn:
    """The sentence of an error, and its exit status."""
    sentence = str(e) if isinstance(e, MeadowError) else _damage(e)
    if as_json:
        click.echo(json.dumps({"error": sentence}, ensure_ascii=False))
    click.echo(sentence, err=True)
    sys.exit(UNREACHABLE if isinstance(e, Missing) and "opened" in sentence else FOUND_ERRORS)


class MeadowCommand(click.Command):
    """Every command takes --data, and turns an error of ours into its sentence and exit status."""

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.params.append(_DATA)

    def invoke(self, context: click.Context) -> Any:
        try:
            return super().invoke(context)
        except (MeadowError, sqlite3.DatabaseError) as e:
            _end(e, as_json=bool(context.params.get("as_json")))


def _damage(e: sqlite3.DatabaseError) -> str:
    """An error of the database itself, as a sentence."""
    return f"The database at {data_folder()} cannot be read: {e}. meadow check workspace says whether it is damaged."


class MeadowGroup(click.Group):
    command_class = MeadowCommand
    group_class = type

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.params.append(_DATA)


def data_folder() -> Path:
    return Path(click.get_current_context().find_root().meta.get("data") or os.environ.get("MEADOW_DATA") or "data")


def desk(*, makes: bool = False) -> Desk:
    """The workspace of this command, closed with it. A folder that holds none is refused; a command that ``makes`` one
    says so."""
    if not (data_folder() / FILE).exists():
        if not makes:
            raise Missing(f"{data_folder()} cannot be opened: it holds no workspace. meadow init makes one there.")
        click.echo(f"There was no workspace at {data_folder()}; this command made one.", err=True)
    opened = Desk(data_folder())
    click.get_current_context().call_on_close(opened.close)
    return opened


def zone_of(d: Desk) -> ZoneInfo:
    return ZoneInfo(str(d.setting("time_zone")))


def as_moment(d: Desk, text: str | None) -> int | None:
    if text is None:
        return None
    try:
        return moment(text, zone_of(d))
    except ValueError:
        raise click.BadParameter(f"“{text}” is not a time; write it like 2026-03-12T14:10:00+00:00.") from None


def show(as_json: bool, document: Any, plain: Callable[[], None]) -> None:
    if as_json:
        click.echo(json.dumps(document, ensure_ascii=False))
    else:
        plain()


json_option = click.option("--json", "as_json", is_flag=True, help="One JSON document on standard output.")


@click.group(cls=MeadowGroup)
def main() -> None:
    """Open Meadow: who is listening, whom may we mail, and what did it do."""
    os.umask(0o077)  # what a command writes is for this user alone


@main.command()
def init() -> None:
    """Make an empty workspace."""
    if (data_folder() / FILE).exists():
        click.echo(f"There is a workspace at {data_folder()} already; nothing was changed.", err=True)
        sys.exit(WRONG_USE)
    with Desk(data_folder()).store.atomic():  # made, and whole
        pass
    click.echo(f"The workspace at {data_folder()} is ready.")


@main.group("import", cls=MeadowGroup)
def import_() -> None:
    """Bring in subscribers, events or reports."""


def _finish(report: Report, as_json: bool, noun: str) -> None:
    def plain() -> None:
        verb = "would be new" if report.dry_run else "new or changed"
        click.echo(
            f"{report.rows:,} rows read: {report.taken:,} {noun} {verb}, {report.repeated:,} already here, "
            f"{report.aside:,} for unknown addresses, {report.refused_count:,} refused."
        )
        for r in report.refused:
            click.echo(f"  line {r.line}, {r.column or 'row'}: {r.reason}", err=True)
        if report.aside:
            click.echo(f"  unknown addresses, kept aside: {', '.join(report.aside_shown[:10])}", err=True)
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


@import_.command("subscribers")
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--list", "list_name", help="Put them in this list too.")
@click.option("--map", "mapping", multiple=True, metavar="column=field")
@click.option("--consent", multiple=True, metavar="PURPOSE=STATE")
@click.option("--source", help="Where the consent comes from.")
@click.option("--suppressed", default="", metavar="REASON", help="Everybody in the file is never to be mailed.")
@click.option("--encoding", default="utf-8", help="utf-8, utf-16 or windows-1252.")
@click.option("--dates", multiple=True, metavar="column=style", help="How a column's dates are written: day first, …")
@click.option("--dry-run", is_flag=True)
@json_option
def import_subscribers(
    file: Path,
    list_name: str | None,
    mapping: tuple[str, ...],
    consent: tuple[str, ...],
    source: str | None,
    suppressed: str,
    encoding: str,
    dates: tuple[str, ...],
    dry_run: bool,
    as_json: bool,
) -> None:
    """Bring in a subscribers CSV."""
    from openmeadow.desk.bring_in import subscribers

    d = desk(makes=True)
    report = subscribers.bring_in(
        d.store,
        file,
        d.now(),
        "command line",
        corrections=_pairs(mapping, "--map"),
        list_name=list_name,
        consent=_pairs(consent, "--consent"),
        source=source,
        suppressed=suppressed,
        encoding=encoding,
        dates=_pairs(dates, "--dates"),
        dry_run=dry_run,
    )
    _finish(report, as_json, "people")


@import_.command("events")
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--dry-run", is_flag=True)
@json_option
def import_events(file: Path, dry_run: bool, as_json: bool) -> None:
    """Bring in an event log (CSV with header, or NDJSON)."""
    from openmeadow.desk.bring_in import events

    d = desk(makes=True)
    _finish(events.bring_in(d.store, file, d.now(), "command line", dry_run=dry_run), as_json, "events")


class ScoreGroup(MeadowGroup):
    """``meadow score`` alone works; ``meadow score show`` is its subcommand."""

    def invoke(self, context: click.Context) -> Any:
        try:
            return super().invoke(context)
        except (MeadowError, sqlite3.DatabaseError) as e:
            _end(e, as_json=bool(context.params.get("as_json")))


@main.group("score", cls=ScoreGroup, invoke_without_command=True)
@click.option("--full", is_flag=True, help="Work everything out anew.")
@click.option("--as-of", metavar="TIME")
@json_option
@click.pass_context
def score_(context: click.Context, full: bool, as_of: str | None, as_json: bool) -> None:
    """Score everybody, or show why somebody has their score."""
    if context.invoked_subcommand:
        return
    d = desk()
    summary = d.score_summary(as_moment(d, as_of), full)
    summary["as_of"] = rfc3339(summary["as_of"])

    def plain() -> None:
        for band, count in summary["bands"].items():
            click.echo(f"{band:<10}{count:>12,}")
        click.echo(f"{summary['subscribers']:,} subscribers in {summary['seconds']} s, as of {summary['as_of']}")

    show(as_json, summary, plain)


@score_.command("show")
@click.argument("email")
@click.option("--as-of", metavar="TIME")
@json_option
def score_show(email: str, as_of: str | None, as_json: bool) -> None:
    """Why somebody has their score, term by term."""
    from openmeadow.desk import people

    d = desk()
    why = people.explain(d, people.find(d, email), as_moment(d, as_of))
    why["as_of"] = rfc3339(why["as_of"])
    why["last_answer"] = why["last_answer"] and rfc3339(why["last_answer"])
    for term in why["terms"]:
        term["at"] = rfc3339(term["at"])

    def plain() -> None:
        click.echo(f"{why['band']}, score {why['score']:.1f} = 100 × {why['E']:.4f} / ({why['N']:.4f} + 1)")
        for t in why["terms"]:
            click.echo(f"  {t['at']}  {t['weight']:.4f} × {t['value']:<4g} {t['what']:<13} {t['message']}")

    show(as_json, why, plain)


@main.group(cls=MeadowGroup)
def segment() -> None:
    """Count, save and export segments."""


def rule_text(given: str) -> str:
    if given == "-":
        return sys.stdin.read()
    if given.startswith("@"):
        try:
            return Path(given[1:]).read_text(encoding="utf-8")
        except OSError as e:
            raise Missing(f"The file {given[1:]} cannot be opened: {e.strerror}.") from e
    return given


@segment.command("count")
@click.argument("rule")
@click.option("--as-of", metavar="TIME")
@click.option("--sieve", "with_sieve", is_flag=True)
@json_option
def segment_count(rule: str, as_of: str | None, with_sieve: bool, as_json: bool) -> None:
    """How many people a rule holds for."""
    d = desk()
    count, view, _, rows = d.count(rule_text(rule), as_moment(d, as_of), with_sieve)
    document: dict[str, Any] = {"count": count, "as_of": rfc3339(view.now)}
    if with_sieve:
        document["sieve"] = [
            {"clause": r.text, "left": r.left, **({} if r.alone is None else {"alone_removes": r.alone})}
            if not r.arm
            else {"arm": r.text, "lets_in": r.left, "alone_lets_in": r.alone}
            for r in rows
        ]

    def plain() -> None:
        for r in rows:
            click.echo(f"{r.left:>10,}  {'' if r.alone is None else format(r.alone, ','):>10}  {r.text}")
        click.echo(f"{count:,} of {int(view.alive.sum()):,}, as of {rfc3339(view.now)}")

    show(as_json, document, plain)


@segment.command("parse")
@click.argument("rule")
@json_option
def segment_parse(rule: str, as_json: bool) -> None:
    """The tree of a rule, and its text written back."""
    from openmeadow.core.rules.sentence import parse

    tree = parse(rule_text(rule))
    show(as_json, {"tree": tree.tree(), "text": tree.text()}, lambda: click.echo(tree.text()))


@segment.command("save")
@click.argument("name")
@click.argument("rule")
@json_option
def segment_save(name: str, rule: str, as_json: bool) -> None:
    """Keep a rule as a segment."""
    from openmeadow.desk import segments

    d = desk()
    saved = segments.save(d, name, rule_text(rule), "command line")
    show(as_json, saved, lambda: click.echo(f"{saved['name']}: {saved['count']:,} people."))


@segment.command("export")
@click.argument("what")
@click.option("-o", "out", required=True, type=click.Path(path_type=Path))
def segment_export(what: str, out: Path) -> None:
    """Write a segment's (or a rule's) people as .csv or .ndjson."""
    from openmeadow.desk import segments

    d = desk()
    click.echo(f"{segments.export(d, rule_text(what), out):,} people written to {out}.")


@main.group("consent", cls=MeadowGroup)
def consent_() -> None:
    """The evidence of consent."""


@consent_.command("verify")
@json_option
def consent_verify(as_json: bool) -> None:
    """Check that no entry was changed, taken out or slipped in."""
    from openmeadow.desk import consent

    found = consent.check_evidence(desk())

    def plain() -> None:
        if found["holds"]:
            click.echo(f"The chain of {found['entries']:,} entries holds.")
        else:
            click.echo(f"The chain breaks at entry {found['broken_at']:,}: {found['what']}.")

    show(as_json, found, plain)
    if not found["holds"]:
        raise SystemExit(1)


@consent_.command("export")
@click.argument("email", required=False)
@click.option("-o", "out", required=True, type=click.Path(path_type=Path), metavar="FILE.csv|.ndjson")
def consent_export(email: str | None, out: Path) -> None:
    """Write the evidence of one person or of everybody."""
    from openmeadow.desk import consent, people

    d = desk()
    n = consent.export(d, out, people.find(d, email) if email else None, "command line")
    click.echo(f"{n:,} entries written to {out}.")


def late_commands() -> None:
    """Commands of the outer layers, added here so that importing the command line stays quick."""
    from openmeadow import cli_accounts, cli_check, cli_whole, processes

    processes.register(main)
    cli_accounts.register(main)
    cli_check.register(main)
    cli_whole.register(main)


late_commands()
