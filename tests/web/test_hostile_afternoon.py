"""A hostile afternoon: held connections, large bodies, segments that name segments, hostile HTML, forged mail and bursts of
sign-ups, all at once against ``serve`` and ``worker``; meanwhile somebody works."""

from __future__ import annotations

import contextlib
import http.client
import json
import smtplib
import socket
import statistics
import threading
import time
import urllib.parse
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest

from openmeadow.demo import ports
from openmeadow.services import accounts
from openmeadow.services.subscribers import consent, import_subscribers, signup
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from tests.processes import Begun
from tests.services.test_acts import put
from tests.web.test_api import PASSWORD
from tests.web.test_joining import FORM

HELD = 300
PATIENCE = 20  # seconds for one answer; all of them come


@dataclass
class Place:
    folder: Path
    port: int
    intake: int


class Browser:
    """Somebody signed in over a real connection; answers as (status, seconds, body)."""

    def __init__(self, port: int, name: str = "") -> None:
        self.port, self.headers = port, {"Content-Type": "application/json"}
        if name:
            with contextlib.closing(http.client.HTTPConnection("127.0.0.1", port, timeout=PATIENCE)) as web:
                web.request("POST", "/api/sign-in", json.dumps({"name": name, "password": PASSWORD}), self.headers)
                answer = web.getresponse()
                self.headers["Cookie"] = str(answer.getheader("Set-Cookie")).split(";")[0]
                answer.read()
            self.headers["X-Meadow-CSRF"] = json.loads(self("GET", "/api/me")[2])["csrf"]

    def __call__(self, method: str, path: str, body: Any = None) -> tuple[int, float, bytes]:
        begun = time.monotonic()
        with contextlib.closing(http.client.HTTPConnection("127.0.0.1", self.port, timeout=PATIENCE)) as web:
            data = body if isinstance(body, bytes) or body is None else json.dumps(body)
            web.request(method, path, data, self.headers)
            answer = web.getresponse()
            return answer.status, time.monotonic() - begun, answer.read()


@pytest.fixture
def place(tmp_path: Path) -> Iterator[Place]:
    found = Place(tmp_path / "data", ports.free_port(), ports.free_port())
    workspace = Workspace(found.folder)
    with workspace.store.atomic() as db:
        settings.set_setting(db, "intake_port", found.intake)
    for role in ("analyst", "writer"):
        accounts.add(workspace, role, role, PASSWORD)
    rows = "".join(f"p{i}@x{i % 50}.example,given\n" for i in range(3_000))
    file = put(found.folder, "p.csv", f"email,consent:News\n{rows}")
    import_subscribers.run(workspace.store, file, workspace.now(), "t", source="desk")
    consent.write_purpose(workspace, 1, {"text": "Evenings."}, "t")
    signup.write_form(workspace, FORM, "t")
    workspace.close()
    base = ["--data", str(found.folder)]
    children = [Begun(*base, *a) for a in (["serve", "--port", str(found.port)], ["worker"])]
    for port in (found.port, found.intake):
        for _ in range(300):
            with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", port), 1):
                break
            time.sleep(0.1)
    yield found
    for child in children:
        child.terminate()
    for child in children:
        assert child.wait(20) is not None


def hold(p: Place, held: list[socket.socket]) -> None:
    """Half a request each, and silence."""
    for i in range(HELD):
        s = socket.create_connection(("127.0.0.1", p.port), PATIENCE)
        s.sendall(b"POST /api/sign-in HTTP/1.1\r\nHost: x\r\nContent-Length: 100\r\n" + (b"" if i % 2 else b"\r\n{"))
        held.append(s)


def large_bodies(p: Place) -> None:
    for path, size in (("/api/sign-in", 30_000_000), ("/join/Harbour%20list", 30_000_000), ("/api/segments", 30_000_000)):
        with contextlib.closing(socket.create_connection(("127.0.0.1", p.port), PATIENCE)) as s:
            s.sendall(f"POST {path} HTTP/1.1\r\nHost: x\r\nContent-Length: {size}\r\n\r\n".encode())
            assert b" 413 " in s.recv(200), "refused before it is read"
    assert Browser(p.port)("POST", "/api/sign-in", b"[" * 60_000)[0] == 422


def segments(p: Place) -> None:
    writer = Browser(p.port, "writer")
    rule = "opened at least 1 in 90 days or joined less than 9 days ago"
    for i in range(1, 16):
        status, _, body = writer("POST", "/api/segments", {"name": f"q{i}", "rule": rule})
        assert status == 200, body
        rule = " or ".join([f'in segment "q{i}"'] * 3)
    many = " or ".join(f"opened at least {i % 5 + 1} in {i + 1} days" for i in range(2_000))
    status, _, body = writer("POST", "/api/segments/count", {"rule": many})
    assert status == 422 and b"The limit is 500" in body


def hostile_html(p: Place) -> None:
    writer = Browser(p.port, "writer")
    id = json.loads(writer("POST", "/api/campaigns", {"name": "Hostile"})[2])["id"]
    for html in (
        "<a " * 40_000,
        "<!--" * 40_000,
        "{{" * 40_000,
        "<style " * 20_000,
        "{% for i in range(10**9) %}x{% endfor %}",
    ):
        assert writer("PUT", f"/api/campaigns/{id}", {"html": html})[0] in (200, 409)
        assert writer("GET", f"/api/campaigns/{id}/preview")[0] in (200, 409)


def forged_mail(p: Place) -> None:
    group = (
        "Final-Recipient: rfc822; p{}@x.example\r\nAction: failed\r\nStatus: 5.1.1\r\nDiagnostic-Code: smtp; {}\r\n\r\n"
    )
    groups = "".join(group.format(n, "a@" * 480) for n in range(30))
    text = "Content-Type: multipart/report; report-type=delivery-status; boundary=b\r\n\r\n--b\r\n"
    text += f"Content-Type: text/plain\r\n\r\nx\r\n--b\r\nContent-Type: message/delivery-status\r\n\r\n{groups}--b--\r\n"
    with (
        contextlib.suppress(smtplib.SMTPException, OSError),
        smtplib.SMTP("127.0.0.1", p.intake, timeout=PATIENCE) as web,
    ):
        for i in range(30):
            with contextlib.suppress(smtplib.SMTPException):
                web.sendmail("x@y.example", [f"who{i}@bounce.x.example"], text)


def sign_ups(p: Place) -> None:
    with contextlib.closing(http.client.HTTPConnection("127.0.0.1", p.port, timeout=PATIENCE)) as web:
        for i in range(40):
            body = urllib.parse.urlencode({"email": f"burst{i}@x.example", "purpose": "1", "name": "x"})
            web.request("POST", "/join/Harbour%20list", body, {"Content-Type": "application/x-www-form-urlencoded"})
            answer = web.getresponse()
            assert answer.status in (200, 422, 429)
            answer.read()


def test_somebody_works_through_a_hostile_afternoon(place: Place) -> None:
    analyst = Browser(place.port, "analyst")
    assert analyst("GET", "/api/today")[0] == 200
    held: list[socket.socket] = []
    attacks: list[Callable[[], None]] = [
        *(lambda f=f: f(place) for f in (large_bodies, segments, hostile_html, forged_mail, sign_ups))
    ]
    problems: list[BaseException] = []

    def attempt(attack: Callable[[], None]) -> None:
        try:
            attack()
        except BaseException as e:
            problems.append(e)

    hold(place, held)
    threads = [threading.Thread(target=attempt, args=(a,)) for a in attacks]
    for t in threads:
        t.start()
    answers: list[tuple[int, float]] = []
    while any(t.is_alive() for t in threads) or len(answers) < 40:
        for path in ("/api/status", "/api/segments", "/api/subscribers?limit=60", "/api/today"):
            status, seconds, _ = analyst("GET", path)
            answers.append((status, seconds))
    for s in held:
        s.close()
    assert not problems, problems
    assert {status for status, _ in answers} == {200}
    assert statistics.median(seconds for _, seconds in answers) < 1.0, answers
    assert Browser(place.port)("GET", "/healthz")[0] == 200
    sent = analyst("GET", "/api/suppressions")[2]
    assert json.loads(sent)["total"] == 0, "forged mail suppressed nobody"
