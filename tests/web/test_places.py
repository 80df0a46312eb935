"""Each place through the API, as the browser asks it: a campaign's whole life, senders, Today, people, segments."""

from __future__ import annotations

import io
import json
from typing import Any

import pytest
from PIL import Image

from openmeadow.core.errors import Refused
from openmeadow.core.moments import DAY
from openmeadow.services.campaigns import dispatcher, images, tracking
from openmeadow.services.health import placement
from openmeadow.services.subscribers import address_checks
from openmeadow.services.today import alerts as tell
from openmeadow.store import settings
from openmeadow.store.campaigns import campaigns as campaign_table
from openmeadow.worker.jobs import run_next_job
from openmeadow.worker.loop import Worker
from tests.conftest import NOW, set_clock
from tests.core.test_reports import ONE, xml
from tests.services.mailing import DOMAIN, Mailing, deliveries_of, on_time
from tests.web.conftest import Caller, sending_day

REPORTED = xml(ONE.replace(">none<", ">reject<"))


def test_a_campaign_s_whole_life(running: tuple[Mailing, Caller]) -> None:
    m, call = running
    other = call("POST", "/campaigns", {"name": "Late hours"})
    assert {"blocker"} <= {c["level"] for c in other["checks"]}, "a new draft cannot start"
    assert "already a campaign" in call("POST", "/campaigns", {"name": "late hours"}, 409)["error"]
    call("DELETE", f"/campaigns/{other['id']}")
    path = f"/campaigns/{m.campaign}"
    draft = call("PUT", path, {"subject": "Harbour nights, again", "preview": "Two evenings"})
    assert (draft["state"], draft["subject"]) == ("draft", "Harbour nights, again")
    assert "blocker" not in {c["level"] for c in draft["checks"]}
    whom = call("GET", f"{path}/recipients")
    assert whom["count"] == 40 and sum(p["count"] for p in whom["providers"]) == 40
    planned = call("GET", f"{path}/schedule")["batches"]
    assert [b["people"] for b in planned] == [4, 18, 18]
    seen = call("GET", f"{path}/preview?subscriber=3")
    assert seen["person"] == "p2@saltmere.example" and "Dear P2" in seen["html"] and "Dear P2" in seen["plain"]
    call("POST", f"{path}/test", {"to": "p1@postern.example"})
    assert m.world.mailboxes["p1@postern.example"][-1]["subject"].endswith("Harbour nights, again")
    assert call("POST", f"{path}/start", {})["count"] == 40
    assert "can no longer be changed" in call("PUT", path, {"subject": "x"}, 409)["error"]
    assert "its results are kept. Archive it instead" in call("DELETE", path, None, 409)["error"]
    assert "Archive it when it has ended" in call("POST", f"{path}/archive", {"archived": True}, 409)["error"]
    dispatcher.send_due(m.workspace, m.tokens)
    foot = call("GET", "/status")
    assert (foot["sent"], foot["next_name"], foot["permitted"]) == (4, "Harbour nights, batch 2", 40)
    call("POST", f"{path}/pause", {})
    today = call("GET", "/today")
    assert today["decisions"][0]["title"] == "Harbour nights is paused." and len(today["day_rows"]) == 3
    call("POST", f"{path}/resume", {})
    on_time(m, NOW + 3 * 3600)
    for d in deliveries_of(m.workspace.store.read(), m.campaign, "first")[:10]:
        tracking.opened(m.workspace, d.id, "Reader", "198.51.100.1")
    told = call("GET", f"{path}/results")
    assert (told["sent"], told["opened"]) == (40, 10)
    assert call("GET", f"{path}/results.csv").startswith(b"send,batch,people,sent,delivered")
    assert call("POST", f"{path}/stop", {})["ok"]
    for away in (True, False):
        call("POST", f"{path}/archive", {"archived": away})
        line = call("GET", "/campaigns")["campaigns"][0]
        assert (line["state"], line["archived"], line["expected"]) == ("stopped", away, None)
    acts = [d["act"] for d in call("GET", "/activity")["actions"]]
    assert acts.index("paused campaign") > 0 and {"created campaign", "paused campaign"} <= set(acts)


def test_senders_by_the_api(running: tuple[Mailing, Caller]) -> None:
    m, call = running
    one = call("GET", "/senders")["domains"][0]
    assert (one["name"], one["addresses"][0]["usable"]) == (DOMAIN, True)
    new = call("POST", f"/senders/{one['id']}/key", {})
    assert (new["state"], new["selector"]) == ("warning", one["selector"]), "the next key waits until it is published"
    assert [r["state"] for r in new["records"] if r["record"].startswith("DKIM")] == ["pass", "warning"]
    published = call("POST", f"/senders/{one['id']}/publish", {})
    assert published["state"] == "pass" and published["selector"] != one["selector"], "proved, so it is used"
    assert [k["state"] for k in call("GET", f"/senders/{one['id']}")["keys"]] == ["old"]
    set_clock(m.workspace, NOW + 8 * DAY)
    assert call("POST", f"/senders/{one['id']}/check", {})["keys"] == [], "the old one is dropped after a week"
    assert b"_domainkey" in call("GET", f"/senders/{one['id']}/zone")
    assert [c["record"] for c in published["changes"]][:1] == ["DKIM om202603-2"]
    added = call("POST", f"/senders/{one['id']}/addresses", {"name": "box"})
    waiting = next(a for a in added["addresses"] if a["address"] == f"box@{DOMAIN}")
    assert waiting["confirmed_at"] is None
    call("POST", f"/from-addresses/{waiting['id']}/confirm", {})
    assert len(m.world.mailboxes[f"box@{DOMAIN}"]) == 2, "the link is mailed, and mailed again"
    assert call("GET", f"/senders/{one['id']}")["name"] == DOMAIN
    assert "This domain is not set up" in call("GET", "/senders/99", None, 404)["error"]
    assert "free mailbox provider" in call("POST", "/senders", {"name": "postern.example"}, 409)["error"]


def test_people_and_segments_by_the_api(running: tuple[Mailing, Caller]) -> None:
    m, call = running
    sending_day(m)
    seen = call("GET", "/subscribers/map")
    assert 0 < sum(seen["expected"][1::2]) < seen["subscribers"]
    assert seen["purpose"] == "News" and sum(seen["groups"]["band"]["cells"][2::3]) == 40
    assert sum(seen["groups"]["gate"]["cells"][2::3]) == sum(seen["groups"]["year"]["cells"][2::3]) == 40
    replay = call("GET", "/subscribers/replay?months=3")
    assert replay["messages"] == 40 and sum(replay["sums"]["opens"][1::2]) == 12
    assert call("GET", "/subscribers/map/rule?columns=0,80&rows=5,21")["rule"] == "ignored at least 5 in a row"
    rows = call("GET", "/subscribers?sort=email&limit=3&text=postern")
    assert [r["consents"] for r in rows["rows"]] == [{"News": "given"}] * 3
    assert rows["total"] == 20 and [r["email"] for r in rows["rows"]] == [f"p{n}@postern.example" for n in (11, 13, 15)]
    assert call("GET", "/subscribers/ids?sort=email&text=postern&first=1&last=2")["ids"] == [
        r["id"] for r in rows["rows"][1:]
    ]
    assert "can be selected one by one" in call("GET", "/subscribers/ids?first=0&last=20000", None, 409)["error"]
    choice = {"rule": "", "text": "", "bands": [], "ids": [1, 2], "without": []}
    assert call("POST", "/actions/preview", {"act": "label", "argument": "x", "choice": choice})["changes"] == 2
    action = call("POST", "/actions", {"act": "label", "argument": "x", "choice": choice})["action"]
    assert call("GET", "/subscribers/1")["labels"] == ["x"]
    assert call("POST", f"/activity/{action}/undo", {})["sentence"] == "2 entries removed."
    action = call("PATCH", "/subscribers/1", {"fields": {"seat": "A1"}})["action"]
    assert call("GET", "/exports/columns")["columns"][-1] == "field:seat"
    job = call("POST", "/exports", {"choice": choice, "columns": ["email", "field:seat"], "form": "ndjson"})["id"]
    worker = Worker(m.workspace)
    worker.tick()
    assert call("GET", f"/jobs/{job}")["outcome"]["taken"] == 2 and call("GET", "/jobs")["jobs"][0]["kind"] == "export"
    lines = call("GET", f"/exports/{job}").decode().splitlines()
    assert json.loads(lines[0]) == {"email": "p0@saltmere.example", "field:seat": "A1"}
    worker.close()
    counted = call("POST", "/segments/count", {"rule": 'in list "Foyer" or rejoined'})
    assert (counted["count"], counted["joined_by"], len(counted["clauses"])) == (40, "or", 2)
    assert counted["clauses"][1]["tree"] == {"clause": "rejoined"} and counted["breakdown"][1]["added_only_by_this"] == 40
    assert call("POST", "/segments/fits", {"rule": "band is "})["fits"][0].startswith("Strong")
    assert call("POST", "/segments/fits", {"rule": "rejoined"})["fits"] == ["and", "or"]
    draft = call("POST", "/segments/win-back", {"name": "Far away", "rule": "ignored at least 1 in a row"})["id"]
    assert call("GET", f"/campaigns/{draft}")["name"] == "Win back: Far away"
    segment = next(s for s in call("GET", "/segments")["segments"] if s["name"] == "Far away")
    assert segment["used_by"] == ["Win back: Far away"]
    assert "Remove it there first" in call("DELETE", f"/segments/{segment['id']}", None, 409)["error"]
    copy = call("POST", f"/segments/{segment['id']}/snapshots", {})
    assert call("GET", f"/segments/{segment['id']}/about")["snapshots"][0]["people"] == copy["count"] == 28
    call("DELETE", f"/segments/{segment['id']}/snapshots/{copy['id']}")
    assert (
        call("POST", "/segments/overlap", {"rule": "rejoined", "others": [segment["id"]]})["overlaps"][0]["only_that"]
        == 28
    )
    assert {f["kind"] for f in call("GET", "/search?text=p1")["finds"]} == {"subscriber"}
    assert (
        call("GET", "/search?text=far")["finds"][0]["kind"] == "campaign" and call("GET", "/search?text= ")["finds"] == []
    )
    assert call("GET", "/subscribers/sources")["sources"][0]["name"] == "Foyer"
    assert call("GET", "/subscribers/machine-activity")["providers"][1]["opens"]["all"] >= 0
    note = call("POST", "/subscribers/2/notes", {"text": "hello"})["id"]
    call("DELETE", f"/subscribers/2/notes/{note}")
    assert json.loads(json.dumps(call("GET", "/subscribers/2/everything.json")))["email"] == "p1@postern.example"
    call("DELETE", "/subscribers/2")
    assert call("GET", "/search?text=erased")["finds"] == [] and call("GET", "/status")["subscribers"] == 39
    observer = Caller(call.client, "observer")
    for method, path in (
        ("PATCH", "/subscribers/1"),
        ("DELETE", "/subscribers/1"),
        ("POST", "/actions"),
        ("POST", "/activity/1/undo"),
    ):
        assert "does not allow this" in observer(method, path, {"act": "x", "choice": {}}, 403)["error"]


def test_consent_by_the_api(running: tuple[Mailing, Caller]) -> None:
    m, call = running
    (news,) = call("GET", "/consent")["purposes"]
    assert (news["name"], news["counts"]["given"], news["permitted"], news["version"]) == ("News", 40, 40, 0)
    call("PATCH", f"/purposes/{news['id']}", {"text": "Evenings.", "basis": "consent"})
    gala = call("POST", "/purposes", {"name": "Gala"})["id"]
    assert "already a purpose" in call("POST", "/purposes", {"name": "gala"}, 409)["error"]
    call("PUT", "/forms", {"list_name": "Late evenings", "purposes": [gala], "reminders": [3]})
    assert "at least one purpose" in call("PUT", "/forms", {"list_name": "X", "purposes": []}, 409)["error"]
    (form,) = call("GET", "/consent")["forms"]
    assert form["address"].endswith("/join/Late%20evenings") and 'name="purpose"' in form["snippet"]
    word = {"purpose": gala, "state": "given", "reason": "said so at the source"}
    call("POST", "/subscribers/3/consent", word)
    assert "Enter the evidence" in call("POST", "/subscribers/3/consent", {**word, "reason": " "}, 409)["error"]
    assert call("GET", "/subscribers/3")["consent"][0]["source"] == "by hand"
    record = {"entries": 41, "verified": True, "broken_at": None, "what": "", "pending": False}
    assert call("GET", "/consent/record") == record
    assert call("GET", "/consent/record.csv").decode().count("said so at the source") == 1
    with m.workspace.store.atomic() as db:
        db.execute("INSERT INTO suppressions VALUES (5, 1, 9, 'no such user', NULL), (6, 2, 9, 'complaint', NULL)")
    listed = call("GET", "/suppressions")
    assert (listed["total"], [r["liftable"] for r in listed["rows"]]) == (2, [True, False])
    saved = call("GET", "/suppressions.csv").decode().splitlines()
    assert saved[0] == "email,suppressed,suppressed_at,source" and saved[1].startswith("p4@")
    assert ",hard bounce,1970-01-01T00:00:09" in saved[1] and ",complaint," in saved[2]
    lifted = {"subscriber": 5, "reason": "hard bounce", "why": "moved back"}
    action = call("POST", "/suppressions/remove", lifted)["action"]
    assert call("GET", "/suppressions")["total"] == 1
    assert "not suppressed for that reason" in call("POST", "/suppressions/remove", lifted, 404)["error"]
    assert (
        "new opt-in"
        in call("POST", "/suppressions/remove", {**lifted, "subscriber": 6, "reason": "complaint"}, 409)["error"]
    )
    assert "suppressed again" in call("POST", f"/activity/{action}/undo", {})["sentence"]
    told = call("GET", f"/campaigns/{m.campaign}/why-not?email=p5@postern.example")
    reasons = ["not in any selected segment", "suppressed"]
    assert told == {"subscriber": 6, "permitted": False, "reasons": reasons, "deliveries": []}
    assert (
        "no subscriber with the address"
        in call("GET", f"/campaigns/{m.campaign}/why-not?email=x@y.example", None, 404)["error"]
    )


def test_asking_and_cleaning_up_by_the_api(running: tuple[Mailing, Caller]) -> None:
    _, call = running
    gala = call("POST", "/purposes", {"name": "Gala"})["id"]
    body = {"purposes": ["Gala"], "none": True}
    found = call("POST", "/consent-requests/preview", body)
    assert (found["people"], found["permitted"], found["unrelated"]) == (40, 40, 0)
    assert "at least one purpose" in call("POST", "/consent-requests/preview", {"purposes": []}, 409)["error"]
    id = call("POST", "/consent-requests", {**body, "suppress_after_days": 30})["id"]
    draft = call("GET", f"/campaigns/{id}")
    assert (draft["kind"], draft["asks"], f"agree_{gala}" in draft["html"]) == ("consent request", ["Gala"], True)
    assert call("GET", "/consent-requests") == {"requests": []}
    call("POST", f"/campaigns/{id}/start", {})
    (line,) = call("GET", "/consent-requests")["requests"]
    assert (line["name"], line["agreed"], line["suppress_after_days"]) == (draft["name"], 0, 30)
    seen = call("GET", "/sunset-policy")
    assert not seen["active"] and [g["count"] for g in seen["groups"]] == [0, 0, 0, 0]
    assert "Turn on a sunset policy first" in call("POST", "/sunset-policy/run", {}, 409)["error"]
    terms = {"after_days": 90, "tries": 1, "wait_days": 7, "ask_masked": True, "automatic": False, "purpose": "News"}
    assert "steps of five" in call("PUT", "/sunset-policy", {**terms, "after_days": 91}, 409)["error"]
    wished = call("POST", "/sunset-policy/trial", {**terms, "after_days": 180})
    assert (wished["active"], wished["after_days"]) == (False, 180) and not call("GET", "/sunset-policy")["active"]
    assert "steps of five" in call("POST", "/sunset-policy/trial", {**terms, "after_days": 91}, 409)["error"]
    agreed = call("PUT", "/sunset-policy", terms)
    assert agreed["active"] and agreed["sentence"].startswith("after 90 days without engagement 1 win-back email")
    assert [p["stop"] for p in agreed["patterns"]] == ["", ""]
    assert call("POST", "/sunset-policy/run", {})["counts"]["suppress"] == 0
    assert call("GET", "/suppressions?reason=inactive")["rows"] == []
    assert b"News" in call("GET", "/subscribers/1/consent-record.csv")


def test_health_and_addresses_by_the_api(running: tuple[Mailing, Caller]) -> None:
    m, call = running
    with m.workspace.store.atomic() as db:
        settings.set_setting(db, "mail_port", m.workspace.setting("relay_port"))
        boxes = [
            {
                "provider": "Postern",
                "address": "probe@postern.example",
                "listing": f"{m.control}/mailbox/probe@postern.example",
            }
        ]
        settings.set_setting(db, "seed_mailboxes", boxes)
    sending_day(m)
    worker = Worker(m.workspace)
    try:
        everybody = {"choice": {"rule": ""}, "ask_hosts": True}
        cost = call("POST", "/addresses/cost", everybody)
        assert (cost["people"], cost["domains"], cost["questions"]) == (40, 0, 40), (
            "they were asked for their mail hosts already"
        )
        job = call("POST", "/addresses/check", everybody)["id"]
        call("POST", f"/jobs/{job}/pause", {})
        assert not run_next_job(worker.workspace) and call("GET", f"/jobs/{job}")["state"] == "paused"
        call("POST", f"/jobs/{job}/resume", {})
        while run_next_job(worker.workspace):
            pass
        seen = call("GET", "/addresses")
        assert (seen["counts"]["deliverable"], seen["unchecked"]) == (40, 0)
        assert call("POST", "/addresses/cost", everybody)["questions"] == 0, "answers are kept with their age"
        with m.workspace.store.atomic() as db:
            db.execute(
                "UPDATE mailbox_checks SET answer = 'greylisted', again_at = ? WHERE email_key LIKE 'p3@%'", (NOW,)
            )
            db.execute("UPDATE address_verdicts SET verdict = 3 WHERE subscriber = 4")
        assert address_checks.ask_again(m.workspace) == 1 and address_checks.ask_again(m.workspace) == 0
        assert call("GET", "/addresses")["counts"]["deliverable"] == 40, "a host that put the question off is asked again"
        typed = {"text": "p3@postern.example\nann@postren.example\nnobody", "ask_hosts": True}
        three = call("POST", "/addresses/typos", typed)["verdicts"]
        assert [(v["verdict"], v["person"], v["suggestion"]) for v in three] == [
            ("deliverable", 4, None),
            ("undeliverable", None, "ann@postern.example"),
            ("undeliverable", None, None),
        ]
        assert "Enter an address first" in call("POST", "/addresses/typos", {"text": " "}, 409)["error"]
        assert (
            "addresses. Check more than" in call("POST", "/addresses/typos", {"text": "a@b.test\n" * 201}, 409)["error"]
        )
        assert "There are no suggestions left to" in call("POST", "/addresses/accept", {}, 409)["error"]
        with m.workspace.store.atomic() as db:
            db.execute(
                "UPDATE subscribers SET email = 'p1@postren.example', email_key = 'p1@postren.example' WHERE id = 2"
            )
            db.execute("UPDATE address_verdicts SET suggestion = 'p1@postern.example' WHERE subscriber = 2")
        action = call("POST", "/addresses/accept", {"typed": "postren.example"})["action"]
        assert call("GET", "/subscribers/2")["email"] == "p1@postern.example"
        assert "1 addresses restored" in call("POST", f"/activity/{action}/undo", {})["sentence"]
        call("PUT", "/addresses/required", {"required": True})
        assert m.workspace.count('permitted for "News"')[0] == 39, "the corrected address was not checked yet"
        health = call("GET", "/health")
        assert {p["name"]: sum(p["days"]["sent"]) for p in health["providers"]}["Postern"] == 20
        of = {d["name"]: d["id"] for d in health["senders"]}
        mine = call("GET", f"/health?sender={of[DOMAIN]}")["providers"]
        assert sum(sum(p["days"]["sent"]) for p in mine) == 40
        other = call("GET", f"/health?sender={of[DOMAIN] + 1}")["providers"]
        assert sum(sum(p["days"]["sent"]) for p in other) == 0
        assert [d["requirement"] for d in health["requirements"]][:2] == ["Counts as a bulk sender", "SPF passes"]
        states = {d["requirement"].split(" ")[0]: d["state"] for d in health["requirements"][1:]}
        assert states.pop("One-click") == "fail", "the public address is not https"
        assert set(states.values()) == {"pass"}
        call("POST", f"/campaigns/{m.campaign}/placement", {})
        assert placement.look(m.workspace) == 1
        assert call("GET", "/health")["tests"][0]["copies"][0]["folder"] == "inbox"
        with m.workspace.store.atomic() as db:
            db.execute("INSERT INTO suppressions VALUES (2, 1, ?, 'x', NULL), (3, 1, 9, 'x', NULL)", (NOW,))
        postern = next(p for p in call("GET", "/health")["providers"] if p["name"] == "Postern")["days"]
        assert (sum(postern["copies"]), sum(postern["not in inbox"])) == (1, 0)
        call("PUT", "/settings", {"values": {"guardrails": {"deferrals": 0.05}}})
        first = call("GET", "/health")["providers"][0]
        assert (first["limits"]["deferred"], first["limits"]["complaints"]) == (0.05, 0.003)
        csv = b"date,provider,complaint_rate,standing\n2026-03-01,Postern,0.4%,poor\n2026-03-02,Nobody,1%,\n"
        taken = call.client.post(
            "/api/health/statistics", data={"file": (io.BytesIO(csv), "f.csv")}, headers=call.headers
        ).json
        assert taken is not None and (taken["rows"], len(taken["refused"])) == (1, 1)
        says = next(p["says"] for p in call("GET", "/health")["providers"] if p["name"] == "Postern")
        assert (says["complaint_rate"], says["standing"]) == (0.004, "poor")
        for said in ("40 messages of q.example, 40 aligned", "reported before, not counted again"):
            again = {"file": (io.BytesIO(REPORTED), "r.xml")}
            taken = call.client.post("/api/health/reports", data=again, headers=call.headers).json
            assert taken is not None and said in taken["taken"][0]["sentence"]
        (source,) = (s for s in call("GET", "/health")["sources"] if s["domain"] == "q.example")
        assert (source["spf"], source["dkim"], source["rejected"], source["reporters"]) == (0, 40, 40, ["Postern"])
        undo = {"provider": "Postern", "since": NOW - 10, "until": NOW + 10, "why": "their mistake"}
        asked = f"/health/reverse-bounces?provider=Postern&since={NOW - 10}&until={NOW + 10}"
        assert call("GET", asked)["people"] == 1
        assert call("POST", "/health/reverse-bounces", undo)["people"] == 1
        assert call("GET", asked)["people"] == 0
        assert "No one at Postern" in call("POST", "/health/reverse-bounces", undo, 404)["error"]
        assert "No alert recipients are set" in call("POST", "/health/alerts/test", {}, 409)["error"]
        words = {"to": ["ann@saltmere.example"], "url": "", "quiet_hours": "9-11"}
        assert "like 22-7" in call("PUT", "/health/alerts", {**words, "quiet_hours": "night"}, 409)["error"]
        call("PUT", "/health/alerts", words)
        assert call("POST", "/health/alerts/test", {})["count"] == 1
        with m.workspace.store.atomic() as db:
            db.execute("UPDATE campaigns SET state = 'paused', paused_why = 'Complaints.' WHERE id = ?", (m.campaign,))
        assert tell.tend(m.workspace) == 0, "quiet hours"
        set_clock(m.workspace, NOW + DAY + 4 * 3600)
        assert tell.tend(m.workspace) == 1 and tell.tend(m.workspace) == 0, "once"
        assert "is paused. Complaints." in m.world.mailboxes["ann@saltmere.example"][-1]["plain"]
    finally:
        worker.close()


def test_what_is_written_by_the_api(running: tuple[Mailing, Caller]) -> None:
    m, call = running
    path = f"/campaigns/{m.campaign}"
    assert call("POST", f"{path}/template", {"name": "Evenings"})["id"] == 1
    assert "already a template" in call("POST", f"{path}/template", {"name": "evenings"}, 409)["error"]
    other = call("POST", "/campaigns", {"name": "From it", "template": 1})
    assert (other["subject"], other["purpose"]) == ("Harbour nights", None)
    third = call("POST", "/campaigns", {"name": "From that", "campaign": m.campaign})
    assert third["purpose_name"] == "News" and third["html"] == other["html"]
    assert (
        "The template or campaign to start from" in call("POST", "/campaigns", {"name": "x", "template": 9}, 404)["error"]
    )
    blocks = [{"kind": "text", "html": "<p>Dear {{ first_name or 'friend' }}</p>"}]
    written = call("PUT", f"/campaigns/{other['id']}", {"blocks": blocks})
    assert written["blocks"] == blocks and "Dear" in written["plain"]
    assert "is not a block" in call("PUT", f"/campaigns/{other['id']}", {"blocks": [{"kind": "x"}]}, 409)["error"]
    framed = call("GET", "/layout") | {"footer": "<p>On the quay</p><script>x</script>", "postal_address": "Quay 1"}
    assert call("PUT", "/layout", framed)["footer"] == "<p>On the quay</p>"
    assert "On the quay" in call("GET", f"/campaigns/{other['id']}")["html"], "drafts have it at once"
    assert "is not a colour" in call("PUT", "/layout", framed | {"colour": "blue"}, 409)["error"]
    assert call("PUT", f"/campaigns/{other['id']}", {"html": "<p>x</p>"})["blocks"] is None
    seen = call("GET", f"{path}/preview?email=P3@postern.example")
    assert "Dear P3" in seen["html"] and {"field": "first_name", "value": "P3"} in seen["values"]
    assert "There is no subscriber with the address" in call("GET", f"{path}/preview?email=x@y.test", None, 404)["error"]
    some = "{% if matches('joined more than 9000 days ago') %}Old{% endif %}"
    html = f"<style>p{{color:red}}</style><div style='display:flex'>{some}x</div>"
    call("PUT", path, {"html": html})
    seen = call("GET", f"{path}/preview")
    assert "Old" not in seen["html"] and seen["support"][0]["what"] == "flexible boxes"

    def image(data: bytes, name: str, status: int = 200) -> Any:
        form = {"file": (io.BytesIO(data), name)}
        answer = call.client.post("/api/images", data=form, headers=call.headers)
        assert answer.status_code == status, answer.data
        return answer.json

    good = io.BytesIO()
    Image.new("RGB", (30, 20), "navy").save(good, "PNG")
    kept = image(good.getvalue(), "hall.png")
    assert (kept["width"], kept["height"]) == (30, 20)
    assert image(good.getvalue(), "again.png")["url"] == kept["url"], "the same file is the same image"
    served = call.client.get(kept["url"].replace("http://127.0.0.1:1", ""))
    assert served.data == good.getvalue() and "immutable" in served.headers["Cache-Control"]
    assert call.client.get("/f/meadow.db").status_code == 404
    assert "not a supported image" in image(b"<svg onload=x>", "x.svg", 409)["error"]
    with pytest.raises(Refused, match="pixels wide is enough"):
        images.take(m.workspace, "big.png", b"x" * (2 << 20) + b"y", "ann")
    assert len(call("GET", "/images")["images"]) == 1
    call("DELETE", "/templates/1")
    assert call("GET", "/templates")["templates"] == []


def test_results_divided_by_the_api(running: tuple[Mailing, Caller]) -> None:
    m, call = running
    sending_day(m)
    path = f"/campaigns/{m.campaign}"
    link = next(x.id for x in campaign_table.links(m.workspace.store.read(), 1) if not x.trap)
    for d in deliveries_of(m.workspace.store.read(), m.campaign, "first")[:8]:
        tracking.clicked(m.workspace, d.id, link, "Reader", "198.51.100.1")
    seen = call("GET", f"{path}/breakdown?with={m.campaign}")
    assert [b["title"] for b in seen["by"]] == ["Provider", "List"]
    assert sum(x["sent"] for x in seen["by"][0]["lines"]) == 40 and seen["usual"] is None
    assert seen["links"][0]["people"] == 8 and "8 of 40 (20.0%" in seen["text"]
    assert [x["name"] for x in seen["compared"]] == ["Harbour nights"]
    assert ">8</span>" in call("GET", f"{path}/clicks")["html"], "how many clicked stands at the link"
    email = "p1@postern.example"
    rows = [
        {"event": "bounced", "email": email, "code": "550", "diagnostic": "550 5.1.1 <p1@x.example>: no such user"},
        {"event": "booked", "email": email, "value": 40},
    ]
    lines = [json.dumps({"at": "2026-03-12T14:00:00Z", "message": "Harbour nights", **r}) for r in rows]
    assert call.client.post("/api/events", data="\n".join(lines), headers=call.headers).status_code == 200
    again = call("GET", f"{path}/breakdown?with=")
    assert again["bounce_reasons"] == [{"kind": "hard", "code": "5.1.1", "text": "…: no such user", "people": 1}]
    assert [(b["email"], b["value"]) for b in again["booked"]] == [(email, 40)]
    told = call("GET", f"{path}/results")
    assert sum(told["days"]) >= 8 and told["settled_at"] > told["as_of"]
    assert call("GET", f"{path}/variants.csv").startswith(b"send,variant,people")
    set_clock(m.workspace, NOW + 20 * DAY)
    works = call("GET", "/campaigns/benchmarks")
    assert works["resends"]["campaigns"] == 0 and "It is unknown whether a new subject" in works["resends"]["sentence"]
    assert works["mailings"] == 0, "40 people say too little"
    moved = call("POST", f"{path}/batches/99/move", {"due_at": NOW}, 404)
    assert "This batch does not exist" in moved["error"]
