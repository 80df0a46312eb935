"""Links that answer or do not, relays with and without TLS: asked for real, on this machine."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import pytest

from openmeadow.core.authentication.dkim import new_key, record_text
from openmeadow.demo.mail_world.dns_server import DnsServer
from openmeadow.net import link_checker, tls_probe
from openmeadow.net.dns import Resolver
from tests.conftest import NOW
from tests.services.mailing import free_port

GATE = "http://127.0.0.1:{}"


class Site(BaseHTTPRequestHandler):
    """Pages of any host, asked for through a gateway: the path is the whole address."""

    def do_GET(self) -> None:
        answers = {
            "https://www.kestrelquay.example/good": (200, ""),
            "https://www.kestrelquay.example/gone": (410, ""),
            "https://www.kestrelquay.example/moved": (302, "/good"),
            "https://www.kestrelquay.example/away": (301, "https://elsewhere.example/there"),
            "https://elsewhere.example/there": (200, ""),
            "https://www.kestrelquay.example/round": (302, "/round"),
            "https://www.kestrelquay.example/file": (302, "file:///etc/hosts"),
            "https://www.kestrelquay.example/nowhere": (302, ""),
        }
        status, to = answers.get(self.path, (404, ""))
        self.send_response(status)
        if to:
            self.send_header("Location", to)
        self.end_headers()

    def log_message(self, *_: object) -> None:
        pass


@pytest.fixture(scope="module")
def gateway() -> Iterator[str]:
    server = ThreadingHTTPServer(("127.0.0.1", 0), Site)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield GATE.format(server.server_port)
    server.shutdown()
    server.server_close()


@pytest.mark.parametrize(
    ("page", "status", "said", "final"),
    [
        ("good", 200, "", "good"),
        ("good#seats", 200, "", "good#seats"),
        ("gone", 410, "", "gone"),
        ("never-was", 404, "", "never-was"),
        ("moved", 200, "", "good"),
        ("away", 200, "", "https://elsewhere.example/there"),
        ("round", 0, "redirect loop", "round"),
        ("file", 0, "redirects to file:///etc/hosts", "file:///etc/hosts"),
        ("nowhere", 302, "", "nowhere"),
    ],
)
def test_links_are_followed_and_told_as_they_are(gateway: str, page: str, status: int, said: str, final: str) -> None:
    front = "https://www.kestrelquay.example/"
    (found,) = link_checker.ask_all([front + page], gateway)
    assert (found.status, found.said) == (status, said)
    assert found.final == (final if "://" in final or final.startswith("file:") else front + final)


@pytest.mark.parametrize(
    ("url", "said"),
    [
        ("http://127.0.0.1/x", "it leads into your own network"),
        ("http://[::1]/x", "it leads into your own network"),
        ("https://10.0.0.7/x", "it leads into your own network"),
        ("http://not-a-host.invalid/", "host unreachable"),
        ("http://[broken/", "it is not a web address"),
    ],
)
def test_without_a_gateway_no_link_is_followed_into_one_s_own_network(url: str, said: str) -> None:
    found = link_checker.ask(url)
    assert (found.status, found.said) == (0, said)


def test_a_gateway_that_is_away_is_no_answer_of_the_link() -> None:
    assert link_checker.ask("https://www.kestrelquay.example/", GATE.format(free_port())).said == "host unreachable"


def test_who_does_not_answer_is_unknown_and_http_is_mended() -> None:
    assert tls_probe.tracking_tls("127.0.0.1", https=True).state == "unknown", "nobody listens there"
    told = tls_probe.tracking_tls("links.kestrelquay.example", https=False)
    assert told.state == "warning" and "RFC 8058" in told.meaning


@pytest.mark.parametrize(("published", "state"), [("own", "pass"), ("another's", "fail"), ("none", "fail")])
def test_a_signature_is_proved_by_what_the_domain_publishes(tmp_path: Path, published: str, state: str) -> None:
    own, other = new_key(), new_key()
    line = {"own": record_text(own.public), "another's": record_text(other.public), "none": "v=spf1 -all"}[published]
    (tmp_path / "quay.example.zone").write_text(
        "$TTL 60\n@ IN SOA ns hostmaster 1 60 60 60 60\n@ IN NS ns\nns IN A 127.0.0.1\n"
        + "s1._domainkey IN TXT "
        + " ".join(f'"{line[i : i + 200]}"' for i in range(0, len(line), 200))
        + "\n"
    )
    dns = DnsServer(tmp_path)
    try:
        resolver = Resolver(f"127.0.0.1:{dns.port}")
        assert tls_probe.signature("quay.example", "s1", own.private, NOW, resolver).state == state
    finally:
        dns.close()
    gone = Resolver(f"127.0.0.1:{dns.port}")
    assert tls_probe.signature("quay.example", "s1", own.private, NOW, gone).state == "unknown", "no answer is no verdict"
