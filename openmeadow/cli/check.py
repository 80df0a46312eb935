"""The commands that look before anything is sent: addresses, domains, SPF, messages; and the import of reports."""

from __future__ import annotations

import sys
from dataclasses import asdict
from pathlib import Path

import click

from openmeadow.cli.imports import import_
from openmeadow.cli.options import (
    DONE,
    FOUND_ERRORS,
    UNREACHABLE,
    MeadowGroup,
    data_folder,
    json_option,
    open_workspace,
    show,
)
from openmeadow.core.addresses.providers import freemail_domains
from openmeadow.core.addresses.syntax import syntax_problem
from openmeadow.core.errors import CannotOpen, Refused
from openmeadow.net.dns import Resolver, answer_all
from openmeadow.services.workspace import Workspace

resolver_option = click.option("--resolver", default="", metavar="HOST:PORT", help="Use this DNS server.")


def workspace_here() -> Workspace | None:
    """The workspace, if there is one; checks need none."""
    return open_workspace() if (data_folder() / "meadow.db").exists() else None


def resolver_of(given: str, d: Workspace | None) -> Resolver:
    """The resolver that was given, else the workspace's, else the machine's."""
    where = given or (str(d.setting("resolver")) if d else "")
    try:
        return Resolver(where)
    except ValueError:
        raise click.BadParameter(
            f"“{given}” is not HOST:PORT, such as 127.0.0.1:5353.", param_hint="--resolver"
        ) from None


def content(file: str) -> bytes:
    """The octets of a file, or of standard input for "-"."""
    if file == "-":
        return sys.stdin.buffer.read()
    try:
        return Path(file).read_bytes()
    except OSError as e:
        raise CannotOpen(f"The file {file} cannot be opened: {(e.strerror or 'unknown reason').lower()}.") from e


@click.group(cls=MeadowGroup)
def check() -> None:
    """Check relay, domains, addresses and messages before sending."""


@check.command("relay")
@click.option("--send-to", default="", metavar="ADDRESS", help="Send one small test message to this address.")
@json_option
def check_relay(send_to: str, as_json: bool) -> None:
    """Check whether the relay accepts our mail, with the code of a real send."""
    from openmeadow.services.senders import relay

    if send_to and (problem := syntax_problem(send_to)):
        raise click.BadParameter(f"“{send_to[:80]}” is not a valid address: {problem}.", param_hint="--send-to")
    found = relay.check(open_workspace(), send_to)
    show(as_json, found.json(), lambda: click.echo(f"{found.state}: {found.meaning}"))
    sys.exit(DONE if found.state == "pass" else FOUND_ERRORS if found.reached else UNREACHABLE)


@check.command("workspace")
@json_option
def check_workspace(as_json: bool) -> None:
    """Check everything needed before a first real send."""
    from openmeadow.services.today import workspace_check

    found = workspace_check.check(open_workspace())

    def plain() -> None:
        for f in found:
            click.echo(f"{f.state:<8} {f.check}: {f.finding}{f' → {f.remedy}' if f.remedy else ''}")

    show(as_json, [asdict(f) for f in found], plain)
    sys.exit(FOUND_ERRORS if any(f.state == workspace_check.FAIL for f in found) else DONE)


@check.command("addresses")
@click.argument("file")
@click.option("--no-network", is_flag=True, help="Check offline only.")
@click.option("--mailboxes", is_flag=True, help="Also query mail servers.")
@resolver_option
@json_option
def check_addresses(file: str, no_network: bool, mailboxes: bool, resolver: str, as_json: bool) -> None:
    """Check each address of a list or a CSV with an email column; - is standard input."""
    from openmeadow.services.subscribers import address_checks
    from openmeadow.store.subscribers import selections

    raw = content(file)
    try:
        text = raw.decode("utf-8-sig")
    except UnicodeDecodeError:
        text = raw.decode("utf-8", "surrogateescape")
    d = workspace_here()
    here = selections.frequent_domains(d.store.read()) + list(d.setting("freemail_domains")) if d else []
    known = here + freemail_domains()
    asked = None if no_network else resolver_of(resolver, d)
    own = bool(resolver or (d and d.setting("resolver")))
    port = (int(d.setting("mail_port")) if d else 25) if mailboxes and not no_network else 0
    found = address_checks.check_list(address_checks.lines_of(text), known, asked, reserved=own, port=port)

    def shown(text: str) -> str:
        """A text with letters that could not be read shown as such."""
        return text.encode("utf-8", "replace").decode()

    def plain() -> None:
        for address, v in found:
            meant = f" Did you mean {v.suggestion}?" if v.suggestion else ""
            click.echo(f"{v.verdict:<8} {shown(address)}  {shown('; '.join(v.reasons))}{meant}")

    document = [
        {
            "address": shown(address),
            "verdict": v.verdict,
            "reasons": [shown(r) for r in v.reasons],
            "suggestion": v.suggestion,
        }
        for address, v in found
    ]
    show(as_json, document, plain)


@check.command("spf")
@click.option("--ip", required=True)
@click.option("--mail-from", required=True, metavar="ADDRESS")
@click.option("--helo", required=True, metavar="NAME")
@resolver_option
@json_option
def check_spf(ip: str, mail_from: str, helo: str, resolver: str, as_json: bool) -> None:
    """What SPF (RFC 7208) says of mail from an address, look-up by look-up."""
    import time

    from openmeadow.core.authentication import spf

    try:
        spf.plain_address(ip)
    except ValueError:
        raise click.BadParameter(f"“{ip}” is not an IP address.", param_hint="--ip") from None
    d = workspace_here() if not resolver else None
    asking = spf.check_mail(ip, mail_from, helo, int(time.time()))
    found = answer_all(asking, resolver_of(resolver, d))

    def plain() -> None:
        for s in found.steps:
            click.echo(f"{s.count:>3}  {'  ' * s.depth}{s.term}  ({s.domain}) {s.note}")
        click.echo(f"{found.result}: {found.explanation}")
        if found.exp:
            click.echo(f"The domain says: {found.exp}")

    document: dict[str, object] = {
        "result": found.result,
        "lookups": found.lookups,
        "explanation": found.explanation,
        "exp": found.exp,
        "void": found.void,
        "matched": found.matched,
        "steps": [asdict(s) for s in found.steps],
    }
    show(as_json, document, plain)


@check.command("domain")
@click.argument("domain")
@click.option("--ip", "ips", multiple=True, metavar="RELAY_IP")
@click.option("--selector", "selectors", multiple=True, help="A DKIM selector to check.")
@resolver_option
@json_option
def check_domain(domain: str, ips: tuple[str, ...], selectors: tuple[str, ...], resolver: str, as_json: bool) -> None:
    """Every record a sending domain needs: found, meant, and the line to publish."""
    import ipaddress

    from openmeadow.core.authentication import records
    from openmeadow.services.senders import domains
    from openmeadow.store.senders import senders as table

    for ip in ips:
        try:
            ipaddress.ip_address(ip)
        except ValueError:
            raise click.BadParameter(f"“{ip}” is not an IP address.", param_hint="--ip") from None
    d, name = workspace_here(), domains.domain_name(domain)
    row = table.domain_named(d.store.read(), name) if d else None
    if d and row is not None:
        facts = domains.facts(d, row)
    else:
        facts = records.SenderFacts(name, lists=tuple(d.setting("block_lists")) if d else ())
    keys = facts.keys + tuple(records.Key(s) for s in selectors if s not in [k.selector for k in facts.keys])
    relay = ips or facts.relay_ips or (tuple(d.setting("relay_ips")) if d else ())
    from dataclasses import replace

    seen = answer_all(records.look(replace(facts, keys=keys, relay_ips=relay)), resolver_of(resolver, d))
    document = {
        "domain": seen.domain,
        "state": seen.state,
        "records": [asdict(r) for r in seen.records],
        "spf": {
            "lookups": seen.spf.lookups,
            "result": seen.spf.result,
            "most": seen.spf.most,
            "advice": seen.spf.advice,
            "costs": [domains.drawn(c) for c in seen.spf.costs],
        },
    }

    def plain() -> None:
        for r in seen.records:
            click.echo(f"{r.state:<8} {r.record}: {r.found}\n         {r.meaning}")
            if r.publish:
                click.echo(f"         {r.publish}")
        click.echo(f"{seen.domain}: {seen.state}")

    show(as_json, document, plain)
    sys.exit(FOUND_ERRORS if seen.state == "fail" else DONE)


@check.command("message")
@click.argument("file")
@resolver_option
@json_option
def check_message(file: str, resolver: str, as_json: bool) -> None:
    """Pre-send checks on any message (.eml)."""
    from openmeadow.core.message import lint

    raw = content(file)
    d = workspace_here()
    d = workspace_here()
    found = lint.of_message(raw, d.setting("freemail_domains") if d else ())
    if resolver or (d and d.setting("resolver")):
        found = lint.in_order(found + answer_all(lint.sender_of(raw), resolver_of(resolver, d)))

    def plain() -> None:
        for f in found:
            click.echo(f"{f.level:<5} {f.check}: {f.finding}")
        if not found:
            click.echo("All checks passed.")

    show(as_json, [asdict(f) for f in found], plain)
    sys.exit(FOUND_ERRORS if any(f.level == "blocker" for f in found) else DONE)


@import_.command("reports")
@click.argument("files", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("--dry-run", is_flag=True)
@json_option
def import_reports(files: tuple[Path, ...], dry_run: bool, as_json: bool) -> None:
    """Import bounces and complaints (.eml, mbox) and aggregate reports (.xml, .gz, .zip)."""
    from openmeadow.core.reports.mail import REPLY
    from openmeadow.services.health import bounce_intake

    d = open_workspace()
    found: list[bounce_intake.TakenMail] = []
    unopened = []
    for path in files:
        try:
            found += bounce_intake.take_file(d, path, dry_run=dry_run)
        except CannotOpen as e:
            unopened.append(str(e))
        except Refused as e:
            found.append(bounce_intake.TakenMail("unreadable", [], str(path), reason=str(e)))
    if unopened and not found:
        raise CannotOpen(unopened[0])

    def plain() -> None:
        for f in found:
            click.echo(f"{f.file}: {f.kind}{', ' + f.reason if f.reason else ''}")
            for r in f.recipients:
                click.echo(f"  {r.address}: {r.class_ or 'unknown'} {r.code} {r.diagnostic}".rstrip())
            for one in f.reports or []:
                click.echo(f"  {one.org}: {one.messages:,} messages of {one.domain}, {one.aligned:,} aligned")

    show(as_json, [f.json() for f in found], plain)
    for sentence in unopened:
        click.echo(sentence, err=True)
    wrong = [f for f in found if f.kind == "unreadable" and f.what != REPLY]
    sys.exit(FOUND_ERRORS if unopened or wrong else DONE)


COMMANDS = (check,)
