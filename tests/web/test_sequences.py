"""Sequences through the API; bookings told back; replies; where a held plan's trouble comes from."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from openmeadow.core.columns import Kind
from openmeadow.core.sequences.ladder import DAY, Ladder, Step
from openmeadow.desk import accounts, answers, asking, campaigns, guarding, sending
from openmeadow.desk.sequences import measuring, moving, ready, writing
from openmeadow.store import campaigns as campaign_table
from openmeadow.store import ledger, sequences, stays
from openmeadow.web.app import make_app
from tests.conftest import NOW, set_clock
from tests.desk.mailing import Mailing, mailing
from tests.desk.test_sequences import LADDER, got, made, step_on, until
from tests.web.test_places import PASSWORD, Caller


@pytest.fixture
def running(folder: Path) -> Iterator[tuple[Mailing, Caller]]:
    with mailing(folder, 40) as m:
        accounts.add(m.desk, "analyst", "analyst", PASSWORD)
        with make_app(m.desk).test_client() as client:
            yield m, Caller(client, "analyst")


def test_a_sequence_by_the_api(running: tuple[Mailing, Caller]) -> None:
    m, call = running
    id = call("POST", "/sequences", {"name": "Evenings"})["id"]
    path = f"/sequences/{id}"
    assert "already a sequence" in call("POST", "/sequences", {"name": "evenings"}, 409)["error"]
    seen = call("GET", path)
    assert {x["step"] for x in seen["missing"]} == {0} and "no message" in seen["missing"][0]["sentence"]
    assert "not complete" in call("POST", f"{path}/start", {}, 409)["error"]
    for bad in ({"steps": [{"key": 1, "kind": "dance"}]}, {"begin": {"on": "full moon"}}, {"held_back": 0.9}):
        call("PUT", path, {"ladder": bad}, 409)
    address, purpose = seen["addresses"][0]["id"], seen["purposes"][0]["id"]
    ladder = LADDER.json() | {"held_back": 0.25}
    call("PUT", path, {"ladder": ladder, "purpose": purpose, "from_address": address, "from_name": "Quay"})
    seen = call("GET", path)
    assert [s["day"] and s["day"][0] // DAY for s in seen["steps"]] == [0, 0, 3, 3, 5, 5]
    for s in seen["steps"]:
        if s["campaign"] and not s["subject"]:
            call("PUT", f"/campaigns/{s['campaign']}", {"subject": "An evening", "html": "<p>Come</p>"})
    mail = call("GET", f"/campaigns/{seen['steps'][0]['campaign']}")
    assert mail["sequence"] == {"id": id, "name": "Evenings"}
    assert "with its sequence" in call("POST", f"/campaigns/{mail['id']}/start", {}, 409)["error"]
    assert mail["id"] not in {c["id"] for c in call("GET", "/campaigns")["campaigns"]}
    walked = call("GET", f"{path}/walk?supposed=never&email=p3@")
    assert [d["day"] for d in walked["days"] if d["what"] == "mail"] == [0, 3, 5]
    assert "Suppose one of" in call("GET", f"{path}/walk?supposed=maybe", None, 404)["error"]
    call("POST", f"{path}/start", {})
    assert "put in by hand" in call("GET", path)["empty"]
    unknown = call("POST", f"{path}/people", {"emails": ["who@where.test"]}, 409)["error"]
    assert "Nobody was put in" in unknown
    assert call("POST", f"{path}/people", {"rule": 'permitted for "News"'})["queued"] == 40
    until(m, NOW + DAY)
    here = call("GET", f"{path}/steps/2/people")
    assert here["total"] == 40 and here["people"][0]["goes"] == here["people"][0]["since"] + 3 * DAY
    call("POST", f"{path}/stays/{here['people'][0]['id']}/take-out")
    call("POST", f"{path}/stays/{here['people'][0]['id']}/take-out", None, 409)
    call("POST", f"{path}/stays/{here['people'][1]['id']}/move-on")
    for d in sequences.sent(m.desk.store.read(), id)[5:15]:
        happened = ledger.of_campaign(m.desk.store.read(), mail["id"], "first")
        answers.opened(m.desk, next(x["id"] for x in happened if x["stay"] == d["stay"]), "Reader", "198.51.100.1")
    until(m, NOW + 4 * DAY)
    again = got(m, id)[1, "resend"]
    assert again["handed over"] + again["passed over"] >= 27, again
    for d in ledger.of_campaign(m.desk.store.read(), mail["id"], "resend")[:6]:
        if d["state"] == "handed over":
            answers.opened(m.desk, d["id"], "Reader", "198.51.100.1")
    seen = call("GET", path)
    assert (seen["inside"], seen["finished"]) == (38, 1) and seen["left"] == [
        {"why": "taken out by analyst", "people": 1}
    ]
    added = seen["added"][0]
    assert added["first"] == 10 and added["again"] > 0 and added["together"] == added["first"] + added["again"]
    assert seen["steps"][0]["figures"]["opened"] == 10, "a message's figures are those before it was repeated"
    assert (
        seen["compared"]["held"] > 0 and seen["compared"]["low"] <= seen["compared"]["points"] <= seen["compared"]["high"]
    )
    call("POST", f"{path}/pause")
    assert call("POST", f"{path}/go-on")["late"] == 0
    other = call("POST", f"{path}/copy", {"name": "Evenings, again"})["id"]
    assert call("GET", f"/sequences/{other}")["steps"][0]["subject"] == "An evening"
    call("DELETE", f"/sequences/{other}")
    call("POST", f"{path}/end")
    assert call("GET", "/sequences")["sequences"][0]["state"] == "ended"
    assert {f["kind"] for f in call("GET", "/find?text=evenings")["finds"]} == {"sequence"}


def test_every_ready_one_can_be_started_and_walked(running: tuple[Mailing, Caller]) -> None:
    m, call = running
    with m.desk.store.atomic() as db:
        db.execute("INSERT OR IGNORE INTO field_names VALUES ('born')")
    for offered in call("GET", "/sequences")["ready"]:
        id = call("POST", "/sequences", {"name": "", "ready": offered["key"]})["id"]
        seen = call("GET", f"/sequences/{id}")
        if offered["key"] == "yearly":
            call(
                "PUT",
                f"/sequences/{id}",
                {"ladder": seen["ladder"] | {"begin": seen["ladder"]["begin"] | {"what": "born"}}},
            )
            seen = call("GET", f"/sequences/{id}")
        assert seen["missing"] == [], offered["key"]
        for supposed in ("never", "repeats", "always"):
            days = call("GET", f"/sequences/{id}/walk?supposed={supposed}")["days"]
            assert any(d["what"] == "mail" for d in days) and days[-1]["what"] == "ends"
            assert all(d["subject"] for d in days if d["what"] == "mail")
            if offered["key"] == "win back":
                assert ("let go" in {d["kind"] for d in days}) == (supposed != "always")
        call("POST", f"/sequences/{id}/start", {})
    assert len(call("GET", "/sequences")["sequences"]) == len(ready.READY)


def test_a_consent_request_comes_once_more_and_a_yes_ends_it(folder: Path) -> None:
    with mailing(folder, 8) as m:
        purpose = m.desk.store.read().execute("SELECT id FROM purposes").fetchone()["id"]
        with m.desk.store.atomic() as db:
            db.execute("DELETE FROM consent_entries")
            db.executemany(
                "INSERT INTO relations VALUES (?, 'booked with us', ?, 'test', NULL)", [(i, NOW) for i in range(1, 9)]
            )
        id = ready.take(m.desk, "again", "test")
        writing.start(m.desk, id, "test")
        writing.bring_in(m.desk, id, list(range(1, 9)), "test")
        step_on(m)
        mail = sequences.mails(m.desk.store.read(), id)[1]
        rows = ledger.of_campaign(m.desk.store.read(), mail["id"], "first")
        assert {d["state"] for d in rows} == {"handed over"} and len(rows) == 8
        asking.agree(m.desk, rows[0]["id"], purpose)
        until(m, NOW + 16 * DAY)
        assert got(m, id)[1, "resend"]["handed over"] == 7, "whoever said yes is not asked again"
        left = {r["why"]: r["people"] for r in sequences.left(m.desk.store.read(), id)}
        assert left == {"confirmed": 1}


def test_bookings_are_told_back_by_links(running: tuple[Mailing, Caller]) -> None:
    m, call = running
    frame = call("GET", "/frame")
    call("PUT", "/frame", frame | {"tell_back": True})
    campaigns.write(m.desk, m.campaign, {"plan": {"lead_share": 0.0, "batches": 1, "resend": False}})
    campaigns.start(m.desk, m.campaign, "test")
    sending.send_due(m.desk, m.tokens)
    d = ledger.of_campaign(m.desk.store.read(), m.campaign, "first")[0]
    message = campaign_table.one(m.desk.store.read(), m.campaign)["message"]
    link = next(x for x in campaign_table.links(m.desk.store.read(), message) if not x["trap"])
    went = call.client.get(f"/c/{m.tokens.make('c', d['id'], link['id'])}").headers["Location"]
    assert went.startswith(f"{link['url']}?meadow=")
    mark = went.partition("meadow=")[2]
    for _ in range(2):  # told twice, taken once
        assert call.client.post(f"/b/{mark}", data={"value": "45.50", "reference": "A-17"}).status_code == 200
    assert call.client.get(f"/b/{mark}?value=much").status_code == 400
    assert call.client.get(f"/b/{mark}?value=-3").status_code == 400
    assert call.client.get(f"/b/{mark[:-2]}xx").status_code == 404
    answers.happened(m.desk, d["id"], Kind.REPLIED)
    told = call("GET", f"/campaigns/{m.campaign}/divided")
    assert (told["bookings"], told["value"], told["replies"]) == (1, 45.5, 1)
    assert [r["subscriber"] for r in told["replied"]] == [d["subscriber"]]
    codes = []
    for i in range(30):
        set_clock(m.desk, NOW + 1 + i)
        codes.append(call.client.post(f"/b/{mark}", data={"value": "9", "reference": str(i)}).status_code)
    assert codes.count(200) == answers.MOST_BOOKINGS - 1, "the mark stands in the address: its reader can use it at will"
    for i in range(answers.MOST_EVENTS + 10):
        set_clock(m.desk, NOW + 1 + i)
        answers.opened(m.desk, d["id"], f"Machine {i}", "198.51.100.7")
    of = "SELECT count(*) FROM events WHERE subscriber = ? AND message = ?"
    assert m.desk.store.read().execute(of, (d["subscriber"], message)).fetchone()[0] == answers.MOST_EVENTS
    assert answers.with_mark("https://x.example/a?b=1#c", "m") == "https://x.example/a?b=1&meadow=m#c"


def test_where_a_held_plan_s_trouble_comes_from(folder: Path) -> None:
    bad = [f"p{i}@{'wreck.example' if i < 12 else 'postern.example'}" for i in range(80)]
    with mailing(folder, 80, email=bad, gone=[NOW - DAY] * 12 + [10**12] * 68) as m:
        with m.desk.store.atomic() as db:
            stays.put_on_list(db, "Pier", list(range(1, 13)), False, NOW)
        campaigns.write(m.desk, m.campaign, {"plan": {"lead_share": 0.0, "batches": 1, "resend": False}})
        campaigns.start(m.desk, m.campaign, "test")
        sending.send_due(m.desk, m.tokens)
        for d in ledger.of_campaign(m.desk.store.read(), m.campaign, "first"):
            if d["subscriber"] <= 12:
                answers.happened(m.desk, d["id"], Kind.BOUNCED, code="5.1.1", diagnostic="no such person")
        guarding.look(m.desk, m.campaign)
        if campaign_table.one(m.desk.store.read(), m.campaign)["state"] != "held":
            with m.desk.store.atomic() as db:
                campaign_table.update(db, m.campaign, {"state": "held", "held_why": "by hand"})
        found = {(x["place"], x["name"]): (x["k"], x["rest_k"]) for x in guarding.see(m.desk, m.campaign)["sources"]}
        assert found[("domain", "wreck.example")] == (12, 0) and found[("list", "Pier")][0] == 12


def test_a_step_s_guardrail_holds_the_step(folder: Path) -> None:
    with mailing(folder, 30) as m:
        id = made(m, Ladder((Step(1, "message"), Step(2, "wait", wait=DAY), Step(3, "message"))))
        writing.start(m.desk, id, "test")
        writing.bring_in(m.desk, id, list(range(1, 31)), "test")
        moving.tick(m.desk)
        mail = sequences.mails(m.desk.store.read(), id)[1]
        campaigns.hold(m.desk, mail["id"], "test")
        with m.desk.store.atomic() as db:
            campaign_table.update(db, mail["id"], {"held_why": "Too many hard bounces."})
        step_on(m)
        assert got(m, id)[1, "first"] == {"waiting": 30}
        assert [(h["title"], h["why"]) for h in measuring.held(m.desk)] == [
            ("A step of Welcome is held.", "Too many hard bounces.")
        ]
        campaigns.go_on(m.desk, mail["id"], "test")
        step_on(m)
        assert got(m, id)[1, "first"] == {"handed over": 30}
