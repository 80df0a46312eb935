"""The API from outside: who may, what is refused and how, and that the description is the truth."""

from __future__ import annotations

import re
from collections.abc import Iterator
from io import BytesIO
from pathlib import Path

import pytest
from flask.testing import FlaskClient

from openmeadow.net.signed_tokens import Tokens
from openmeadow.services import accounts
from openmeadow.services.campaigns import campaigns, dispatcher, tracking
from openmeadow.services.workspace import Workspace
from openmeadow.store.campaigns import campaigns as campaign_table
from openmeadow.web.app import make_app
from openmeadow.web.describe import description
from openmeadow.worker.loop import Worker
from tests.services.mailing import deliveries_of, mailing

ROOT = Path(__file__).parents[2]
PASSWORD = "harbour nights 41"


@pytest.fixture
def client(workspace: Workspace) -> Iterator[FlaskClient]:
    for role in accounts.ROLES:
        accounts.add(workspace, role, role, PASSWORD)
    with make_app(workspace).test_client() as c:
        yield c


def sign_in(client: FlaskClient, name: str = "analyst", code: str = "") -> dict[str, str]:
    answer = client.post("/api/sign-in", json={"name": name, "password": PASSWORD, "code": code})
    assert answer.status_code == 200, answer.json
    return {"X-Meadow-CSRF": client.get("/api/me").json["csrf"]}


def test_nobody_gets_in_without_signing_in(client: FlaskClient) -> None:
    for path, methods in description()["paths"].items():  # type: ignore[attr-defined]
        for method in methods:
            if path not in ("/api/sign-in", "/api/set-password"):
                answer = client.open(re.sub("{.*?}", "1", path), method=method.upper(), json={})
                assert (answer.status_code, answer.json["error"]) == (401, "Sign in first."), (method, path)
    wrong = client.post("/api/sign-in", json={"name": "analyst", "password": "wrong"})
    nobody = client.post("/api/sign-in", json={"name": "nobody", "password": PASSWORD})
    assert wrong.json == nobody.json and wrong.status_code == 401, "a wrong name and a wrong password look alike"


def test_roles_and_the_page_token(client: FlaskClient) -> None:
    headers = sign_in(client, "observer")
    assert client.get("/api/segments").status_code == 200
    refused = client.post("/api/segments", json={"name": "x", "rule": "rejoined"}, headers=headers)
    assert (refused.status_code, refused.json["error"]) == (403, "Your role (observer) does not allow this.")
    headers = sign_in(client, "writer")
    assert client.post("/api/segments", json={"name": "x", "rule": "rejoined"}).status_code == 403, "no page token"
    assert client.post("/api/segments", json={"name": "x", "rule": "rejoined"}, headers=headers).status_code == 200
    assert client.post("/api/campaigns/1/start", json={}, headers=headers).status_code == 403


def test_mistakes_are_sentences(client: FlaskClient) -> None:
    headers = sign_in(client)
    for method, path, body, status, words in (
        ("POST", "/api/segments/count", {"rule": "opened at least"}, 422, "The rule ends too early"),
        ("POST", "/api/segments/count", {"rool": "x"}, 422, "rule: Field required"),
        ("GET", "/api/subscribers/99", None, 404, "This subscriber does not exist."),
        ("GET", "/api/subscribers?sort=shoe", None, 409, "cannot be sorted by “shoe”"),
        ("POST", "/api/clock", {"by": -5}, 409, "only moves forward"),
        ("GET", "/api/subscribers/map/rule?columns=0,99&rows=0,1", None, 409, "This cell is not on the"),
        ("GET", "/api/subscribers/replay?months=99", None, 422, "months: Input should be less than or equal to 60"),
        ("POST", "/api/actions", {"act": "dance", "choice": {}}, 409, "is not an act"),
        ("POST", "/api/actions", {"act": "suppress", "choice": {}}, 409, "This needs a reason"),
        ("POST", "/api/activity/99/undo", {}, 404, "This entry of the activity log"),
        ("GET", "/api/exports/9", None, 404, "This export has expired. Create a"),
        ("GET", "/api/jobs/9/refused.csv", None, 404, "This import has no rejected rows"),
        ("POST", "/api/imports", {"upload": "../clock", "kind": "events"}, 404, "Choose it again"),
        ("GET", "/api/nothing", None, 404, "There is nothing at this address"),
    ):
        answer = client.open(path, method=method, json=body, headers=headers)
        assert answer.status_code == status and words in answer.json["error"], (path, answer.json)
    place = client.post("/api/segments/count", json={"rule": "rejoined and foo"}, headers=headers).json
    assert place["place"] == 13 and "band" in place["fits"]


def test_every_answer_has_its_policy(client: FlaskClient) -> None:
    for path in ("/", "/api/me", "/o/x", "/today"):
        answer = client.get(path)
        policy = answer.headers["Content-Security-Policy"]
        answer.close()
        assert "default-src 'none'" in policy and "http" not in policy
    assert client.get("/o/x").data == b"Not found\n" and client.get("/o/x").status_code == 404


def test_import_by_upload(client: FlaskClient, workspace: Workspace) -> None:
    headers = sign_in(client)
    file = (BytesIO(b"Mail;Name\na@x.example;A\nbad;B\n"), "my people.csv")
    seen = client.post("/api/imports/upload", data={"file": file}, headers=headers).json
    assert (seen["kind"], seen["targets"], seen["sample"][0]) == ("subscribers", ["email", "name"], ["a@x.example", "A"])
    worker = Worker(workspace)
    outcome = {}
    for dry in (True, False):
        body = {"upload": seen["upload"], "kind": "subscribers", "list_name": "Fair", "dry_run": dry}
        job = client.post("/api/imports", json=body, headers=headers).json["id"]
        worker.tick()
        outcome = client.get(f"/api/jobs/{job}").json
        assert (outcome["state"], outcome["outcome"]["taken"], outcome["outcome"]["refused"]) == ("finished", 1, 1)
        assert client.get("/api/subscribers").json["total"] == (0 if dry else 1)
    assert b"refused_reason" in client.get(f"/api/jobs/{outcome['id']}/refused.csv").data
    log = (BytesIO(b'{"at":"2026-03-01T10:00:00Z","event":"sent","email":"a@x.example","message":"N"}\n'), "l.ndjson")
    assert client.post("/api/imports/upload", data={"file": log}, headers=headers).json["kind"] == "events"
    nothing = client.post("/api/imports/upload", data={}, headers=headers)
    assert nothing.json["error"] == "Choose a file first."
    worker.close()


def test_public_pages(folder: Path) -> None:
    with mailing(folder, 3) as m:
        campaigns.write(m.workspace, m.campaign, {"plan": {"pilot_share": 0.0, "batches": 1, "resend": False}})
        campaigns.start(m.workspace, m.campaign, "test")
        dispatcher.send_due(m.workspace, m.tokens)
        d = deliveries_of(m.workspace.store.read(), m.campaign, "first")[0]
        link = campaign_table.links(m.workspace.store.read(), campaigns.message_of(m.workspace.store.read(), m.campaign))[
            0
        ]
        client = make_app(m.workspace).test_client()
        image = client.get("/o/" + m.tokens.make("o", d.id), headers={"User-Agent": "Reader"})
        assert (image.mimetype, image.headers["Cache-Control"]) == ("image/gif", "no-store")
        followed = client.get("/c/" + m.tokens.make("c", d.id, link.id), headers={"User-Agent": "Reader"})
        assert followed.location == "https://www.kestrelquay.example/a"
        assert client.get("/c/" + m.tokens.make("c", d.id, 999)).status_code == 404
        assert client.get("/c/" + m.tokens.make("o", d.id, link.id)).status_code == 404, "a token is for one use"
        leave = "/u/" + m.tokens.make("u", d.id)
        assert b"button" in client.get(leave).data
        assert m.workspace.count('permitted for "News"')[0] == 3, "looking at the page does nothing"
        for _ in range(2):
            assert client.post(leave, data={"List-Unsubscribe": "One-Click"}).status_code == 200
        assert m.workspace.count('permitted for "News"')[0] == 2
        kinds = [
            r["kind"] for r in m.workspace.store.read().execute("SELECT kind FROM events WHERE subscriber = 1 ORDER BY 1")
        ]
        assert kinds == [1, 5, 6, 10]
        tampered = leave[:-1] + ("a" if leave[-1] != "a" else "b")
        assert (client.get(tampered).status_code, client.get(tampered).data) == (404, b"Not found\n")
        assert Tokens(m.workspace.folder).secret == m.tokens.secret and not tracking.unsubscribed(m.workspace, 999)


def test_how_many_statements_a_page_takes(folder: Path) -> None:
    """The map is answered from columns: a handful of statements, however many people there are."""
    from openmeadow.store.connection import Store

    said: list[str] = []
    workspace = Workspace(folder)
    workspace.store.close()
    workspace.store = Store(folder, said.append)
    workspace.view()
    said.clear()
    workspace.view()
    assert len([s for s in said if s.startswith("SELECT")]) <= 4, said
    workspace.close()


def test_what_is_personal_is_not_kept_and_what_is_large_is_packed(client: FlaskClient, workspace: Workspace) -> None:
    sign_in(client)
    token = Tokens(workspace.folder).make("u", 1)
    for path in (
        "/api/me",
        "/api/subscribers",
        "/api/suppressions.csv",
        f"/u/{token}",
        "/p/x",
        "/api/nothing",
        "/readyz",
    ):
        assert client.get(path).headers["Cache-Control"] == "no-store", path
    script = re.search(r'src="(/assets/[^"]+\.js)"', client.get("/").text)
    assert script, "the front end is built"
    for how in ("br", "gzip"):
        with client.get(script.group(1), headers={"Accept-Encoding": how}) as packed:
            assert packed.headers["Content-Encoding"] == how and len(packed.data) < 500_000
            assert packed.mimetype == "text/javascript" and "immutable" in packed.headers["Cache-Control"]
    with client.get(script.group(1), headers={"Accept-Encoding": "identity"}) as plain:
        assert "Content-Encoding" not in plain.headers


def test_refusals_are_json_with_the_right_status(client: FlaskClient) -> None:
    headers = sign_in(client)
    for method, path, body, status in (
        ("GET", "/api/nothing", None, 404),
        ("GET", "/api/subscribers/99999999999999999999", None, 404),
        ("GET", "/api/subscribers/-1", None, 404),
        ("DELETE", "/api/me", None, 405),
        ("PATCH", "/api/subscribers", b"{}", 405),
        ("POST", "/api/segments", b"{", 422),
        ("POST", "/api/segments", b"[" * 100_000, 422),
        ("POST", "/api/segments", b'{"name": 5, "rule": "rejoined"}', 422),
        ("POST", "/api/campaigns/1/batches/1/move", b'{"due_at": 99999999999999999999}', 422),
        ("GET", "/api/subscribers?limit=-1", None, 422),
        ("GET", "/api/campaigns/capacity?an_hour=nan", None, 422),
        ("GET", "/api/campaigns/capacity?an_hour=inf", None, 422),
        ("POST", "/api/sign-in", b"x" * 70_000, 413),
        ("POST", "/api/segments", b" " * 6_000_000, 413),
    ):
        answer = client.open(path, method=method, data=body, headers=headers)
        assert (answer.status_code, answer.is_json) == (status, True), (
            method,
            path,
            answer.status_code,
            answer.data[:99],
        )
        assert answer.json["error"] and (status != 405 or "GET" in answer.headers["Allow"])
    odd = {"X-Meadow-CSRF": "caf\u00e9".encode().decode("latin-1")}
    assert client.post("/api/segments", json={"name": "x", "rule": "rejoined"}, headers=odd).status_code == 403
