"""Consent: purposes, forms, the evidence, the suppression list."""

from __future__ import annotations

from typing import cast
from urllib.parse import quote

from flask import Response

from openmeadow.core.consent.sunset import Agreement
from openmeadow.core.ids import CampaignId, PurposeId, SubscriberId
from openmeadow.services.campaigns import why_not as why_not_sent
from openmeadow.services.subscribers import consent, evidence_check, reconsent, signup, sunset
from openmeadow.services.subscribers.engagement_map import Replays
from openmeadow.services.workspace import Workspace
from openmeadow.store.subscribers import consent as table
from openmeadow.web import schemas as m
from openmeadow.web.public.signup import snippet
from openmeadow.web.router import ANALYSE, Routes, who

routes = Routes()


@routes.route("GET", "/consent", m.ConsentView)
def see(workspace: Workspace) -> m.ConsentView:
    """Purposes with how people stand to them, and forms with their counts."""
    (lines, bursts), base = signup.every(workspace), str(workspace.setting("public_url"))
    purposes = consent.purposes(workspace)
    forms = []
    for f in lines:
        shown = [
            signup.OfferedPurpose(PurposeId(p.id), p.name, p.text, p.wording_id) for p in purposes if p.id in f.purposes
        ]
        as_page = signup.FormPage(f.id, f.list_name, f.intro, f.ask_name, f.confirm, shown, "")
        address = f"{base}/join/{quote(f.list_name)}"
        forms.append(m.SignUpForm(**dict(f), address=address, snippet=snippet(base, as_page)))
    return m.ConsentView(
        purposes=purposes,
        bases=list(consent.BASES),
        forms=forms,
        bursts=bursts,
        sources=table.sources(workspace.store.read()),
    )


@routes.route("GET", "/consent/record", m.EvidenceSeen)
def chain(workspace: Workspace) -> m.EvidenceSeen:
    """Goes through the whole chain of evidence."""
    return evidence_check.see(workspace)


@routes.route("POST", "/purposes", m.Done, body=m.PurposeIn, rights=ANALYSE)
def add(workspace: Workspace, body: m.PurposeIn) -> m.Done:
    """Make a purpose."""
    return m.Done(
        id=consent.write_purpose(workspace, None, cast(m.PurposeChanges, body.model_dump(exclude_none=True)), who())
    )


@routes.route("PATCH", "/purposes/<int:id>", m.Done, body=m.PurposeIn, rights=ANALYSE)
def change(workspace: Workspace, row_id: PurposeId, body: m.PurposeIn) -> m.Done:
    """Change a purpose; a wording somebody agreed to gets a new version."""
    return m.Done(
        id=consent.write_purpose(workspace, row_id, cast(m.PurposeChanges, body.model_dump(exclude_none=True)), who())
    )


@routes.route("PUT", "/forms", m.Done, body=m.FormIn, rights=ANALYSE)
def form(workspace: Workspace, body: m.FormIn) -> m.Done:
    """Make or change the sign-up form of a list."""
    return m.Done(id=signup.write_form(workspace, body, who()))


@routes.route("GET", "/purposes/<int:id>/wordings", m.Wordings)
def wordings(workspace: Workspace, row_id: PurposeId) -> m.Wordings:
    """Every version of a purpose's wording, with how many people said yes to it."""
    return m.Wordings(wordings=consent.wordings(workspace, row_id))


@routes.route("GET", "/suppressions", m.SuppressionList, query=m.SuppressionQuery)
def suppressions(workspace: Workspace, query: m.SuppressionQuery) -> m.SuppressionList:
    """The suppression list, the newest first (query ``offset``; ``reason`` for one reason only)."""
    return consent.suppression_list(workspace, query.offset, reason=query.reason)


@routes.route("GET", "/suppressions.csv", "text/csv")
def suppressions_csv(workspace: Workspace) -> Response:
    """The whole suppression list as a CSV that an import reads."""
    headers = {"Content-Disposition": "attachment; filename=suppressions.csv"}
    return Response(consent.suppressions_csv(workspace, who()), mimetype="text/csv", headers=headers)


@routes.route("POST", "/suppressions/remove", m.ActionDone, body=m.LiftIn, rights=ANALYSE)
def lift(workspace: Workspace, body: m.LiftIn) -> m.ActionDone:
    """Lift a suppression by hand, with a reason."""
    return m.ActionDone(action=consent.lift(workspace, body.subscriber, body.reason, body.why, who()), job=0, people=1)


@routes.route("POST", "/subscribers/<int:id>/consent", m.Done, body=m.AlertsIn, rights=ANALYSE)
def word(workspace: Workspace, row_id: SubscriberId, body: m.AlertsIn) -> m.Done:
    """Write down what somebody said in person."""
    consent.by_hand(workspace, row_id, body.purpose, body.state, body.reason, who())
    return m.Done(id=row_id)


@routes.route("GET", "/consent/record.csv", "text/csv")
def evidence(workspace: Workspace) -> Response:
    """The whole evidence as a CSV."""
    path = workspace.folder / "exports" / f"evidence-{workspace.now()}.csv"
    path.parent.mkdir(exist_ok=True)
    consent.export(workspace, path, None, who())
    headers = {"Content-Disposition": "attachment; filename=consent-record.csv"}
    return Response(path.read_bytes(), mimetype="text/csv", headers=headers)


@routes.route("GET", "/subscribers/<int:id>/consent-record.csv", "text/csv")
def evidence_of_one(workspace: Workspace, row_id: SubscriberId) -> Response:
    """One person's evidence as a CSV."""
    path = workspace.folder / "exports" / f"evidence-{row_id}-{workspace.now()}.csv"
    path.parent.mkdir(exist_ok=True)
    consent.export(workspace, path, row_id, who())
    headers = {"Content-Disposition": f"attachment; filename=consent-record-{row_id}.csv"}
    return Response(path.read_bytes(), mimetype="text/csv", headers=headers)


@routes.route("POST", "/consent-requests/preview", m.ConsentRequest, body=m.ConsentRequestIn)
def look(workspace: Workspace, body: m.ConsentRequestIn) -> m.ConsentRequest:
    """Whom a consent request would reach, and why not the others."""
    return reconsent.look(workspace, body.purposes, body.none, body.older_days, body.sources)


@routes.route("POST", "/consent-requests", m.Done, body=m.ConsentRequestIn, rights=ANALYSE)
def ask(workspace: Workspace, body: m.ConsentRequestIn) -> m.Done:
    """The ready campaign that asks again, as a draft; its id."""
    return m.Done(id=reconsent.ready(workspace, **body.model_dump(), who=who()))


@routes.route("GET", "/consent-requests", m.ConsentRequests)
def requests(workspace: Workspace) -> m.ConsentRequests:
    """Consent requests that were started, and what came of them."""
    return m.ConsentRequests(requests=reconsent.requests(workspace))


@routes.route("GET", "/sunset-policy", m.SunsetView, query=m.SunsetQuery)
def clean(workspace: Workspace, query: m.SunsetQuery) -> m.SunsetView:
    """The standing agreement, this week's people, what happens to whom and when. ``rough``: what it saves is an estimate
    where there are many people and all is not replayed yet."""
    return sunset.see(workspace, workspace.part(Replays), rough=query.rough)


@routes.route("PUT", "/sunset-policy", m.SunsetView, body=m.SunsetIn, rights=ANALYSE)
def agree(workspace: Workspace, body: m.SunsetIn) -> m.SunsetView:
    """Write the agreement down."""
    made = Agreement(**body.model_dump(exclude={"purpose"}))
    sunset.agree(workspace, made, body.purpose, who())
    return sunset.see(workspace, workspace.part(Replays), rough=True)


@routes.route("POST", "/sunset-policy/trial", m.SunsetView, body=m.SunsetIn)
def try_policy(workspace: Workspace, body: m.SunsetIn) -> m.SunsetView:
    """Whom a policy would concern and what it would save; nothing is kept."""
    wish = Agreement(**body.model_dump(exclude={"purpose"}))
    return sunset.see(workspace, workspace.part(Replays), wish, rough=True)


@routes.route("POST", "/sunset-policy/run", m.SunsetDone, rights=ANALYSE)
def run(workspace: Workspace) -> m.SunsetDone:
    """Do what is due this week."""
    done = sunset.run(workspace, who())
    return m.SunsetDone(action=done.pop("action"), counts=done)


@routes.route("GET", "/campaigns/<int:id>/why-not", m.WhyNot, query=m.EmailQuery)
def why_not(workspace: Workspace, row_id: CampaignId, query: m.EmailQuery) -> m.WhyNot:
    """Why an address (query ``email``) will not get a campaign."""
    return why_not_sent.why_not(workspace, query.email, row_id)
