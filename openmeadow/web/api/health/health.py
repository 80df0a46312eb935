"""Health, receivers' reports, placement tests, word when nobody is looking; address checks."""

from __future__ import annotations

import ipaddress
import secrets
from dataclasses import asdict
from pathlib import Path

import numpy as np
from flask import Response, g
from werkzeug.datastructures import FileStorage

from openmeadow.core.errors import Missing, Refused
from openmeadow.core.ids import CampaignId
from openmeadow.core.states import JobKind
from openmeadow.services import settings
from openmeadow.services.health import bounce_intake, outcomes, placement, provider_health
from openmeadow.services.subscribers import address_checks
from openmeadow.services.subscribers.selection import chosen
from openmeadow.services.today import alerts
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings as settings_table
from openmeadow.store.health import health as health_table
from openmeadow.store.health import reports as report_table
from openmeadow.store.health.providers import names as provider_names
from openmeadow.store.senders import senders as sender_table
from openmeadow.store.subscribers import addresses as address_table
from openmeadow.web import schemas as m
from openmeadow.web.api.subscribers.subscribers import choice_of
from openmeadow.web.router import ANALYSE, WRITE, Routes, file_given, who

MOST_TYPED = 200


def _name_of(file: FileStorage) -> str:
    return Path(file.filename or "").name


SOON = 120  # so many seconds the page looks again by itself for copies that were sent to test mailboxes


routes = Routes()


@routes.route("GET", "/health", m.HealthView, query=m.SenderQuery)
def see(workspace: Workspace, query: m.SenderQuery) -> m.HealthView:
    """Providers by day (query ``sender``: of one domain), what refusals say, the obligations, receivers' reports."""
    view, found = workspace.view(), provider_health.receivers(workspace)
    providers = provider_health.providers(workspace, view, query.sender)
    domains, copies = (sender_table.domains(workspace.store.read()), health_table.waiting_copies(workspace.store.read()))
    return m.HealthView(
        now=view.now,
        days=outcomes.DAYS,
        limits=provider_health.limits(workspace)[""],
        senders=[m.NamedThing(id=d.id, name=d.name) for d in domains],
        looking=any(d.checked_at is None for d in domains) or any(view.now - c.at < SOON for c in copies),
        providers=providers,
        refusals=provider_health.refusals(workspace),
        requirements=provider_health.requirements(workspace, view, None if query.sender else providers),
        sources=found.sources,
        report_days=found.days,
        reports=found.reports,
        tests=placement.results(workspace),
        boxes=len(placement.boxes(workspace)),
        words=_words(workspace),
    )


def _words(workspace: Workspace) -> m.Alerts:
    s = settings_table.settings(workspace.store.read())
    return m.Alerts(to=list(s["alert_to"]), url=str(s["alert_url"]), quiet_hours=str(s["quiet_hours"]))


@routes.route("POST", "/health/dmarc-sources", m.Done, body=m.SourceIn, rights=ANALYSE)
def name_source(workspace: Workspace, body: m.SourceIn) -> m.Done:
    """Say who a source is, and whether it sends for us."""
    try:
        ipaddress.ip_address(body.ip)
    except ValueError:
        raise Refused(f"“{body.ip}” is not an address.") from None
    if not body.name.strip():
        raise Refused("Enter a name, for example: the box office's printer.")
    with workspace.store.atomic() as db:
        report_table.name_source(db, body.ip, body.name.strip(), body.ours, workspace.now(), who())
        settings_table.log(db, workspace.now(), who(), "identified source", f"{body.ip}: {body.name.strip()}")
    return m.Done()


@routes.route("GET", "/health/reverse-bounces", m.BouncesFound, query=m.BouncesQuery)
def to_undo(workspace: Workspace, query: m.BouncesQuery) -> m.BouncesFound:
    """How many people a reversal of a provider's hard bounces between two moments would take off the list."""
    names = provider_names(workspace.store.read())
    if query.provider not in names:
        raise Missing(f"There is no provider “{query.provider}”.")
    found = report_table.bounced_between(workspace.store.read(), names.index(query.provider), query.since, query.until)
    return m.BouncesFound(people=len(found))


@routes.route("POST", "/health/reverse-bounces", m.ActionDone, body=m.UndoBouncesIn, rights=ANALYSE)
def undo(workspace: Workspace, body: m.UndoBouncesIn) -> m.ActionDone:
    """Undo all hard bounces of a provider between two moments."""
    if body.provider not in provider_names(workspace.store.read()):
        raise Missing(f"There is no provider “{body.provider}”.")
    provider = provider_names(workspace.store.read()).index(body.provider)
    action, n = bounce_intake.undo_bounces(workspace, provider, body.since, body.until, body.why, who())
    return m.ActionDone(action=action, job=0, people=n)


@routes.route("POST", "/health/reports", m.ImportedReports, upload=m.JustFile, rights=ANALYSE)
def bring_in(workspace: Workspace, form: m.JustFile) -> m.ImportedReports:
    """Take a file of reports (multipart field ``file``): .eml, mbox, aggregate XML, gzip, zip."""
    file = file_given()
    folder = workspace.folder / "uploads"
    folder.mkdir(exist_ok=True)
    path = folder / f"report-{workspace.now()}-{_name_of(file)[-60:]}"
    file.save(path)
    try:
        found = bounce_intake.take_file(workspace, path)
    finally:
        path.unlink(missing_ok=True)
    return m.ImportedReports(taken=[m.ImportedReport(kind=f.kind, sentence=_said(f)) for f in found])


@routes.route("POST", "/health/statistics", m.ImportedStatistics, upload=m.JustFile, rights=ANALYSE)
def own_figures(workspace: Workspace, form: m.JustFile) -> m.ImportedStatistics:
    """Providers' own figures from a CSV (multipart field ``file``): date, provider, complaint_rate, standing."""
    file = file_given()
    n, refused = provider_health.take_figures(workspace, file.read().decode("utf-8-sig", "replace"), who())
    return m.ImportedStatistics(rows=n, refused=refused[:20])


@routes.route("PUT", "/health/alerts", m.Alerts, body=m.Alerts, rights=ANALYSE)
def set_words(workspace: Workspace, body: m.Alerts) -> m.Alerts:
    """Who gets word when nobody is looking, and when not."""
    values = {"alert_to": body.to, "alert_url": body.url.strip(), "quiet_hours": body.quiet_hours}
    settings.change(workspace, values, who(), g.user.id)
    return _words(workspace)


@routes.route("POST", "/health/alerts/test", m.Done, rights=ANALYSE)
def test_word(workspace: Workspace) -> m.Done:
    """Send a word now, to see that it arrives."""
    sentence = f"This is a test from {workspace.setting('name')}: alerts work."
    return m.Done(count=alerts.send(workspace, sentence, str(workspace.setting("public_url"))))


@routes.route("POST", "/campaigns/<int:id>/placement", m.Done, rights=WRITE)
def place(workspace: Workspace, row_id: CampaignId) -> m.Done:
    """Send copies to the test mailboxes; where they land shows within minutes."""
    return m.Done(id=row_id, count=placement.start(workspace, row_id, who())[1])


@routes.route("GET", "/returned/<int:id>", "message/rfc822")
def raw_mail(workspace: Workspace, row_id: int) -> Response:
    """A message that came back, as it came."""
    row = report_table.mail(workspace.store.read(), row_id)
    if row is None:
        raise Missing("This message does not exist any more.")
    if not row.raw:
        days = workspace.setting("raw_mail_kept_days")
        raise Missing(f"Its source was deleted after {days} days; the result is kept.")
    headers = {"Content-Disposition": f"attachment; filename=returned-{row_id}.eml"}
    return Response(row.raw, mimetype="message/rfc822", headers=headers)


@routes.route("GET", "/addresses", m.AddressSummary)
def summary(workspace: Workspace) -> m.AddressSummary:
    """Everybody by verdict, the reasons, the slips."""
    return address_checks.summary(workspace)


def _ids(workspace: Workspace, body: m.AddressCheckIn) -> list[int]:
    view = workspace.view()
    mask = chosen(workspace, view, choice_of(body.choice))
    ids: list[int] = view.columns.people.id[np.flatnonzero(mask)].tolist()
    return ids


@routes.route("POST", "/addresses/cost", m.AddressCost, body=m.AddressCheckIn)
def cost(workspace: Workspace, body: m.AddressCheckIn) -> m.AddressCost:
    """What a check would ask, and how long that takes."""
    return address_checks.cost(workspace, _ids(workspace, body), ask_hosts=body.ask_hosts)


@routes.route("POST", "/addresses/check", m.Done, body=m.AddressCheckIn, rights=ANALYSE)
def check(workspace: Workspace, body: m.AddressCheckIn) -> m.Done:
    """Check addresses, as a job."""
    choice = m.JobChoice(**asdict(choice_of(body.choice)))
    job = m.AddressesJob(choice=choice, ask_hosts=body.ask_hosts, name="address check")
    with workspace.store.atomic() as db:
        kind = JobKind.ADDRESSES
        return m.Done(id=settings_table.add_job(db, kind, job.model_dump_json(), who(), workspace.now()))


@routes.route("POST", "/addresses/typos", m.TypedVerdicts, body=m.TypedIn, rights=ANALYSE)
def typed(workspace: Workspace, body: m.TypedIn) -> m.TypedVerdicts:
    """Verdicts for a few addresses, typed or pasted one a line."""
    lines = [t.strip() for t in address_checks.lines_of(body.text) if t.strip()]
    if not lines:
        raise Refused("Enter an address first.")
    if len(lines) > MOST_TYPED:
        raise Refused(f"These are {len(lines):,} addresses. Check more than {MOST_TYPED} as a file.")
    found = address_checks.check_typed(workspace, lines, ask_hosts=body.ask_hosts)
    return m.TypedVerdicts(verdicts=found)


@routes.route("POST", "/addresses/file", m.Done, upload=m.AddressFile, rights=ANALYSE)
def checked_file(workspace: Workspace, form: m.AddressFile) -> m.Done:
    """Check a list or a CSV with an email column (multipart field ``file``), as a job; its verdicts are a CSV."""
    file = file_given()
    folder = workspace.folder / "uploads"
    folder.mkdir(exist_ok=True)
    path = folder / f"addresses-{secrets.token_hex(6)}.csv"
    file.save(path)
    lines = sum(1 for t in address_checks.lines_of(path.read_bytes().decode("utf-8-sig", "replace")) if t.strip())
    if not lines:
        path.unlink()
        raise Refused(f"{_name_of(file)} has no addresses. Put one on each line, or in a column named email.")
    job = m.AddressFileJob(path=str(path), ask_hosts=form.ask_hosts, name=f"addresses of {_name_of(file)}")
    with workspace.store.atomic() as db:
        row_id = settings_table.add_job(db, JobKind.ADDRESS_FILE, job.model_dump_json(), who(), workspace.now())
    return m.Done(id=row_id, count=lines)


@routes.route("POST", "/jobs/<int:id>/pause", m.Done, rights=ANALYSE)
def pause(workspace: Workspace, row_id: int) -> m.Done:
    """Pause a job; what is done stays done."""
    return _paused(workspace, row_id, True)


@routes.route("POST", "/jobs/<int:id>/resume", m.Done, rights=ANALYSE)
def resume(workspace: Workspace, row_id: int) -> m.Done:
    """Let a paused job go on where it was."""
    return _paused(workspace, row_id, False)


def _paused(workspace: Workspace, row_id: int, paused: bool) -> m.Done:
    with workspace.store.atomic() as db:
        if not settings_table.pause_job(db, row_id, paused):
            raise Refused("This job is not running." if paused else "This job is not paused.")
    return m.Done(id=row_id)


@routes.route("POST", "/addresses/accept", m.ActionDone, body=m.AcceptIn, rights=ANALYSE)
def accept(workspace: Workspace, body: m.AcceptIn) -> m.ActionDone:
    """Change addresses to what was probably meant: of one mistyped domain, or all of them."""
    ids = None
    if body.typed:
        rows = address_table.suggested(workspace.store.read())
        ids = [r.subscriber for r in rows if r.email_key.endswith("@" + body.typed)]
    action, n = address_checks.take_suggestions(workspace, ids, who())
    return m.ActionDone(action=action, job=0, people=n)


@routes.route("PUT", "/addresses/required", m.AddressSummary, body=m.RequiredIn, rights=ANALYSE)
def required(workspace: Workspace, body: m.RequiredIn) -> m.AddressSummary:
    """Whether an address must be checked before its first mailing."""
    settings.change(workspace, {"require_address_check": body.required}, who(), g.user.id)
    return address_checks.summary(workspace)


def _said(f: bounce_intake.TakenMail) -> str:
    if f.reason:
        return f.reason
    if f.reports:
        return "; ".join(
            f"{r.org}: {r.messages:,} messages of {r.domain}, {r.aligned:,} aligned"
            + (" (reported before, not counted again)" if r.repeated else "")
            for r in f.reports
        )
    if f.repeated:
        return "Imported before; not counted again."
    return "; ".join(f"{r.address}: {r.class_ or 'unknown'}" for r in f.recipients) or "empty"
