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
from openmeadow.desk import addresses, health, placement, reports, settings, words
from openmeadow.desk.desk import Desk
from openmeadow.desk.marked import chosen
from openmeadow.store import addresses as address_table
from openmeadow.store import health as health_table
from openmeadow.store import reports as report_table
from openmeadow.store import senders as sender_table
from openmeadow.store import workspace
from openmeadow.store.providers import names as provider_names
from openmeadow.web import models as m
from openmeadow.web.api.subscribers import choice_of
from openmeadow.web.described import ANALYSE, WRITE, Described, file_given, who

MOST_TYPED = 200


def _name_of(file: FileStorage) -> str:
    return Path(file.filename or "").name


SOON = 120  # so many seconds the page looks again by itself for copies that were sent to test mailboxes


def register(api: Described, desk: Desk) -> None:
    @api.route("GET", "/health", m.HealthView, query=m.SenderQuery)
    def see(query: m.SenderQuery) -> m.HealthView:
        """Providers by day (query ``sender``: of one domain), what refusals say, the obligations, receivers' reports."""
        view, found, says = desk.view(), health.receivers(desk), health.own_figures(desk)
        domains, copies = sender_table.domains(desk.store.read()), health_table.waiting_copies(desk.store.read())
        return m.HealthView(
            now=view.now,
            days=health.DAYS,
            limits=health.LIMITS,
            senders=[m.NamedThing(id=d["id"], name=d["name"]) for d in domains],
            looking=any(d["checked_at"] is None for d in domains) or any(view.now - c["at"] < SOON for c in copies),
            providers=[
                m.ProviderDays(**p, says=m.OwnFigures(**says[p["name"]]) if p["name"] in says else None)
                for p in health.providers(desk, view, query.sender)
            ],
            refusals=[m.Refusals(kind=r.pop("class"), **r) for r in health.refusals(desk)],
            duties=[m.Duty(**d) for d in health.obligations(desk, view)],
            sources=[m.Source(**s) for s in found["sources"]],
            report_days=[m.ReportDay(**d) for d in found["days"]],
            reports=[m.AggregateLine(**r) for r in found["reports"]],
            tests=[m.PlacementTest(**t) for t in placement.results(desk)],
            boxes=len(placement.boxes(desk)),
            words=_words(),
        )

    def _words() -> m.Words:
        s = workspace.settings(desk.store.read())
        return m.Words(to=list(s["word_to"]), url=str(s["word_url"]), quiet_hours=str(s["quiet_hours"]))

    @api.route("POST", "/health/sources", m.Done, body=m.SourceIn, rights=ANALYSE)
    def name_source(body: m.SourceIn) -> m.Done:
        """Say who a source is, and whether it sends for us."""
        try:
            ipaddress.ip_address(body.ip)
        except ValueError:
            raise Refused(f"“{body.ip}” is not an address.") from None
        if not body.name.strip():
            raise Refused("Give the source a name, such as: the box office's printer.")
        with desk.store.atomic() as db:
            report_table.name_source(db, body.ip, body.name.strip(), body.ours, desk.now(), who())
            workspace.log(db, desk.now(), who(), "named source", f"{body.ip}: {body.name.strip()}")
        return m.Done()

    @api.route("POST", "/health/undo-bounces", m.Acted, body=m.UndoBouncesIn, rights=ANALYSE)
    def undo(body: m.UndoBouncesIn) -> m.Acted:
        """Undo all hard bounces of a provider between two moments."""
        if body.provider not in provider_names(desk.store.read()):
            raise Missing(f"There is no provider “{body.provider}”.")
        provider = provider_names(desk.store.read()).index(body.provider)
        deed, n = reports.undo_bounces(desk, provider, body.since, body.until, body.why, who())
        return m.Acted(deed=deed, job=0, people=n)

    @api.route("POST", "/health/reports", m.TakenReports, upload=m.JustFile, rights=ANALYSE)
    def bring_in(form: m.JustFile) -> m.TakenReports:
        """Take a file of reports (multipart field ``file``): .eml, mbox, aggregate XML, gzip, zip."""
        file = file_given()
        folder = desk.folder / "uploads"
        folder.mkdir(exist_ok=True)
        path = folder / f"report-{desk.now()}-{_name_of(file)[-60:]}"
        file.save(path)
        try:
            found = reports.take_file(desk, path)
        finally:
            path.unlink(missing_ok=True)
        return m.TakenReports(taken=[m.TakenReport(kind=f["kind"], sentence=_said(f)) for f in found])

    @api.route("POST", "/health/figures", m.TakenFigures, upload=m.JustFile, rights=ANALYSE)
    def own_figures(form: m.JustFile) -> m.TakenFigures:
        """Providers' own figures from a CSV (multipart field ``file``): date, provider, spam_rate, reputation."""
        file = file_given()
        n, refused = health.take_figures(desk, file.read().decode("utf-8-sig", "replace"), who())
        return m.TakenFigures(rows=n, refused=refused[:20])

    @api.route("PUT", "/health/words", m.Words, body=m.Words, rights=ANALYSE)
    def set_words(body: m.Words) -> m.Words:
        """Who gets word when nobody is looking, and when not."""
        values = {"word_to": body.to, "word_url": body.url.strip(), "quiet_hours": body.quiet_hours}
        settings.change(desk, values, who(), g.user.id)
        return _words()

    @api.route("POST", "/health/words/test", m.Done, rights=ANALYSE)
    def test_word() -> m.Done:
        """Send a word now, to see that it arrives."""
        sentence = f"This is a test from {desk.setting('name')}: word arrives."
        return m.Done(count=words.send(desk, sentence, str(desk.setting("public_url"))))

    @api.route("POST", "/campaigns/<int:id>/placement", m.Done, rights=WRITE)
    def place(id: int) -> m.Done:
        """Send copies to the test mailboxes; where they land shows within minutes."""
        return m.Done(id=id, count=placement.start(desk, id, who())[1])

    @api.route("GET", "/returned/<int:id>", "message/rfc822")
    def raw_mail(id: int) -> Response:
        """A message that came back, as it came."""
        row = report_table.mail(desk.store.read(), id)
        if row is None:
            raise Missing("This message is not there any more.")
        if not row["raw"]:
            days = desk.setting("raw_mail_kept_days")
            raise Missing(f"Its raw text was removed after {days} days; what it said is kept.")
        headers = {"Content-Disposition": f"attachment; filename=returned-{id}.eml"}
        return Response(row["raw"], mimetype="message/rfc822", headers=headers)

    @api.route("GET", "/addresses", m.AddressSummary)
    def summary() -> m.AddressSummary:
        """Everybody by verdict, the reasons, the slips."""
        return m.AddressSummary(**addresses.summary(desk))

    def _ids(body: m.AddressCheckIn) -> list[int]:
        view = desk.view()
        mask = chosen(desk, view, choice_of(body.choice))
        ids: list[int] = view.columns.people.id[np.flatnonzero(mask)].tolist()
        return ids

    @api.route("POST", "/addresses/cost", m.AddressCost, body=m.AddressCheckIn)
    def cost(body: m.AddressCheckIn) -> m.AddressCost:
        """What a check would ask, and how long that takes."""
        return m.AddressCost(**addresses.cost(desk, _ids(body), ask_hosts=body.ask_hosts))

    @api.route("POST", "/addresses/check", m.Done, body=m.AddressCheckIn, rights=ANALYSE)
    def check(body: m.AddressCheckIn) -> m.Done:
        """Check addresses, as a job."""
        with desk.store.atomic() as db:
            arguments = {"choice": asdict(choice_of(body.choice)), "ask_hosts": body.ask_hosts, "name": "address check"}
            return m.Done(id=workspace.add_job(db, "addresses", arguments, who(), desk.now()))

    @api.route("POST", "/addresses/typed", m.TypedVerdicts, body=m.TypedIn, rights=ANALYSE)
    def typed(body: m.TypedIn) -> m.TypedVerdicts:
        """Verdicts for a few addresses, typed or pasted one a line."""
        lines = [t.strip() for t in addresses.lines_of(body.text) if t.strip()]
        if not lines:
            raise Refused("Type an address first.")
        if len(lines) > MOST_TYPED:
            raise Refused(f"These are {len(lines):,} addresses; more than {MOST_TYPED} are checked as a file.")
        found = addresses.check_typed(desk, lines, ask_hosts=body.ask_hosts)
        return m.TypedVerdicts(verdicts=[m.TypedVerdict(**v) for v in found])

    @api.route("POST", "/addresses/file", m.Done, upload=m.AddressFile, rights=ANALYSE)
    def checked_file(form: m.AddressFile) -> m.Done:
        """Check a list or a CSV with an email column (multipart field ``file``), as a job; its verdicts are a CSV."""
        file = file_given()
        folder = desk.folder / "uploads"
        folder.mkdir(exist_ok=True)
        path = folder / f"addresses-{secrets.token_hex(6)}.csv"
        file.save(path)
        lines = sum(1 for t in addresses.lines_of(path.read_bytes().decode("utf-8-sig", "replace")) if t.strip())
        if not lines:
            path.unlink()
            raise Refused(f"There is no address in {_name_of(file)}: one a line, or a column called email.")
        with desk.store.atomic() as db:
            arguments = {"path": str(path), "ask_hosts": form.ask_hosts, "name": f"addresses of {_name_of(file)}"}
            return m.Done(id=workspace.add_job(db, "address file", arguments, who(), desk.now()), count=lines)

    @api.route("POST", "/jobs/<int:id>/pause", m.Done, rights=ANALYSE)
    def pause(id: int) -> m.Done:
        """Pause a job; what is done stays done."""
        return _paused(id, True)

    @api.route("POST", "/jobs/<int:id>/go-on", m.Done, rights=ANALYSE)
    def go_on(id: int) -> m.Done:
        """Let a paused job go on where it was."""
        return _paused(id, False)

    def _paused(id: int, paused: bool) -> m.Done:
        with desk.store.atomic() as db:
            if not workspace.pause_job(db, id, paused):
                raise Refused("This job is not under way." if paused else "This job is not paused.")
        return m.Done(id=id)

    @api.route("POST", "/addresses/accept", m.Acted, body=m.AcceptIn, rights=ANALYSE)
    def accept(body: m.AcceptIn) -> m.Acted:
        """Change addresses to what was probably meant: of one mistyped domain, or all of them."""
        ids = None
        if body.typed:
            rows = address_table.suggested(desk.store.read())
            ids = [r["subscriber"] for r in rows if r["email_key"].endswith("@" + body.typed)]
        deed, n = addresses.take_suggestions(desk, ids, who())
        return m.Acted(deed=deed, job=0, people=n)

    @api.route("PUT", "/addresses/required", m.AddressSummary, body=m.RequiredIn, rights=ANALYSE)
    def required(body: m.RequiredIn) -> m.AddressSummary:
        """Whether an address must be checked before its first mailing."""
        settings.change(desk, {"require_checked": body.required}, who(), g.user.id)
        return m.AddressSummary(**addresses.summary(desk))


def _said(f: dict[str, object]) -> str:
    recipients, found = f.get("recipients") or [], f.get("reports") or []
    if f.get("reason"):
        return str(f["reason"])
    if found:
        flat = [r for x in found for r in (x if isinstance(x, list) else [x])]  # type: ignore[attr-defined]
        return "; ".join(
            f"{r['org']}: {r['messages']:,} messages of {r['domain']}, {r['aligned']:,} aligned" for r in flat
        )
    return "; ".join(f"{r['address']}: {r['class']}" for r in recipients) or "nothing in it"  # type: ignore[attr-defined]
