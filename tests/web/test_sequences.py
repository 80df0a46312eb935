"""Sequences through the API; bookings told back; replies; where a held plan's trouble comes from."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path

import pytest

from openmeadow.core.events import Kind
from openmeadow.core.moments import DAY
from openmeadow.core.sequences.definition import Definition, Step
from openmeadow.services import accounts
from openmeadow.services.campaigns import arrivals, campaigns, dispatcher, guardrails, tracking
from openmeadow.services.sequences import editing, runner, starter_sequences, statistics
from openmeadow.services.subscribers import reconsent
from openmeadow.store.campaigns import campaigns as campaign_table
from openmeadow.store.campaigns.records import Campaign
from openmeadow.store.sequences import enrolments, sequences
from openmeadow.web.app import make_app
from tests.conftest import NOW, set_clock
from tests.core.test_kept import kept
from tests.services.mailing import Mailing, deliveries_of, mailing
from tests.services.test_sequences import LADDER, got, made, step_on, until
from tests.web.conftest import Caller
from tests.web.test_api import PASSWORD


@pytest.fixture
def running(folder: Path) -> Iterator[tuple[Mailing, Caller]]:
    with mailing(folder, 40) as m:
        accounts.add(m.workspace, "analyst", "analyst", PASSWORD)
        with make_app(m.workspace).test_client() as client:
            yield m, Caller(client, "analyst")


def test_a_sequence_by_the_api(running: tuple[Mailing, Caller]) -> None:
    m, call = running
    id = call("POST", "/sequences", {"name": "Evenings"})["id"]
    path = f"/sequences/{id}"
    assert "already a sequence" in call("POST", "/sequences", {"name": "evenings"}, 409)["error"]
    seen = call("GET", path)
    assert {x["step"] for x in seen["missing"]} == {0} and "Add a message" in seen["missing"][0]["sentence"]
    assert "Not complete yet" in call("POST", f"{path}/start", {}, 409)["error"]
    for bad in ({"steps": [{"key": 1, "kind": "dance"}]}, {"begin": {"on": "full moon"}}, {"holdout": 0.9}):
        call("PUT", path, {"definition": bad}, 409)
    address, purpose = seen["addresses"][0]["id"], seen["purposes"][0]["id"]
    definition = LADDER.json() | {"holdout": 0.25}
    call("PUT", path, {"definition": definition, "purpose": purpose, "from_address": address, "from_name": "Quay"})
    seen = call("GET", path)
    assert [s["day"] and s["day"][0] // DAY for s in seen["steps"]] == [0, 0, 3, 3, 5, 5]
    for s in seen["steps"]:
        if s["campaign"] and not s["subject"]:
            call("PUT", f"/campaigns/{s['campaign']}", {"subject": "An evening", "html": "<p>Come</p>"})
    mail = call("GET", f"/campaigns/{seen['steps'][0]['campaign']}")
    assert mail["sequence"] == {"id": id, "name": "Evenings"}
    assert "It is part of a sequence" in call("POST", f"/campaigns/{mail['id']}/start", {}, 409)["error"]
    assert mail["id"] not in {c["id"] for c in call("GET", "/campaigns")["campaigns"]}
    walked = call("GET", f"{path}/simulation?supposed=never&email=p3@")
    assert [d["day"] for d in walked["days"] if d["what"] == "mail"] == [0, 3, 5]
    assert "use one of" in call("GET", f"{path}/simulation?supposed=maybe", None, 404)["error"]
    call("POST", f"{path}/start", {})
    assert "people are added manually" in call("GET", path)["empty"]
    unknown = call("POST", f"{path}/people", {"emails": ["who@where.test"]}, 409)["error"]
    assert "There is no subscriber with the" in unknown
    some = call("POST", f"{path}/people", {"emails": ["who@where.test", "P1@postern.example"]})
    assert (some["queued"], some["unknown"]) == (1, ["who@where.test"]), "the others go in"
    assert call("POST", f"{path}/people", {"rule": 'permitted for "News"'})["queued"] == 39
    until(m, NOW + DAY)
    here = call("GET", f"{path}/steps/2/people")
    assert here["total"] == 40 and here["people"][0]["goes"] == here["people"][0]["since"] + 3 * DAY
    call("POST", f"{path}/enrolments/{here['people'][0]['id']}/remove")
    call("POST", f"{path}/enrolments/{here['people'][0]['id']}/remove", None, 409)
    call("POST", f"{path}/enrolments/{here['people'][1]['id']}/skip-wait")
    for d in sequences.sent(m.workspace.store.read(), id)[5:15]:
        happened = deliveries_of(m.workspace.store.read(), mail["id"], "first")
        tracking.opened(m.workspace, next(x.id for x in happened if x.enrolment == d.enrolment), "Reader", "198.51.100.1")
    until(m, NOW + 4 * DAY)
    again = got(m, id)[1, "resend"]
    assert again["sent"] + again["skipped"] >= 27, again
    for d in deliveries_of(m.workspace.store.read(), mail["id"], "resend")[:6]:
        if d.state == "sent":
            tracking.opened(m.workspace, d.id, "Reader", "198.51.100.1")
    seen = call("GET", path)
    assert (seen["active"], seen["finished"]) == (38, 1) and seen["left"] == [{"why": "removed by analyst", "people": 1}]
    added = seen["added"][0]
    assert added["first"] == 10 and added["again"] > 0 and added["together"] == added["first"] + added["again"]
    assert seen["steps"][0]["figures"]["opened"] == 10, "a message's figures are those before it was repeated"
    assert (
        seen["compared"]["holdout"] > 0
        and seen["compared"]["low"] <= seen["compared"]["points"] <= seen["compared"]["high"]
    )
    call("POST", f"{path}/pause")
    assert call("POST", f"{path}/resume")["late"] == 0
    other = call("POST", f"{path}/copy", {"name": "Evenings, again"})["id"]
    assert call("GET", f"/sequences/{other}")["steps"][0]["subject"] == "An evening"
    call("DELETE", f"/sequences/{other}")
    call("POST", f"{path}/end")
    assert call("GET", "/sequences")["sequences"][0]["state"] == "ended"
    assert {f["kind"] for f in call("GET", "/search?text=evenings")["finds"]} == {"sequence"}


def mails_of(m: Mailing, id: int) -> list[Campaign]:
    return [mail for _, mail in sorted(sequences.mails(m.workspace.store.read(), id).items())]


def test_every_ready_one_can_be_started_and_walked(running: tuple[Mailing, Caller]) -> None:
    m, call = running
    with m.workspace.store.atomic() as db:
        db.execute("INSERT OR IGNORE INTO field_names (name) VALUES ('born')")
    walked: list[str] = []
    for offered in call("GET", "/sequences")["ready"]:
        id = call("POST", "/sequences", {"name": "", "ready": offered["key"]})["id"]
        seen = call("GET", f"/sequences/{id}")
        walked.append(f"{offered['key']} {json.dumps(seen['definition'])}")
        walked += [f"  {mail.step} {mail.preview} | {mail.html}" for mail in mails_of(m, id)]
        if offered["key"] == "yearly":
            call(
                "PUT",
                f"/sequences/{id}",
                {"definition": seen["definition"] | {"begin": seen["definition"]["begin"] | {"what": "born"}}},
            )
            seen = call("GET", f"/sequences/{id}")
        assert seen["missing"] == [], offered["key"]
        for supposed in ("never", "resends", "always"):
            days = call("GET", f"/sequences/{id}/simulation?supposed={supposed}")["days"]
            assert any(d["what"] == "mail" for d in days) and days[-1]["what"] == "ends"
            walked += [f"  {supposed}: {json.dumps(d)}" for d in days]
            assert all(d["subject"] for d in days if d["what"] == "mail")
            if offered["key"] == "win back":
                assert ("suppress" in {d["kind"] for d in days}) == (supposed != "always")
        call("POST", f"/sequences/{id}/start", {})
    every = call("GET", "/sequences")["sequences"]
    assert len(every) == len(starter_sequences.READY)
    walked += sorted(f"{x['name']}: {x['begins']}" for x in every)
    kept("ready_sequences", "\n".join(walked) + "\n")


def test_a_consent_request_comes_once_more_and_a_yes_ends_it(folder: Path) -> None:
    with mailing(folder, 8) as m:
        purpose = m.workspace.store.read().execute("SELECT id FROM purposes").fetchone()["id"]
        with m.workspace.store.atomic() as db:
            db.execute("DELETE FROM consent_entries")
            db.executemany(
                "INSERT INTO relations VALUES (?, 'booked with us', ?, 'test', NULL)", [(i, NOW) for i in range(1, 9)]
            )
        id = starter_sequences.take(m.workspace, "again", "test")
        editing.start(m.workspace, id, "test")
        editing.add_people(m.workspace, id, list(range(1, 9)), "test")
        step_on(m)
        mail = sequences.mails(m.workspace.store.read(), id)[1]
        rows = deliveries_of(m.workspace.store.read(), mail.id, "first")
        assert {d.state for d in rows} == {"sent"} and len(rows) == 8
        reconsent.agree(m.workspace, rows[0].id, purpose)
        until(m, NOW + 16 * DAY)
        assert got(m, id)[1, "resend"]["sent"] == 7, "whoever said yes is not asked again"
        left = {r.why: r.people for r in sequences.left(m.workspace.store.read(), id)}
        assert left == {"confirmed": 1}


def test_bookings_are_told_back_by_links(running: tuple[Mailing, Caller]) -> None:
    m, call = running
    frame = call("GET", "/layout")
    call("PUT", "/layout", frame | {"conversion_id": True})
    campaigns.write(m.workspace, m.campaign, {"plan": {"pilot_share": 0.0, "batches": 1, "resend": False}})
    campaigns.start(m.workspace, m.campaign, "test")
    dispatcher.send_due(m.workspace, m.tokens)
    d = deliveries_of(m.workspace.store.read(), m.campaign, "first")[0]
    message = campaign_table.one(m.workspace.store.read(), m.campaign).message
    link = next(x for x in campaign_table.links(m.workspace.store.read(), message) if not x.trap)
    went = call.client.get(f"/c/{m.tokens.make('c', d.id, link.id)}").headers["Location"]
    assert went.startswith(f"{link.url}?meadow=")
    mark = went.partition("meadow=")[2]
    for _ in range(2):  # told twice, taken once
        assert call.client.post(f"/b/{mark}", data={"value": "45.50", "reference": "A-17"}).status_code == 200
    assert call.client.get(f"/b/{mark}?value=much").status_code == 400
    assert call.client.get(f"/b/{mark}?value=-3").status_code == 400
    assert call.client.get(f"/b/{mark[:-2]}xx").status_code == 404
    tracking.happened(m.workspace, d.id, Kind.REPLIED)
    told = call("GET", f"/campaigns/{m.campaign}/breakdown")
    assert (told["bookings"], told["value"], told["replies"]) == (1, 45.5, 1)
    assert [r["subscriber"] for r in told["replied"]] == [d.subscriber]
    codes = []
    for i in range(30):
        set_clock(m.workspace, NOW + 1 + i)
        codes.append(call.client.post(f"/b/{mark}", data={"value": "9", "reference": str(i)}).status_code)
    assert codes.count(200) == tracking.MOST_BOOKINGS - 1, "the mark stands in the address: its reader can use it at will"
    for i in range(arrivals.MOST_EVENTS + 10):
        set_clock(m.workspace, NOW + 1 + i)
        tracking.opened(m.workspace, d.id, f"Machine {i}", "198.51.100.7")
    of = "SELECT count(*) FROM events WHERE subscriber = ? AND message = ?"
    assert m.workspace.store.read().execute(of, (d.subscriber, message)).fetchone()[0] == arrivals.MOST_EVENTS


def test_where_a_held_plan_s_trouble_comes_from(folder: Path) -> None:
    bad = [f"p{i}@{'wreck.example' if i < 12 else 'postern.example'}" for i in range(80)]
    with mailing(folder, 80, email=bad, gone=[NOW - DAY] * 12 + [10**12] * 68) as m:
        with m.workspace.store.atomic() as db:
            enrolments.put_on_list(db, "Pier", list(range(1, 13)), False, NOW)
        campaigns.write(m.workspace, m.campaign, {"plan": {"pilot_share": 0.0, "batches": 1, "resend": False}})
        campaigns.start(m.workspace, m.campaign, "test")
        dispatcher.send_due(m.workspace, m.tokens)
        for d in deliveries_of(m.workspace.store.read(), m.campaign, "first"):
            if d.subscriber <= 12:
                tracking.happened(m.workspace, d.id, Kind.BOUNCED, code="5.1.1", diagnostic="no such person")
        guardrails.look(m.workspace, m.campaign)
        if campaign_table.one(m.workspace.store.read(), m.campaign).state != "paused":
            with m.workspace.store.atomic() as db:
                campaign_table.update(db, m.campaign, {"state": "paused", "paused_why": "manual"})
        found = {(x.place, x.name): (x.k, x.rest_k) for x in guardrails.see(m.workspace, m.campaign).sources}
        assert found[("domain", "wreck.example")] == (12, 0) and found[("list", "Pier")][0] == 12


def test_a_step_s_guardrail_holds_the_step(folder: Path) -> None:
    with mailing(folder, 30) as m:
        id = made(m, Definition((Step(1, "message"), Step(2, "wait", wait=DAY), Step(3, "message"))))
        editing.start(m.workspace, id, "test")
        editing.add_people(m.workspace, id, list(range(1, 31)), "test")
        runner.tick(m.workspace)
        mail = sequences.mails(m.workspace.store.read(), id)[1]
        campaigns.pause(m.workspace, mail.id, "test")
        with m.workspace.store.atomic() as db:
            campaign_table.update(db, mail.id, {"paused_why": "Too many hard bounces."})
        step_on(m)
        assert got(m, id)[1, "first"] == {"queued": 30}
        assert [(h.title, h.why) for h in statistics.held(m.workspace)] == [
            ("A step of Welcome is paused.", "Too many hard bounces.")
        ]
        campaigns.resume(m.workspace, mail.id, "test")
        step_on(m)
        assert got(m, id)[1, "first"] == {"sent": 30}
