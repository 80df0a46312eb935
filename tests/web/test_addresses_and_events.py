"""Files of addresses, events of other systems, and a message that goes round, by the API."""

from __future__ import annotations

import io
import json
import threading
from dataclasses import replace
from typing import Any

from werkzeug.serving import make_server

from openmeadow.core.moments import DAY
from openmeadow.services.senders import round_trip_test
from openmeadow.store import settings
from openmeadow.store.senders import senders as sender_table
from openmeadow.worker.jobs import run_next_job
from openmeadow.worker.loop import Worker
from tests.conftest import NOW, set_clock
from tests.services.mailing import Mailing
from tests.web.conftest import Caller, sending_day


def test_a_file_of_addresses_is_checked(running: tuple[Mailing, Caller]) -> None:
    m, call = running
    lines = "email,name\n" + "".join(f"p{i}@postern.example,P\n" for i in range(1, 4100, 2)) + "nobody,=1\n"

    def upload(text: str, status: int = 200) -> Any:
        form = {"file": (io.BytesIO(text.encode()), "guests.csv")}
        answer = call.client.post("/api/addresses/file", data=form, headers=call.headers)
        assert answer.status_code == status
        return answer.json

    assert "guests.csv has no addresses" in upload("email,name\n", 409)["error"]
    started = upload(lines)
    assert started["count"] == 2051
    worker = Worker(m.workspace)
    try:
        with m.workspace.store.atomic() as db:
            job = settings.job(db, started["id"])
            assert job is not None
            settings.save_position(db, job.id, json.dumps(json.loads(job.arguments) | {"done": 2000}))
        folder = m.workspace.folder / "exports"
        folder.mkdir()
        (folder / f"{started['id']}.csv").write_text(
            "email,verdict,reasons,suggestion\n" + "x@y.test,deliverable,,\n" * 2000
        )
        assert run_next_job(worker.workspace)
    finally:
        worker.close()
    done = call("GET", f"/jobs/{started['id']}")["outcome"]
    assert (done["taken"], done["verdicts"]["undeliverable"]) == (2051, 1), "it goes on where it was left"
    assert call("GET", f"/exports/{started['id']}").decode().splitlines()[-1].startswith("nobody,undeliverable,")


def test_events_and_capacity_by_the_api(running: tuple[Mailing, Caller]) -> None:
    m, call = running
    sending_day(m)
    assert (
        "Not enough data to suggest a batch"
        in call("GET", "/campaigns/capacity?an_hour=240&one_in=9", None, 409)["error"]
    )
    lines = [
        {"at": "2026-03-13T11:00:00Z", "event": "clicked", "email": f"p{i}@{d}.example", "message": "Harbour nights"}
        for i in range(40)
        for d in ("postern", "saltmere")
    ]
    lines += [{**line, "at": "2026-03-13T12:00:00Z", "message": "Another"} for line in lines]
    body = "\n".join(json.dumps(line) for line in lines)
    answer = m.workspace and call.client.post("/api/events", data=body, headers=call.headers).json
    assert (answer["taken"], answer["aside"]) == (80, 80)
    again = call.client.post("/api/events", data=body, headers=call.headers).json
    assert again["taken"] == 0, "the same twice changes nothing"
    assert "body is empty" in call.client.post("/api/events", data=" ", headers=call.headers).json["error"]
    assert b"BEGIN:VEVENT" in call("GET", f"/campaigns/{m.campaign}/plan.ics")
    seen = call("GET", f"/campaigns/{m.campaign}/guardrails")
    assert seen["paused_why"] == "" and {g["state"] for g in seen["guardrails"]} == {"within limit"}
    assert (
        "Only a paused campaign can resume"
        in call("POST", f"/campaigns/{m.campaign}/resume-without", {"name": "Postern"}, 409)["error"]
    )
    with m.workspace.store.atomic() as db:
        db.execute("UPDATE events SET at = at - 3 * 86400")
    m.workspace.score_summary(full=True)
    fits = call("GET", "/campaigns/capacity?an_hour=240&one_in=9")
    assert fits["delivered"] == 40 and fits["rate"] == 1.0 and fits["largest"] == 2160


def test_a_message_that_goes_round(running: tuple[Mailing, Caller]) -> None:
    """By the relay to the return domain, into the intake, its one-click pressed on the served page."""
    m, call = running
    one = call("GET", "/senders")["domains"][0]
    client = call.client

    def record() -> dict[str, Any]:
        records = call("POST", f"/senders/{one['id']}/check", {})["records"]
        return next((r for r in records if r["record"] == "Bounce and unsubscribe test"), {})

    assert record() == {}
    worker = Worker(m.workspace)
    intake = worker.listen()
    server = make_server("127.0.0.1", 0, client.application)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        with m.workspace.store.atomic() as db:
            settings.set_setting(db, "public_url", f"http://127.0.0.1:{server.server_port}")
        worker._senders.check()
        row = sender_table.domains(m.workspace.store.read())[0]
        came = replace(row, proof_sent_at=NOW, proof_back_at=NOW, proof_click_at=None)
        assert round_trip_test.finding(came, NOW) is None, "its one-click is being pressed: nothing is concluded"
        intake.drain()
        worker._senders.check()
        assert "Bounce and unsubscribe test" in {r["record"] for r in call("GET", "/senders")["domains"][0]["records"]}, (
            "told at once"
        )
        assert record()["state"] == "pass", record()
        assert not round_trip_test.came_back(m.workspace, m.tokens, "proof-1-000000000000@bounce.x", b"")
        set_clock(m.workspace, NOW + 2 * DAY)
        with m.workspace.store.atomic() as db:
            settings.set_setting(db, "public_url", f"http://127.0.0.1:{server.server_port}/elsewhere")
        worker._senders.check()
        intake.drain()
        assert (record()["state"], "was rejected" in record()["found"]) == ("fail", True)
        intake.stop()
        set_clock(m.workspace, NOW + 4 * DAY)
        with m.workspace.store.atomic() as db:
            settings.set_setting(db, "public_url", "http://127.0.0.1:1")
        assert not round_trip_test.send(m.workspace, one["id"]), "its one-click could not be pressed"
        with m.workspace.store.atomic() as db:
            settings.set_setting(db, "public_url", f"http://127.0.0.1:{server.server_port}")
        round_trip_test.send(m.workspace, one["id"])
        assert record() == {}, "under way: nothing is concluded"
        set_clock(m.workspace, NOW + 4 * DAY + 3700)
        assert (record()["state"], record()["found"]) == ("unknown", "did not return within an hour")
    finally:
        server.shutdown()
        worker.close()
