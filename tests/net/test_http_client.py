"""The way out over HTTP: inside addresses by every spelling, redirects to inside, rebinding, sizes, proxies of the machine."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

import pytest

from openmeadow.net.http_client import Unreachable, fetch, is_inside

INSIDE = (
    *("127.0.0.1", "127.9.9.9", "0.0.0.0", "10.0.0.1", "172.16.3.4", "192.168.1.1", "169.254.169.254", "100.64.0.1"),
    *("224.0.0.1", "239.1.1.1", "255.255.255.255", "192.0.2.1", "198.18.0.1", "::", "::1", "fe80::1", "fe80::1%eth0"),
    *("fc00::1", "fd12::1", "ff02::1", "::ffff:127.0.0.1", "::ffff:10.0.0.1", "::127.0.0.1", "64:ff9b::7f00:1"),
    *("64:ff9b::a9fe:a9fe", "2002:7f00:1::", "2002:a9fe:a9fe::1", "2001:db8::1", "64:ff9b:1::1"),
)
OUTSIDE = ("8.8.8.8", "2606:4700::1111", "64:ff9b::808:808", "::ffff:8.8.8.8", "2002:808:808::1")


class Site(BaseHTTPRequestHandler):
    asked: list[tuple[str, str]]

    def _answer(self) -> None:
        type(self).asked.append((self.command, self.path))
        port = self.server.server_address[1]
        away = {"/in": f"http://127.0.0.1:{port}/here", "/meta": "http://169.254.169.254/", "/file": "file:///etc/hosts"}
        body = b"x" * 3_000_000 if self.path == "/large" else b"here"
        self.send_response(302 if self.path in away else 200)
        if self.path in away:
            self.send_header("Location", away[self.path])
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    do_GET = do_POST = _answer

    def log_message(self, *_: Any) -> None:
        pass


@pytest.fixture
def site() -> Iterator[int]:
    Site.asked = []
    server = ThreadingHTTPServer(("127.0.0.1", 0), Site)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield server.server_port
    server.shutdown()
    server.server_close()


def test_which_addresses_are_inside() -> None:
    assert [ip for ip in INSIDE if not is_inside(ip)] == []
    assert [ip for ip in OUTSIDE if is_inside(ip)] == []


@pytest.mark.parametrize(
    "host", ["127.0.0.1", "localhost", "127.1", "2130706433", "0x7f000001", "[::1]", "[::ffff:127.0.0.1]", "0"]
)
def test_an_inside_host_is_not_asked(site: int, host: str) -> None:
    with pytest.raises(Unreachable):
        fetch(f"http://{host}:{site}/here")
    assert Site.asked == []


def test_allowed_hosts_redirects_and_sizes(site: int, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("http_proxy", "http://127.0.0.1:1")
    monkeypatch.setenv("HTTP_PROXY", "http://127.0.0.1:1")
    front, allowed = f"http://127.0.0.1:{site}", ["127.0.0.1"]
    assert fetch(f"{front}/here", allowed=allowed).body == b"here", "the machine's proxy is not asked"
    assert fetch(f"{front}/in", allowed=allowed).url.endswith("/here")
    assert len(fetch(f"{front}/large", allowed=allowed, largest=1_000).body) == 1_000
    assert fetch(f"{front}/in", method="POST", body=b"{}", allowed=allowed).status == 302, "a POST is not sent on"
    for path, said in (("/meta", "own network"), ("/file", "redirects to file")):
        with pytest.raises(Unreachable, match=said):
            fetch(f"{front}{path}", allowed=allowed)
    for wrong in ("ftp://x/", "http://", "http://a b/", "http://x/\r\nHost: y", "file:///etc/hosts", "http://[::1", "x"):
        with pytest.raises(Unreachable):
            fetch(wrong)


def test_the_address_that_was_checked_is_the_one_connected_to(site: int) -> None:
    """A name server that answers with an allowed address first and with another one after it."""
    answers = iter([["127.0.0.1"], ["169.254.169.254"], ["127.0.0.1", "10.0.0.1"]])
    asked: list[str] = []

    def resolve(host: str, port: int) -> list[str]:
        asked.append(host)
        return next(answers)

    url = f"http://rebinding.example:{site}/here"
    assert fetch(url, allowed=["127.0.0.1"], resolve=resolve).body == b"here"
    assert asked == ["rebinding.example"], "resolved once"
    for _ in range(2):
        with pytest.raises(Unreachable, match="own network"):
            fetch(url, allowed=["127.0.0.1"], resolve=resolve)
    assert len(Site.asked) == 1
