"""Campaigns: message, recipients, checks, plan, results."""

from __future__ import annotations

import json
import sqlite3
from typing import cast

import numpy as np
from flask import Response

from openmeadow.core.engagement.bands import BANDS
from openmeadow.core.ids import BatchId, CampaignId
from openmeadow.core.message.personalisation import links
from openmeadow.services.campaigns import (
    ab_test,
    approval,
    batch_export,
    benchmarks,
    campaign_list,
    clicked_links,
    expected,
    external_sending,
    preflight,
    preflight_passed,
    preflight_recipients,
    recipients,
    response_capacity,
    results,
    results_breakdown,
    schedule,
    undo_start,
)
from openmeadow.services.campaigns import campaigns as campaigns_service
from openmeadow.services.campaigns import guardrails as guardrails_service
from openmeadow.services.workspace import Workspace
from openmeadow.store.campaigns import campaigns as table
from openmeadow.store.campaigns import content, unconfirmed
from openmeadow.store.health.providers import by_people
from openmeadow.store.health.providers import names as provider_names
from openmeadow.store.segments.permission_facts import StoreFacts
from openmeadow.store.sequences import sequences
from openmeadow.store.subscribers import selections, subscribers
from openmeadow.store.subscribers.similarity import zones
from openmeadow.web import schemas as m
from openmeadow.web.router import ANALYSE, WRITE, Routes, given, who

CHOSEN_SHOWN = 200


routes = Routes()


def _versions(db: sqlite3.Connection, row_id: CampaignId) -> list[m.Version]:
    return [
        m.Version(
            letter=ab_test.letter(v.n),
            n=v.n,
            at=v.at,
            who=v.who,
            subject=v.subject,
            preview=v.preview,
            html=v.html,
            plain=v.plain,
            sent=v.sent,
        )
        for v in content.versions(db, row_id)
    ]


def model(workspace: Workspace, row_id: CampaignId) -> m.Campaign:
    """A campaign as its pages show it."""
    row, db = campaigns_service.row_of(workspace, row_id), workspace.store.read()
    chosen = None if row.state == "draft" else [*row.lists_in, *row.lists_out]  # of the others nobody asks any more
    sequence = sequences.one(db, row.sequence) if row.sequence else None
    return m.Campaign(
        id=row_id,
        name=row.name,
        kind=row.kind,
        asks=row.asks,
        chosen_people=len(table.people(db, row_id, "in")),
        state=row.state,
        external=bool(row.external),
        message_name=external_sending.message_name(workspace, row) if row.external else "",
        purpose=row.purpose,
        purpose_name=row.purpose_name or "",
        from_address=row.from_address,
        from_text=row.from_text or "",
        from_name=row.from_name,
        reply_to=row.reply_to,
        subject=row.subject,
        preview=row.preview,
        html=row.html,
        plain=row.plain,
        plain_edited=bool(row.plain_edited),
        blocks=json.loads(row.blocks) if row.blocks else None,
        segments_in=row.segments_in,
        segments_out=row.segments_out,
        lists_in=row.lists_in,
        lists_out=row.lists_out,
        lists=[m.Exclusion(words=n, count=c) for n, c in selections.list_sizes(db, chosen)],
        chosen=[m.ChosenPerson.read_from(p) for p in table.chosen_people(db, row_id, CHOSEN_SHOWN)],
        with_sequences=bool(row.with_sequences),
        track_opens=bool(row.track_opens),
        track_clicks=bool(row.track_clicks),
        plan=row.plan,
        versions=_versions(db, row_id),
        version=ab_test.letter(row.version),
        approval=approval.state(workspace, row),
        checks=preflight.checks(workspace, row) if row.state == "draft" else [],
        purposes=[m.NamedThing(id=p.id, name=p.name) for p in subscribers.names(db, "purposes")],
        fields=sorted(preflight.known_fields(workspace, row)),
        links=links(row.html, row.plain),
        unconfirmed=unconfirmed.count(db, row_id),
        sequence=m.NamedThing(id=sequence.id, name=sequence.name) if sequence is not None else None,
        untouched=undo_start.may_undo(workspace, row),
        at_start=[m.Exclusion(words=w, count=n) for w, n in row.exclusions],
        overrides=[
            m.Override(check=o.name, finding=o.finding, reason=o.reason, who=o.who)
            for o in content.overrides(db, row_id).values()
        ],
    )


@routes.route("GET", "/campaigns", m.CampaignLines)
def every(workspace: Workspace) -> m.CampaignLines:
    """All campaigns, the latest first."""
    return m.CampaignLines(campaigns=campaign_list.lines(workspace))


@routes.route("POST", "/campaigns/<int:id>/archive", m.Done, body=m.ArchiveIn, rights=WRITE)
def archive(workspace: Workspace, row_id: int, body: m.ArchiveIn) -> m.Done:
    """Put a campaign away, or back into the list."""
    campaign_list.archive(workspace, CampaignId(row_id), who(), away=body.archived)
    return m.Done(id=row_id)


@routes.route("POST", "/campaigns", m.Campaign, body=m.CampaignBegin, rights=WRITE)
def add(workspace: Workspace, body: m.CampaignBegin) -> m.Campaign:
    """Begin a campaign, empty or from a template or another campaign."""
    return model(
        workspace,
        CampaignId(campaigns_service.add(workspace, body.name, who(), template=body.template, other=body.campaign)),
    )


@routes.route("GET", "/campaigns/<int:id>", m.Campaign)
def see(workspace: Workspace, row_id: CampaignId) -> m.Campaign:
    """A campaign: what it says, to whom, its checks."""
    return model(workspace, row_id)


@routes.route("PUT", "/campaigns/<int:id>", m.Campaign, body=m.CampaignIn, rights=WRITE)
def write(workspace: Workspace, row_id: CampaignId, body: m.CampaignIn) -> m.Campaign:
    """Change a draft; only what is given changes."""
    values = cast(m.CampaignChanges, given(body, empty=("purpose", "from_address", "blocks")))
    if body.plan is not None:  # what is given of a campaign changes; what it is made of is whole
        whole = body.plan.model_dump()
        values["plan"] |= {part: whole[part] for part in ("variants", "test") if part in values["plan"]}
    campaigns_service.write(workspace, row_id, values)
    return model(workspace, row_id)


@routes.route("DELETE", "/campaigns/<int:id>", m.Done, rights=WRITE)
def remove(workspace: Workspace, row_id: int) -> m.Done:
    """Delete a draft."""
    campaign_list.delete(workspace, CampaignId(row_id), who())
    return m.Done(id=row_id)


@routes.route("GET", "/campaigns/<int:id>/recipients", m.RecipientsView)
def whom(workspace: Workspace, row_id: int) -> m.RecipientsView:
    """Whom it would go to now, and why not the others."""
    row = campaigns_service.row_of(workspace, row_id)
    r = recipients.work_out(workspace, row)
    assert isinstance(r.view.facts, StoreFacts)
    names, zone = zones(r.view.facts)
    providers = provider_names(workspace.store.read())
    by_provider = np.bincount(r.view.facts.provider[r.index], minlength=len(providers))
    return m.RecipientsView(
        exclusions=[m.Exclusion(words=w, count=n) for w, n in r.exclusions],
        count=len(r.index),
        expected=expected.told(r.view.scores.chance[r.index], expected.level(workspace, row.purpose)),
        bands=np.bincount(r.view.scores.band[r.index], minlength=len(BANDS)).tolist(),
        providers=[m.Exclusion(words=providers[i], count=int(by_provider[i])) for i in by_people(providers, by_provider)],
        zones=[
            m.Exclusion(words=n or "not known", count=int(c))
            for n, c in zip(names, np.bincount(zone[r.index], minlength=len(names)), strict=True)
        ],
    )


@routes.route("GET", "/campaigns/<int:id>/excluded", m.Excluded, query=m.ReasonQuery)
def excluded(workspace: Workspace, row_id: int, query: m.ReasonQuery) -> m.Excluded:
    """Who fell out by one reason (query ``reason``, as the exclusions words it): how many, and the first of them."""
    r = recipients.work_out(workspace, campaigns_service.row_of(workspace, row_id))
    mask = r.excluded.get(query.reason)
    ids = [] if mask is None else r.view.columns.people.id[np.flatnonzero(mask)].tolist()
    rows = subscribers.by_ids(workspace.store.read(), ids[:CHOSEN_SHOWN])
    return m.Excluded(count=len(ids), people=[m.NamedThing(id=i, name=rows[i].email) for i in rows])


@routes.route("GET", "/campaigns/<int:id>/excluded.csv", "text/csv", query=m.ReasonQuery)
def excluded_file(workspace: Workspace, row_id: int, query: m.ReasonQuery) -> Response:
    """Everybody who fell out by one reason, as a file."""
    text = recipients.excluded_csv(workspace, campaigns_service.row_of(workspace, row_id), query.reason)
    headers = {"Content-Disposition": f"attachment; filename=campaign-{row_id}-excluded.csv"}
    return Response(text, mimetype="text/csv", headers=headers)


@routes.route("PUT", "/campaigns/<int:id>/people", m.Campaign, body=m.ChooseIn, rights=WRITE)
def choose(workspace: Workspace, row_id: CampaignId, body: m.ChooseIn) -> m.Campaign:
    """Take one person in by their address, leave them out, or forget them again (side "")."""
    campaigns_service.choose(workspace, row_id, body.email, body.side)
    return model(workspace, row_id)


@routes.route("GET", "/campaigns/<int:id>/checks", m.Checks)
def checked(workspace: Workspace, row_id: int) -> m.Checks:
    """Every pre-send check, those of the recipients too, and what is in order."""
    row = campaigns_service.row_of(workspace, row_id)
    found = preflight_recipients.thorough(workspace, row)
    return m.Checks(checks=found, passed=preflight_passed.passed(workspace, row, found))


@routes.route("POST", "/campaigns/<int:id>/links", m.Done, rights=WRITE)
def ask_links(workspace: Workspace, row_id: int) -> m.Done:
    """Ask every link of the message whether it answers."""
    return m.Done(id=row_id, count=preflight.ask_links(workspace, campaigns_service.row_of(workspace, row_id)))


@routes.route("POST", "/campaigns/<int:id>/override", m.Done, body=m.OverrideIn, rights=ANALYSE)
def override(workspace: Workspace, row_id: int, body: m.OverrideIn) -> m.Done:
    """Set a stop aside with a written reason; an empty reason takes that back."""
    row = campaigns_service.row_of(workspace, row_id)
    preflight_recipients.override(workspace, row, body.check, body.finding, body.reason, who())
    return m.Done(id=row_id)


@routes.route("GET", "/campaigns/<int:id>/schedule", m.PlanView)
def plan(workspace: Workspace, row_id: int) -> m.PlanView:
    """The batches as they would be, started now."""
    return schedule.preview_plan(workspace, campaigns_service.row_of(workspace, row_id))


@routes.route("POST", "/campaigns/<int:id>/change", m.Changed, body=m.ChangeIn, rights=ANALYSE)
def change(workspace: Workspace, row_id: int, body: m.ChangeIn) -> m.Changed:
    """Another version for everybody who still waits; ``only_show`` says what it would be."""
    row = campaigns_service.row_of(workspace, row_id)
    return ab_test.change(workspace, row, body, who())


@routes.route("PUT", "/campaigns/<int:id>/other-version", m.Campaign, body=m.ChangeIn, rights=WRITE)
def other_version(workspace: Workspace, row_id: CampaignId, body: m.ChangeIn) -> m.Campaign:
    """The version to try against the first, at random in the pilot batch; ``forget`` drops it."""
    ab_test.keep_other(workspace, campaigns_service.row_of(workspace, row_id), body, who())
    return model(workspace, row_id)


@routes.route("POST", "/campaigns/<int:id>/use", m.Done, body=m.UseIn, rights=ANALYSE)
def use_version(workspace: Workspace, row_id: int, body: m.UseIn) -> m.Done:
    """Use one of the versions for everybody who still waits."""
    ab_test.use(workspace, campaigns_service.row_of(workspace, row_id), body.n, who(), body.why or "chosen manually")
    return m.Done(id=row_id)


@routes.route("POST", "/campaigns/<int:id>/batches/<int:batch>/move", m.Done, body=m.MoveIn, rights=ANALYSE)
def move(workspace: Workspace, row_id: CampaignId, batch: BatchId, body: m.MoveIn) -> m.Done:
    """Another moment for a batch that still waits; the answer's count is the moment it got."""
    return m.Done(id=batch, count=campaigns_service.move(workspace, row_id, batch, body.due_at, who()))


@routes.route("POST", "/campaigns/<int:id>/request-approval", m.Done, rights=WRITE)
def ask_approval(workspace: Workspace, row_id: int) -> m.Done:
    """Say that the draft is ready for somebody else's eyes."""
    approval.ask(workspace, campaigns_service.row_of(workspace, row_id), who())
    return m.Done(id=row_id)


@routes.route("POST", "/campaigns/<int:id>/approve", m.Done, rights=ANALYSE)
def approve(workspace: Workspace, row_id: int) -> m.Done:
    """Approve the draft as it stands."""
    approval.approve(workspace, campaigns_service.row_of(workspace, row_id), who())
    return m.Done(id=row_id)


@routes.route("GET", "/campaigns/capacity", m.BatchThatFits, query=m.CapacityQuery)
def capacity_of(workspace: Workspace, query: m.CapacityQuery) -> m.BatchThatFits:
    """How large a batch may be (query ``an_hour``, ``one_in``, ``what``: clicks, replies, bookings)."""
    return response_capacity.fits(workspace, query.an_hour, query.one_in, query.what)


@routes.route("GET", "/campaigns/<int:id>/plan.ics", "text/calendar")
def ics(workspace: Workspace, row_id: int) -> Response:
    """The plan as iCalendar."""
    found = batch_export.plan_ics(workspace, campaigns_service.row_of(workspace, row_id))
    headers = {"Content-Disposition": f"attachment; filename=plan-{row_id}.ics"}
    return Response(found, mimetype="text/calendar", headers=headers)


@routes.route("POST", "/campaigns/<int:id>/test", m.Done, body=m.TestTo, rights=WRITE)
def test(workspace: Workspace, row_id: int, body: m.TestTo) -> m.Done:
    """Send one copy as a chosen person would get it, marked as a test and never counted; the number of its source."""
    return m.Done(id=campaigns_service.test_message(workspace, row_id, body.to, who(), body.subscriber))


@routes.route("POST", "/campaigns/<int:id>/start", m.Done, rights=ANALYSE)
def start(workspace: Workspace, row_id: CampaignId) -> m.Done:
    """Draw the batches and let the plan run."""
    return m.Done(id=row_id, count=campaigns_service.start(workspace, row_id, who()).people)


@routes.route("POST", "/campaigns/<int:id>/undo-start", m.Done, rights=ANALYSE)
def take_start_back(workspace: Workspace, row_id: int) -> m.Done:
    """Make a draft of it again, as long as nothing has gone out."""
    undo_start.undo_start(workspace, CampaignId(row_id), who())
    return m.Done(id=row_id)


@routes.route("POST", "/campaigns/<int:id>/start-external", m.Done, rights=ANALYSE)
def start_external(workspace: Workspace, row_id: CampaignId) -> m.Done:
    """Draw the batches for another program to send; its event log tells what came of them."""
    return m.Done(id=row_id, count=external_sending.start(workspace, row_id, who()).people)


@routes.route("PUT", "/campaigns/<int:id>/message-name", m.Done, body=m.MessageName, rights=ANALYSE)
def message_name(workspace: Workspace, row_id: CampaignId, body: m.MessageName) -> m.Done:
    """How another program's log calls the mailing of a campaign that it sends."""
    external_sending.call(workspace, row_id, body.name, who())
    return m.Done(id=row_id)


@routes.route("POST", "/campaigns/<int:id>/skip", m.Done, rights=ANALYSE)
def skip(workspace: Workspace, row_id: CampaignId) -> m.Done:
    """Of a campaign that another program sends: skip whom the eligibility check refuses by now, before the files are saved."""
    return m.Done(id=row_id, count=external_sending.skip(workspace, row_id))


@routes.route("GET", "/campaigns/<int:id>/batches.zip", "application/zip")
def batches_as_files(workspace: Workspace, row_id: int) -> Response:
    """The batches as CSV files and the plan as iCalendar, in one ZIP; whom the eligibility check would refuse now is apart."""
    headers = {"Content-Disposition": f"attachment; filename=batches-{row_id}.zip"}
    return Response(external_sending.archive(workspace, row_id, who()), mimetype="application/zip", headers=headers)


@routes.route("POST", "/campaigns/<int:id>/pause", m.Done, rights=ANALYSE)
def pause(workspace: Workspace, row_id: int) -> m.Done:
    """Nothing more is sent until the campaign is resumed."""
    campaigns_service.pause(workspace, row_id, who())
    return m.Done(id=row_id)


@routes.route("POST", "/campaigns/<int:id>/resume", m.Done, rights=ANALYSE)
def resume(workspace: Workspace, row_id: CampaignId) -> m.Done:
    """Resume a paused campaign."""
    campaigns_service.resume(workspace, row_id, who())
    return m.Done(id=row_id)


@routes.route("GET", "/campaigns/<int:id>/guardrails", m.Guardrails)
def guardrails(workspace: Workspace, row_id: CampaignId) -> m.Guardrails:
    """The guardrails as they stand, what paused the plan, what its size can show."""
    campaigns_service.row_of(workspace, row_id)
    return guardrails_service.see(workspace, row_id)


@routes.route("POST", "/campaigns/<int:id>/resume-without", m.Done, body=m.NameIn, rights=ANALYSE)
def without(workspace: Workspace, row_id: CampaignId, body: m.NameIn) -> m.Done:
    """Resume without the people at one provider."""
    return m.Done(id=row_id, count=guardrails_service.without_provider(workspace, row_id, body.name, who()))


@routes.route("POST", "/campaigns/<int:id>/stop", m.Done, rights=ANALYSE)
def stop(workspace: Workspace, row_id: CampaignId) -> m.Done:
    """Stop for good; everybody still waiting is skipped."""
    return m.Done(id=row_id, count=campaigns_service.stop(workspace, row_id, who()))


@routes.route("GET", "/campaigns/<int:id>/results", m.Results)
def see_results(workspace: Workspace, row_id: CampaignId) -> m.Results:
    """What it did, as of now."""
    return results.results(workspace, row_id)


@routes.route("GET", "/campaigns/<int:id>/breakdown", m.Divided, query=m.CompareQuery)
def divided(workspace: Workspace, row_id: CampaignId, query: m.CompareQuery) -> m.Divided:
    """The results divided, beside the usual range and up to three other campaigns (query ``with``, ids by comma)."""
    row = campaigns_service.row_of(workspace, row_id)
    others = [int(x) for x in query.compare.split(",") if x and len(x) < 19]
    usual = results_breakdown.usual(workspace, row) if row.message else None
    compared = results_breakdown.compared(workspace, [row_id, *others]) if row.message else []
    found = results_breakdown.divided(workspace, row_id)
    return m.Divided(
        **dict(found), usual=usual, compared=compared, text=results_breakdown.in_text(workspace, row_id, found)
    )


@routes.route("GET", "/campaigns/benchmarks", m.WhatWorks)
def works(workspace: Workspace) -> m.WhatWorks:
    """Over all campaigns: which resends, hours, sizes and subjects paid."""
    return benchmarks.see(workspace)


@routes.route("GET", "/campaigns/<int:id>/variants.csv", "text/csv")
def variants_file(workspace: Workspace, row_id: CampaignId) -> Response:
    """The variants of the resends as a file."""
    headers = {"Content-Disposition": f"attachment; filename=campaign-{row_id}-variants.csv"}
    return Response(results.variants_as_csv(workspace, row_id), mimetype="text/csv", headers=headers)


@routes.route("GET", "/campaigns/<int:id>/clicks", m.ClicksDrawn)
def clicks_drawn(workspace: Workspace, row_id: CampaignId) -> m.ClicksDrawn:
    """The message with, at each link, how many people clicked it."""
    return m.ClicksDrawn(html=clicked_links.drawn(workspace, row_id))


@routes.route("GET", "/campaigns/<int:id>/results.csv", "text/csv")
def results_csv(workspace: Workspace, row_id: CampaignId) -> Response:
    """The figures as CSV."""
    return Response(
        results.as_csv(workspace, row_id),
        mimetype="text/csv",
        headers={"Content-Disposition": f"attachment; filename=campaign-{row_id}.csv"},
    )
