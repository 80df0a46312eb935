"""Consent: purposes, forms, the evidence, the suppression list."""

from __future__ import annotations

from typing import Any
from urllib.parse import quote

from flask import Response

from openmeadow.desk import asking, clean_up, consent, joining
from openmeadow.desk.cutoff import Replays
from openmeadow.desk.desk import Desk
from openmeadow.store import consent as table
from openmeadow.web import models as m
from openmeadow.web.described import ANALYSE, Described, who
from openmeadow.web.public.forms import snippet


def _named(form: dict[str, Any]) -> dict[str, Any]:
    return {("list_name" if k == "list" else k): v for k, v in form.items()}


def register(api: Described, desk: Desk) -> None:
    replays = Replays(desk)

    @api.route("GET", "/consent", m.ConsentView)
    def see() -> m.ConsentView:
        """Purposes with how people stand to them, and forms with their counts."""
        found, base = joining.every(desk), str(desk.setting("public_url"))
        purposes = consent.purposes(desk)
        forms = []
        for f in found["forms"]:
            shown = [p for p in purposes if p["id"] in f["purposes"]]
            address = f"{base}/join/{quote(f['list'])}"
            forms.append(m.SignUpForm(**_named(f), address=address, snippet=snippet(base, {**f, "purposes": shown})))
        return m.ConsentView(
            purposes=[m.Purpose(**p) for p in purposes],
            bases=list(consent.BASES),
            forms=forms,
            bursts=[m.Burst(**b) for b in found["bursts"]],
            sources=table.sources(desk.store.read()),
        )

    @api.route("GET", "/consent/evidence", m.Evidence)
    def chain() -> m.Evidence:
        """Goes through the whole chain of evidence."""
        return m.Evidence(**consent.check_evidence(desk))

    @api.route("POST", "/purposes", m.Done, body=m.PurposeIn, rights=ANALYSE)
    def add(body: m.PurposeIn) -> m.Done:
        """Make a purpose."""
        return m.Done(id=consent.write_purpose(desk, None, body.model_dump(exclude_none=True), who()))

    @api.route("PATCH", "/purposes/<int:id>", m.Done, body=m.PurposeIn, rights=ANALYSE)
    def change(id: int, body: m.PurposeIn) -> m.Done:
        """Change a purpose; a wording somebody agreed to gets a new version."""
        return m.Done(id=consent.write_purpose(desk, id, body.model_dump(exclude_none=True), who()))

    @api.route("PUT", "/forms", m.Done, body=m.FormIn, rights=ANALYSE)
    def form(body: m.FormIn) -> m.Done:
        """Make or change the sign-up form of a list."""
        return m.Done(id=joining.write_form(desk, body.list_name, body.model_dump(exclude={"list_name"}), who()))

    @api.route("GET", "/purposes/<int:id>/wordings", m.Wordings)
    def wordings(id: int) -> m.Wordings:
        """Every version of a purpose's wording, with how many people said yes to it."""
        return m.Wordings(wordings=[m.WordingLine(**w) for w in consent.wordings(desk, id)])

    @api.route("GET", "/suppressions", m.SuppressionList, query=m.SuppressionQuery)
    def suppressions(query: m.SuppressionQuery) -> m.SuppressionList:
        """The suppression list, the newest first (query ``offset``; ``reason`` for one reason only)."""
        return m.SuppressionList(**consent.suppression_list(desk, query.offset, reason=query.reason))

    @api.route("GET", "/suppressions.csv", "text/csv")
    def suppressions_csv() -> Response:
        """The whole suppression list as a CSV that an import reads."""
        headers = {"Content-Disposition": "attachment; filename=suppressions.csv"}
        return Response(consent.suppressions_csv(desk, who()), mimetype="text/csv", headers=headers)

    @api.route("POST", "/suppressions/lift", m.Acted, body=m.LiftIn, rights=ANALYSE)
    def lift(body: m.LiftIn) -> m.Acted:
        """Lift a suppression by hand, with a reason."""
        return m.Acted(deed=consent.lift(desk, body.subscriber, body.reason, body.why, who()), job=0, people=1)

    @api.route("POST", "/subscribers/<int:id>/consent", m.Done, body=m.WordIn, rights=ANALYSE)
    def word(id: int, body: m.WordIn) -> m.Done:
        """Write down what somebody said in person."""
        consent.by_hand(desk, id, body.purpose, body.state, body.reason, who())
        return m.Done(id=id)

    @api.route("GET", "/consent/evidence.csv", "text/csv")
    def evidence() -> Response:
        """The whole evidence as a CSV."""
        path = desk.folder / "exports" / f"evidence-{desk.now()}.csv"
        path.parent.mkdir(exist_ok=True)
        consent.export(desk, path, None, who())
        headers = {"Content-Disposition": "attachment; filename=consent.csv"}
        return Response(path.read_bytes(), mimetype="text/csv", headers=headers)

    @api.route("GET", "/subscribers/<int:id>/evidence.csv", "text/csv")
    def evidence_of_one(id: int) -> Response:
        """One person's evidence as a CSV."""
        path = desk.folder / "exports" / f"evidence-{id}-{desk.now()}.csv"
        path.parent.mkdir(exist_ok=True)
        consent.export(desk, path, id, who())
        headers = {"Content-Disposition": f"attachment; filename=consent-{id}.csv"}
        return Response(path.read_bytes(), mimetype="text/csv", headers=headers)

    @api.route("POST", "/consent/ask-again/look", m.AskAgain, body=m.AskAgainIn)
    def look(body: m.AskAgainIn) -> m.AskAgain:
        """Whom a consent request would reach, and why not the others."""
        return m.AskAgain(**asking.look(desk, body.purposes, body.none, body.older_days, body.sources))

    @api.route("POST", "/consent/ask-again", m.Done, body=m.AskAgainIn, rights=ANALYSE)
    def ask(body: m.AskAgainIn) -> m.Done:
        """The ready campaign that asks again, as a draft; its id."""
        return m.Done(id=asking.ready(desk, **body.model_dump(), who=who()))

    @api.route("GET", "/consent/requests", m.Requests)
    def requests() -> m.Requests:
        """Consent requests that were started, and what came of them."""
        return m.Requests(requests=[m.RequestLine(**r) for r in asking.requests(desk)])

    @api.route("GET", "/clean-up", m.CleanUp)
    def clean() -> m.CleanUp:
        """The standing agreement, this week's people, what happens to whom and when."""
        return m.CleanUp(**clean_up.see(desk, replays))

    @api.route("PUT", "/clean-up", m.CleanUp, body=m.CleanUpIn, rights=ANALYSE)
    def agree(body: m.CleanUpIn) -> m.CleanUp:
        """Write the agreement down."""
        clean_up.agree(desk, body.model_dump(exclude={"purpose"}), body.purpose, who())
        return m.CleanUp(**clean_up.see(desk, replays))

    @api.route("POST", "/clean-up/run", m.CleanUpDone, rights=ANALYSE)
    def run() -> m.CleanUpDone:
        """Do what is due this week."""
        done = clean_up.run(desk, who())
        return m.CleanUpDone(deed=done.pop("deed"), counts=done)

    @api.route("GET", "/campaigns/<int:id>/why-not", m.WhyNot, query=m.EmailQuery)
    def why_not(id: int, query: m.EmailQuery) -> m.WhyNot:
        """Why an address (query ``email``) will not get a campaign."""
        return m.WhyNot(**consent.why_not(desk, query.email, id))
