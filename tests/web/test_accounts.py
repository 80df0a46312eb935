"""Accounts, sessions and tokens from outside: what begins, what ends, what is asked again, and what stays on record."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pyotp
import pytest
from flask.testing import FlaskClient

from openmeadow.core.errors import Refused
from openmeadow.services import accounts
from openmeadow.services.clock import Clock
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.web.app import make_app
from tests.web.test_api import PASSWORD, sign_in

LATER = {"other": "harbour nights 42"}


@pytest.fixture
def client(workspace: Workspace) -> Iterator[FlaskClient]:
    for role in accounts.ROLES:
        accounts.add(workspace, role, role, PASSWORD)
    with make_app(workspace).test_client() as c:
        yield c


class Wall(Clock):
    """The machine's clock, moved by a test."""

    def __init__(self) -> None:
        self.begun, self.ahead = super().now() // 30 * 30 + 5, 0

    def now(self) -> int:
        return self.begun + self.ahead


@pytest.fixture
def wall(workspace: Workspace) -> Wall:
    workspace.wall = Wall()
    return workspace.wall


def log_of(workspace: Workspace) -> list[tuple[str, str, str]]:
    return [(r.who, r.act, r.what) for r in settings.activity(workspace.store.read())]


def prove(client: FlaskClient, headers: dict[str, str], password: str = PASSWORD) -> int:
    return client.post("/api/me/prove", json={"password": password}, headers=headers).status_code


def another(workspace: Workspace, name: str = "analyst") -> tuple[FlaskClient, dict[str, str]]:
    other = make_app(workspace).test_client()
    return other, sign_in(other, name)


def test_signing_out_ends_the_session_itself(client: FlaskClient) -> None:
    """A cookie that was copied before is worth nothing after."""
    headers = sign_in(client)
    copied = client.get_cookie("meadow")
    assert copied is not None and copied.http_only and copied.same_site == "Lax"
    assert client.post("/api/sign-out", headers=headers).status_code == 200
    client.set_cookie("meadow", copied.value)
    assert client.get("/api/me").status_code == 401
    assert client.post("/api/me/second-factor", headers=headers).status_code == 401


def test_a_session_ends_by_time(client: FlaskClient, wall: Wall) -> None:
    sign_in(client)
    for _ in range(70):  # in use all the time
        wall.ahead += accounts.IDLE - 60
        status = client.get("/api/me").status_code
        if status != 200:
            break
    assert status == 401 and 29 * 86_400 < wall.ahead < 31 * 86_400, "after 30 days it ends all the same"
    sign_in(client)
    wall.ahead += accounts.IDLE + 61
    assert client.get("/api/me").status_code == 401, "12 h unused"


ENDING: list[tuple[str, Any]] = [
    ("password", lambda workspace: accounts.set_password(workspace, 1, LATER["other"], "x")),
    ("role", lambda workspace: accounts.set_role(workspace, 3, "writer", "x")),
    ("second factor", lambda workspace: accounts.drop_second_factor(workspace, 1, "x")),
    ("sign-out", lambda workspace: accounts.sign_out_everywhere(workspace, 1, "x")),
]


@pytest.mark.parametrize(("what", "do"), ENDING)
def test_what_ends_all_sessions(client: FlaskClient, workspace: Workspace, what: str, do: Any) -> None:
    name = "observer" if what == "role" else "analyst"
    sign_in(client, name)
    other, _ = another(workspace, name)
    do(workspace)
    assert client.get("/api/me").status_code == other.get("/api/me").status_code == 401


def test_what_weakens_security_asks_for_the_password_again(client: FlaskClient, workspace: Workspace, wall: Wall) -> None:
    headers = sign_in(client)
    wall.ahead += accounts.PROVED + 1
    asking: list[tuple[str, str, Any]] = [
        ("POST", "/api/accounts", {"name": "wren", "role": "writer"}),
        ("DELETE", "/api/accounts/2", None),
        ("PUT", "/api/accounts/2/role", {"role": "observer"}),
        ("DELETE", "/api/me/second-factor", None),
        ("POST", "/api/me/tokens", {"name": "t", "scope": "all"}),
        ("PUT", "/api/me/password", {"password": LATER["other"]}),
        ("PUT", "/api/settings", {"values": {"relay_tls": "none"}}),
        ("PUT", "/api/settings", {"values": {"guardrails": {"complaints": 0.5}}}),
        ("PUT", "/api/settings", {"values": {"inside_hosts": ["127.0.0.1"]}}),
    ]
    for method, path, body in asking:
        answer = client.open(path, method=method, json=body, headers=headers)
        assert (answer.status_code, answer.json["fits"]) == (403, ["password"]), path
    stricter = {"values": {"guardrails": {"complaints": 0.001}, "relay_tls": "tls"}}
    assert client.put("/api/settings", json=stricter, headers=headers).status_code == 200
    assert prove(client, headers, "wrong") == 409 and prove(client, headers) == 200
    token = client.post("/api/me/tokens", json={"name": "t", "scope": "all"}, headers=headers).json["token"]
    bearer = {"Authorization": f"Bearer {token}"}
    for method, path, body in asking:
        assert client.open(path, method=method, json=body, headers=bearer).status_code == 403, "never by a token"


def test_the_second_factor(client: FlaskClient, workspace: Workspace, wall: Wall) -> None:
    headers = sign_in(client)
    other, _ = another(workspace)
    secret = client.post("/api/me/second-factor", headers=headers).json["secret"]
    totp = pyotp.TOTP(secret)
    for wrong in ({"secret": secret, "code": "000000"}, {"secret": "AAAA", "code": "1"}, {"secret": "!!", "code": "é"}):
        assert client.put("/api/me/second-factor", json=wrong, headers=headers).status_code == 409
    kept = client.put("/api/me/second-factor", json={"secret": secret, "code": totp.at(wall.now())}, headers=headers)
    codes = kept.json["codes"]
    assert len(set(codes)) == 10 and client.get("/api/me").json["recovery_codes"] == 10
    assert other.get("/api/me").status_code == 401, "other sessions end"
    fresh = make_app(workspace).test_client()

    def tries(code: str) -> int:
        return fresh.post("/api/sign-in", json={"name": "analyst", "password": PASSWORD, "code": code}).status_code

    assert tries(totp.at(wall.now())) == 401, "the code that set it up is used"
    wall.ahead += 30
    assert [tries(totp.at(wall.now())) for _ in range(3)] == [200, 401, 401], "a code is taken once"
    assert [tries(codes[0]) for _ in range(2)] == [200, 401] and tries("") == 401


def test_many_wrong_passwords_are_waited_out(client: FlaskClient, workspace: Workspace, wall: Wall) -> None:
    """Per account, from however many networks; the right one has to wait as well, and is then taken."""

    def tries(n: int, password: str = "wrong", name: str = "analyst") -> Any:
        network = {"REMOTE_ADDR": f"198.51.100.{n}"}
        return client.post("/api/sign-in", json={"name": name, "password": password}, environ_base=network)

    for name in ("analyst", "nobody here"):
        answers = [tries(n, name=name) for n in range(8)]
        assert [a.status_code for a in answers] == [401] * 5 + [429] * 3
        assert int(answers[-1].headers["Retry-After"]) <= accounts.LONGEST_WAIT
    assert tries(9, PASSWORD).status_code == 429
    wall.ahead += accounts.LONGEST_WAIT
    assert tries(10, PASSWORD).status_code == 200
    acts = [act for _, act, _ in log_of(workspace)]
    assert acts.count("failed to sign in") == 10 and acts.count("signed in") == 1
    assert [tries(11).status_code for _ in range(25)][-1] == 429, "and per network address"


def test_tokens_have_names_scopes_and_an_end(client: FlaskClient, workspace: Workspace, wall: Wall) -> None:
    headers = sign_in(client)

    def made(scope: str, days: int | None = None) -> dict[str, str]:
        body = {"name": f"for {scope}", "scope": scope, "days": days}
        return {"Authorization": f"Bearer {client.post('/api/me/tokens', json=body, headers=headers).json['token']}"}

    bearers = {scope: made(scope) for scope in accounts.SCOPES} | {"a day": made("all", 1)}
    asked = (("GET", "/api/segments", None), ("POST", "/api/events", b"{}"), ("POST", "/api/segments", b"{}"))
    for scope, expected in {"read": (200, 403, 403), "events": (403, 200, 403), "all": (200, 200, 422)}.items():
        got = tuple(client.open(p, method=how, data=d, headers=bearers[scope]).status_code for how, p, d in asked)
        assert got == expected, scope
    wall.ahead += 86_401
    assert client.get("/api/segments", headers=bearers["a day"]).status_code == 401
    listed = {t["name"]: t for t in client.get("/api/me/account").json["tokens"]} if sign_in(client) else {}
    assert listed["for read"]["used_at"] and listed["for read"]["scope"] == "read"
    headers = {"X-Meadow-CSRF": client.get("/api/me").json["csrf"]}
    assert client.delete(f"/api/me/tokens/{listed['for read']['id']}", headers=headers).status_code == 200
    assert client.get("/api/segments", headers=bearers["read"]).status_code == 401
    proxied = {"Authorization": "Basic cHJveHk6eA=="}
    assert client.get("/api/me", headers=proxied).status_code == 200, "a proxy's own sign-in is not ours"


def test_an_invitation_and_a_lost_password(client: FlaskClient, workspace: Workspace, wall: Wall) -> None:
    headers = sign_in(client)
    invited = client.post("/api/accounts", json={"name": "wren", "role": "writer"}, headers=headers).json
    fresh = make_app(workspace).test_client()

    def sets(url: str, password: str) -> Any:
        return fresh.post("/api/set-password", json={"token": url.rpartition("/")[2], "password": password})

    assert fresh.post("/api/sign-in", json={"name": "wren", "password": ""}).status_code == 401
    assert "at least 10 characters" in sets(invited["url"], "short").json["error"]
    assert sets(invited["url"], LATER["other"]).status_code == 200 and fresh.get("/api/me").json["role"] == "writer"
    assert "This link was already used or has" in sets(invited["url"], LATER["other"]).json["error"]
    again = client.post(f"/api/accounts/{invited['id']}/link", headers=headers).json
    wall.ahead += accounts.LINK_HOLDS["set password"] + 1
    assert sets(again["url"], LATER["other"]).status_code == 401, "a link gets old"


def test_what_is_another_s_is_not_touched(client: FlaskClient, workspace: Workspace) -> None:
    """A session, a token, an account of somebody else: not found, or not allowed; theirs go on."""
    other, theirs = another(workspace, "observer")
    token = accounts.new_token(workspace, 3, "theirs", "read")
    mark = other.get("/api/me/account").json["sessions"][0]["mark"]
    headers = sign_in(client, "writer")
    for method, path, status in (
        ("DELETE", "/api/me/tokens/1", 404),
        ("DELETE", f"/api/me/sessions/{mark}", 404),
        ("DELETE", "/api/tokens/1", 403),
        ("DELETE", "/api/accounts/3/sessions", 403),
        ("PUT", "/api/accounts/2/role", 403),
        ("GET", "/api/accounts", 403),
    ):
        body = {"role": "analyst"} if method == "PUT" else None
        assert client.open(path, method=method, json=body, headers=headers).status_code == status, path
    assert "theirs" not in str(client.get("/api/me/account").json)
    assert other.get("/api/me", headers=theirs).status_code == 200
    assert (
        make_app(workspace).test_client().get("/api/me", headers={"Authorization": f"Bearer {token}"}).status_code == 200
    )


def test_an_entry_works_once(client: FlaskClient, workspace: Workspace) -> None:
    token = accounts.new_link(workspace, 1, "sign in")
    assert client.get(f"/enter/{token}").location == "/"
    assert client.get("/api/me").json["role"] == "analyst"
    assert client.get(f"/enter/{token}").location == "/sign-in"


def test_the_last_analyst_stays_and_all_is_on_record(client: FlaskClient, workspace: Workspace) -> None:
    headers = sign_in(client)
    for act in (lambda: accounts.remove(workspace, 1, "x"), lambda: accounts.set_role(workspace, 1, "observer", "x")):
        with pytest.raises(Refused, match="only analyst"):
            act()
    client.put("/api/accounts/2/role", json={"role": "analyst"}, headers=headers)
    client.put("/api/settings", json={"values": {"public_url": "https://mail.kestrelquay.example"}}, headers=headers)
    client.put("/api/settings", json={"values": {"relay_password": "hush"}}, headers=headers)
    client.delete("/api/accounts/3", headers=headers)
    log = log_of(workspace)
    assert ("analyst", "set a role", "writer: writer → analyst") in log
    assert ("analyst", "set", 'public_url: "http://127.0.0.1:8080" → "https://mail.kestrelquay.example"') in log
    assert ("analyst", "set", "relay_password: changed") in log and "hush" not in str(log)
    assert ("analyst", "removed account", "observer (observer)") in log
    see = client.get("/api/settings").json
    assert "hush" not in str(see) and see["groups"][0]["settings"][0]["value"] == "Workspace"


def test_approval_is_switched_off_by_two(client: FlaskClient, workspace: Workspace) -> None:
    headers = sign_in(client)
    off, on = {"values": {"require_approval": False}}, {"values": {"require_approval": True}}
    client.put("/api/settings", json=on, headers=headers)
    client.put("/api/settings", json=off, headers=headers)
    assert workspace.setting("require_approval") is False, "the only analyst may"
    accounts.set_role(workspace, 2, "analyst", "test")
    client.put("/api/settings", json=on, headers=headers)
    for _ in range(2):  # asking twice is still one analyst
        seen = client.put("/api/settings", json=off, headers=headers).json
        assert workspace.setting("require_approval") is True and seen["approval_off_asked_by"] == "analyst"
    other, theirs = another(workspace, "writer")
    other.put("/api/settings", json=off, headers=theirs)
    assert workspace.setting("require_approval") is False
