"""Campaigns: message, recipients, checks, plan, results."""

from __future__ import annotations

import json

import numpy as np
from flask import Response

from openmeadow.core.engagement.score import BANDS
from openmeadow.core.errors import Refused
from openmeadow.core.message.body import links
from openmeadow.desk import (
    approving,
    audience,
    breakdown,
    capacity,
    checking,
    elsewhere,
    guarding,
    holding,
    outward,
    planning,
    recipients,
    resending,
    results,
    versions,
    what_works,
)
from openmeadow.desk import campaigns as desk_campaigns
from openmeadow.desk.desk import Desk
from openmeadow.store import campaigns as table
from openmeadow.store import ledger, people_sets, sequences, subscribers, writing
from openmeadow.store.facts import StoreFacts
from openmeadow.store.likeness import zones
from openmeadow.store.providers import by_people
from openmeadow.store.providers import names as provider_names
from openmeadow.web import models as m
from openmeadow.web.described import ANALYSE, WRITE, Described, given, who

CHOSEN_SHOWN = 200


def register(api: Described, desk: Desk) -> None:
    def model(id: int) -> m.Campaign:
        row, db = desk_campaigns.row_of(desk, id), desk.store.read()
        doubt = sum(b["in_doubt"] or 0 for b in ledger.batches(db, id))
        sequence = sequences.one(db, row["sequence"]) if row["sequence"] else None
        return m.Campaign(
            id=id,
            name=row["name"],
            kind=row["kind"],
            asks=json.loads(row["asks"]),
            chosen_people=len(table.people(db, id, "in")),
            state=row["state"],
            elsewhere=bool(row["elsewhere"]),
            message_name=elsewhere.message_name(desk, row) if row["elsewhere"] else "",
            purpose=row["purpose"],
            purpose_name=row["purpose_name"] or "",
            from_address=row["from_address"],
            from_text=row["from_text"] or "",
            from_name=row["from_name"],
            reply_to=row["reply_to"],
            subject=row["subject"],
            preview=row["preview"],
            html=row["html"],
            plain=row["plain"],
            plain_by_hand=bool(row["plain_by_hand"]),
            blocks=json.loads(row["blocks"]) if row["blocks"] else None,
            segments_in=json.loads(row["segments_in"]),
            segments_out=json.loads(row["segments_out"]),
            lists_in=json.loads(row["lists_in"]),
            lists_out=json.loads(row["lists_out"]),
            lists=[m.Sieved(words=n, count=c) for n, c in people_sets.list_sizes(db)],
            chosen=[m.ChosenPerson(**p) for p in table.chosen_people(db, id, CHOSEN_SHOWN)],
            with_sequences=bool(row["with_sequences"]),
            record_opens=bool(row["record_opens"]),
            record_clicks=bool(row["record_clicks"]),
            plan=m.PlanIn(**planning.plan_of(row)),
            versions=[
                m.Version(letter=versions.letter(v["n"]), **{f: v[f] for f in m.Version.model_fields if f != "letter"})
                for v in writing.versions(db, id)
            ],
            version=versions.letter(row["version"]),
            approval=m.Approval(**approving.state(desk, row)),
            machine_openers=resending.machine_openers(desk, row) if row["message"] else 0,
            checks=[m.Check.model_validate(x) for x in checking.checks(desk, row)] if row["state"] == "draft" else [],
            purposes=[m.NamedThing(id=p["id"], name=p["name"]) for p in subscribers.names(db, "purposes")],
            fields=sorted(checking.known_fields(desk, row)),
            links=links(row["html"]),
            in_doubt=doubt,
            sequence=m.NamedThing(id=row["sequence"], name=sequence["name"]) if sequence is not None else None,
        )

    @api.route("GET", "/campaigns", m.CampaignLines)
    def every() -> m.CampaignLines:
        """All campaigns, the latest first."""
        lines = table.every(desk.store.read())
        rates = breakdown.rates(desk) if any(c["message"] for c in lines) else {}
        came = {c["id"]: rates.get(c["message"] or 0, (0, 0, 0)) for c in lines}
        return m.CampaignLines(
            campaigns=[
                m.CampaignLine(
                    id=c["id"],
                    name=c["name"],
                    kind=c["kind"],
                    state=c["state"],
                    subject=c["subject"],
                    purpose=c["purpose_name"] or "",
                    people=c["people"],
                    delivered=came[c["id"]][0],
                    opened=came[c["id"]][1],
                    clicked=came[c["id"]][2],
                    made_at=c["made_at"],
                    started_at=c["started_at"],
                )
                for c in lines
            ]
        )

    @api.route("POST", "/campaigns", m.Campaign, body=m.CampaignBegin, rights=WRITE)
    def add(body: m.CampaignBegin) -> m.Campaign:
        """Begin a campaign, empty or from a template or another campaign."""
        return model(desk_campaigns.add(desk, body.name, who(), template=body.template, other=body.campaign))

    @api.route("GET", "/campaigns/<int:id>", m.Campaign)
    def see(id: int) -> m.Campaign:
        """A campaign: what it says, to whom, its checks."""
        return model(id)

    @api.route("PUT", "/campaigns/<int:id>", m.Campaign, body=m.CampaignIn, rights=WRITE)
    def write(id: int, body: m.CampaignIn) -> m.Campaign:
        """Change a draft; only what is given changes."""
        values = given(body, empty=("purpose", "from_address", "blocks"))
        if body.plan is not None:  # what is given of a plan changes; what it is made of is whole
            whole = body.plan.model_dump()
            values["plan"] |= {part: whole[part] for part in ("arms", "test") if part in values["plan"]}
        desk_campaigns.write(desk, id, values)
        return model(id)

    @api.route("DELETE", "/campaigns/<int:id>", m.Done, rights=WRITE)
    def remove(id: int) -> m.Done:
        """Remove a draft."""
        if desk_campaigns.row_of(desk, id)["state"] != "draft":
            raise Refused("Only a draft can be removed; what was sent stays on the record.")
        with desk.store.atomic() as db:
            table.remove(db, id)
        return m.Done(id=id)

    @api.route("GET", "/campaigns/<int:id>/recipients", m.RecipientsView)
    def whom(id: int) -> m.RecipientsView:
        """Whom it would go to now, and why not the others."""
        row = desk_campaigns.row_of(desk, id)
        r = recipients.work_out(desk, row)
        assert isinstance(r.view.facts, StoreFacts)
        names, zone = zones(r.view.facts)
        providers = provider_names(desk.store.read())
        by_provider = np.bincount(r.view.facts.provider[r.index], minlength=len(providers))
        return m.RecipientsView(
            sieve=[m.Sieved(words=w, count=n) for w, n in r.sieve],
            count=len(r.index),
            bands=np.bincount(r.view.scores.band[r.index], minlength=len(BANDS)).tolist(),
            providers=[
                m.Sieved(words=providers[i], count=int(by_provider[i])) for i in by_people(providers, by_provider)
            ],
            zones=[
                m.Sieved(words=n or "not known", count=int(c))
                for n, c in zip(names, np.bincount(zone[r.index], minlength=len(names)), strict=True)
            ],
        )

    @api.route("GET", "/campaigns/<int:id>/fallen", m.Fallen, query=m.ReasonQuery)
    def fallen(id: int, query: m.ReasonQuery) -> m.Fallen:
        """Who fell out by one reason (query ``reason``, as the sieve words it): how many, and the first of them."""
        r = recipients.work_out(desk, desk_campaigns.row_of(desk, id))
        mask = r.fallen.get(query.reason)
        ids = [] if mask is None else r.view.columns.people.id[np.flatnonzero(mask)].tolist()
        rows = subscribers.by_ids(desk.store.read(), ids[:CHOSEN_SHOWN])
        return m.Fallen(count=len(ids), people=[m.NamedThing(id=i, name=rows[i]["email"]) for i in rows])

    @api.route("PUT", "/campaigns/<int:id>/people", m.Campaign, body=m.ChooseIn, rights=WRITE)
    def choose(id: int, body: m.ChooseIn) -> m.Campaign:
        """Take one person in by their address, leave them out, or forget them again (side "")."""
        desk_campaigns.choose(desk, id, body.email, body.side)
        return model(id)

    @api.route("GET", "/campaigns/<int:id>/checks", m.Checks)
    def checked(id: int) -> m.Checks:
        """Every pre-send check, those of the recipients too, and what is in order."""
        row = desk_campaigns.row_of(desk, id)
        found = audience.thorough(desk, row)
        return m.Checks(
            checks=[m.Check.model_validate(c) for c in found],
            holds=[m.InOrder(**x) for x in holding.holding(desk, row, found)],
        )

    @api.route("POST", "/campaigns/<int:id>/links", m.Done, rights=WRITE)
    def ask_links(id: int) -> m.Done:
        """Ask every link of the message whether it answers."""
        return m.Done(id=id, count=checking.ask_links(desk, desk_campaigns.row_of(desk, id)))

    @api.route("POST", "/campaigns/<int:id>/overrule", m.Done, body=m.OverruleIn, rights=ANALYSE)
    def overrule(id: int, body: m.OverruleIn) -> m.Done:
        """Set a stop aside with a written reason; an empty reason takes that back."""
        row = desk_campaigns.row_of(desk, id)
        checking.overrule(desk, row, body.check, body.finding, body.reason, who())
        return m.Done(id=id)

    @api.route("GET", "/campaigns/<int:id>/plan", m.PlanView)
    def plan(id: int) -> m.PlanView:
        """The batches as they would be, started now."""
        p = planning.preview_plan(desk, desk_campaigns.row_of(desk, id))
        return m.PlanView(
            batches=[m.PlannedBatch(**b) for b in p["batches"]],
            note=p["note"],
            resend=p["resend"],
            best=m.BestHours(**p["best"]) if p["best"] else None,
            usual_wait=p["usual_wait"],
            arms=[a["name"] for a in planning.arms_of(planning.plan_of(desk_campaigns.row_of(desk, id)))],
        )

    @api.route("POST", "/campaigns/<int:id>/change", m.Changed, body=m.ChangeIn, rights=ANALYSE)
    def change(id: int, body: m.ChangeIn) -> m.Changed:
        """Another version for everybody who still waits; ``only_show`` says what it would be."""
        values = body.model_dump(exclude_none=True, exclude={"only_show", "forget"})
        row = desk_campaigns.row_of(desk, id)
        return m.Changed(**versions.change(desk, row, values, who(), only_show=body.only_show))

    @api.route("PUT", "/campaigns/<int:id>/other-version", m.Campaign, body=m.ChangeIn, rights=WRITE)
    def other_version(id: int, body: m.ChangeIn) -> m.Campaign:
        """The version to try against the first, by lot in the lead batch; ``forget`` drops it."""
        values = body.model_dump(exclude_none=True, exclude={"only_show"})
        versions.keep_other(desk, desk_campaigns.row_of(desk, id), values, who())
        return model(id)

    @api.route("POST", "/campaigns/<int:id>/use", m.Done, body=m.UseIn, rights=ANALYSE)
    def use_version(id: int, body: m.UseIn) -> m.Done:
        """Use one of the versions for everybody who still waits."""
        versions.use(desk, desk_campaigns.row_of(desk, id), body.n, who(), body.why or "picked by hand")
        return m.Done(id=id)

    @api.route("POST", "/campaigns/<int:id>/batches/<int:batch>/move", m.Done, body=m.MoveIn, rights=ANALYSE)
    def move(id: int, batch: int, body: m.MoveIn) -> m.Done:
        """Another moment for a batch that still waits; the answer's count is the moment it got."""
        return m.Done(id=batch, count=desk_campaigns.move(desk, id, batch, body.due_at, who()))

    @api.route("POST", "/campaigns/<int:id>/ask-approval", m.Done, rights=WRITE)
    def ask_approval(id: int) -> m.Done:
        """Say that the draft is ready for somebody else's eyes."""
        approving.ask(desk, desk_campaigns.row_of(desk, id), who())
        return m.Done(id=id)

    @api.route("POST", "/campaigns/<int:id>/approve", m.Done, rights=ANALYSE)
    def approve(id: int) -> m.Done:
        """Approve the draft as it stands."""
        approving.approve(desk, desk_campaigns.row_of(desk, id), who())
        return m.Done(id=id)

    @api.route("GET", "/campaigns/capacity", m.BatchThatFits, query=m.CapacityQuery)
    def capacity_of(query: m.CapacityQuery) -> m.BatchThatFits:
        """How large a batch may be (query ``an_hour``, ``one_in``, ``what``: clicks, replies, bookings)."""
        return m.BatchThatFits(**capacity.fits(desk, query.an_hour, query.one_in, query.what))

    @api.route("GET", "/campaigns/<int:id>/plan.ics", "text/calendar")
    def ics(id: int) -> Response:
        """The plan as iCalendar."""
        found = outward.plan_ics(desk, desk_campaigns.row_of(desk, id))
        headers = {"Content-Disposition": f"attachment; filename=plan-{id}.ics"}
        return Response(found, mimetype="text/calendar", headers=headers)

    @api.route("POST", "/campaigns/<int:id>/test", m.Done, body=m.TestTo, rights=WRITE)
    def test(id: int, body: m.TestTo) -> m.Done:
        """Send one copy as a chosen person would get it, marked as a test and never counted; the number of its source."""
        return m.Done(id=desk_campaigns.test_message(desk, id, body.to, who(), body.subscriber))

    @api.route("POST", "/campaigns/<int:id>/start", m.Done, rights=ANALYSE)
    def start(id: int) -> m.Done:
        """Draw the batches and let the plan run."""
        return m.Done(id=id, count=desk_campaigns.start(desk, id, who())["people"])

    @api.route("POST", "/campaigns/<int:id>/start-elsewhere", m.Done, rights=ANALYSE)
    def start_elsewhere(id: int) -> m.Done:
        """Draw the batches for another program to send; its event log tells what came of them."""
        return m.Done(id=id, count=elsewhere.start(desk, id, who())["people"])

    @api.route("PUT", "/campaigns/<int:id>/message-name", m.Done, body=m.MessageName, rights=ANALYSE)
    def message_name(id: int, body: m.MessageName) -> m.Done:
        """How another program's log calls the mailing of a plan that it sends."""
        elsewhere.call(desk, id, body.name, who())
        return m.Done(id=id)

    @api.route("POST", "/campaigns/<int:id>/pass-over", m.Done, rights=ANALYSE)
    def pass_over(id: int) -> m.Done:
        """Of a plan that another program sends: pass over whom the gate refuses by now, before the files are saved."""
        return m.Done(id=id, count=elsewhere.pass_over(desk, id))

    @api.route("GET", "/campaigns/<int:id>/batches.zip", "application/zip")
    def batches_as_files(id: int) -> Response:
        """The batches as CSV files and the plan as iCalendar, in one ZIP; whom the gate would refuse now is apart."""
        headers = {"Content-Disposition": f"attachment; filename=batches-{id}.zip"}
        return Response(elsewhere.archive(desk, id, who()), mimetype="application/zip", headers=headers)

    @api.route("POST", "/campaigns/<int:id>/hold", m.Done, rights=ANALYSE)
    def hold(id: int) -> m.Done:
        """Hold: nothing more goes out until somebody goes on."""
        desk_campaigns.hold(desk, id, who())
        return m.Done(id=id)

    @api.route("POST", "/campaigns/<int:id>/go-on", m.Done, rights=ANALYSE)
    def go_on(id: int) -> m.Done:
        """Go on with a held plan."""
        desk_campaigns.go_on(desk, id, who())
        return m.Done(id=id)

    @api.route("GET", "/campaigns/<int:id>/guardrails", m.Guardrails)
    def guardrails(id: int) -> m.Guardrails:
        """The guardrails as they stand, what held the plan, what its size can show."""
        desk_campaigns.row_of(desk, id)
        found = guarding.see(desk, id)
        for word in ("guardrails", "evidence"):
            found[word] = [m.Guardrail(kind=g.pop("pass"), **g) for g in found[word]]
        return m.Guardrails(**found)

    @api.route("POST", "/campaigns/<int:id>/go-on-without", m.Done, body=m.NameIn, rights=ANALYSE)
    def without(id: int, body: m.NameIn) -> m.Done:
        """Go on without the people at one provider."""
        return m.Done(id=id, count=guarding.without_provider(desk, id, body.name, who()))

    @api.route("POST", "/campaigns/<int:id>/stop", m.Done, rights=ANALYSE)
    def stop(id: int) -> m.Done:
        """Stop for good; everybody still waiting is passed over."""
        return m.Done(id=id, count=desk_campaigns.stop(desk, id, who()))

    @api.route("GET", "/campaigns/<int:id>/results", m.Results)
    def see_results(id: int) -> m.Results:
        """What it did, as of now."""
        return m.Results(**results.results(desk, id))

    @api.route("GET", "/campaigns/<int:id>/divided", m.Divided, query=m.CompareQuery)
    def divided(id: int, query: m.CompareQuery) -> m.Divided:
        """The results divided, beside the usual range and up to three other campaigns (query ``with``, ids by comma)."""
        row = desk_campaigns.row_of(desk, id)
        others = [int(x) for x in query.compare.split(",") if x and len(x) < 19]
        usual = breakdown.usual(desk, row) if row["message"] else None
        compared = breakdown.compared(desk, [id, *others]) if row["message"] else []
        found = breakdown.divided(desk, id)
        return m.Divided(
            **found,
            usual=m.Usual(**usual) if usual else None,
            compared=[m.ComparedLine(**x) for x in compared],
            text=breakdown.in_text(desk, id, found),
        )

    @api.route("GET", "/campaigns/what-works", m.WhatWorks)
    def works() -> m.WhatWorks:
        """Over all campaigns: which resends, hours, sizes and subjects paid."""
        return m.WhatWorks(**what_works.see(desk))

    @api.route("GET", "/campaigns/<int:id>/results.csv", "text/csv")
    def results_csv(id: int) -> Response:
        """The figures as CSV."""
        return Response(
            results.as_csv(desk, id),
            mimetype="text/csv",
            headers={"Content-Disposition": f"attachment; filename=campaign-{id}.csv"},
        )
