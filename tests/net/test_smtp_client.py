"""A relay that misbehaves at every step, and one that wants TLS and a password."""

from __future__ import annotations

import socket
import threading
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from openmeadow.core.addresses.syntax import syntax_problem
from openmeadow.core.delivery.relay_failures import Failure
from openmeadow.core.message.assembly import Envelope, assemble
from openmeadow.core.message.personalisation import Said
from openmeadow.net.smtp_client import Connected, Relay, RelayAway, RelayProblem, RelayRefuses, RelaySettings, Unsendable
from tests.relays import PASSWORD, USER, RealRelay

DROP = "drop"


class Scripted:
    """Answers each command by its first word from a script; ``drop`` closes the connection there."""

    def __init__(self, script: dict[str, str]) -> None:
        self.script, self.said, self.lines = script, list[str](), list[str]()
        self.content: list[str] = []  # lines of messages
        self.socket = socket.create_server(("127.0.0.1", 0))
        self.port = self.socket.getsockname()[1]
        self.thread = threading.Thread(target=self.serve, daemon=True)
        self.thread.start()

    def serve(self) -> None:
        try:
            while True:
                connection, _ = self.socket.accept()
                with connection, connection.makefile("rwb") as stream:
                    self.talk(stream)
        except OSError:
            return

    def talk(self, stream: object) -> None:
        def answer(word: str, usual: str) -> bool:
            reply = self.script.get(word, usual)
            if reply == DROP:
                return False
            stream.write(reply.encode() + b"\r\n")  # type: ignore[attr-defined]
            stream.flush()  # type: ignore[attr-defined]
            return True

        if not answer("hello", "220 ready"):
            return
        in_data = False
        for raw in stream:  # type: ignore[attr-defined]
            line = raw.decode().strip()
            if in_data:
                self.content.append(line)
                if line != ".":
                    continue
                in_data, word, usual = False, "end", "250 taken"
            else:
                word = line.split(" ")[0].split(":")[0].upper()
                self.said.append(word)
                self.lines.append(raw.decode().removesuffix("\r\n"))
                usual = "354 go on" if word == "DATA" else "250 fine"
            # before the answer is out: whoever reads it may change the script at once
            begins = word == "DATA" and self.script.get("DATA", "354").startswith("354")
            if not answer(word, usual):
                return
            in_data = begins

    def close(self) -> None:
        self.socket.close()


MESSAGE = b"Subject: x\r\n\r\nhello\r\n"
TOGETHER = {"EHLO": "250-hello\r\n250 PIPELINING"}
both_ways = pytest.mark.parametrize("offered", [{}, TOGETHER], ids=["one by one", "together"])


@both_ways
@pytest.mark.parametrize(
    ("script", "outcome", "code"),
    [
        ({}, "taken", "250"),
        ({"RCPT": "450 4.2.0 greylisted"}, "deferred", "450"),
        ({"RCPT": "451 4.7.1 later"}, "deferred", "451"),
        ({"RCPT": "421 4.7.0 going away"}, "deferred", "421"),
        ({"RCPT": "550 5.1.1 nobody"}, "refused", "550"),
        ({"DATA": "554 5.6.0 no"}, "refused", "554"),
        ({"end": "452 4.3.1 full"}, "deferred", "452"),
        ({"end": "550 5.7.1 policy"}, "refused", "550"),
        ({"RCPT": DROP}, "deferred", ""),
        ({"DATA": DROP}, "unconfirmed", ""),
        ({"end": DROP}, "unconfirmed", ""),
    ],
)
def test_an_answer_about_the_recipient_is_returned(
    script: dict[str, str], outcome: str, code: str, offered: dict[str, str]
) -> None:
    server = Scripted(offered | script)
    relay = Relay(RelaySettings("127.0.0.1", server.port, "test.example"))
    try:
        found = relay.submit("b1@x.example", "a@y.example", MESSAGE)
        assert (found.outcome, found.code) == (outcome, code), found
        server.script.clear()
        again = relay.submit("b2@x.example", "a@y.example", MESSAGE)
        assert again.outcome == "taken", "the next message goes out, on a new connection where needed"
    finally:
        relay.close()
        server.close()


@both_ways
@pytest.mark.parametrize(
    ("script", "problem", "failure"),
    [
        ({"hello": "554 5.7.1 not you"}, RelayRefuses, Failure.US_REFUSED),
        ({"hello": "421 4.3.2 busy"}, RelayAway, Failure.BUSY),
        ({"hello": "ready"}, RelayAway, Failure.NO_REPLY),
        ({"EHLO": "550 5.7.1 bad name", "HELO": "550 5.7.1 bad name"}, RelayRefuses, Failure.US_REFUSED),
        ({"MAIL": "530 Must issue a STARTTLS command first"}, RelayRefuses, Failure.US_REFUSED),
        ({"MAIL": "550 5.7.1 sender not yours"}, RelayRefuses, Failure.SENDER_REFUSED),
        ({"MAIL": "451 4.3.2 busy"}, RelayAway, Failure.BUSY),
        ({"MAIL": DROP}, RelayAway, Failure.NO_REPLY),
        ({"RCPT": "530 5.7.0 Authentication required"}, RelayRefuses, Failure.US_REFUSED),
        ({"RCPT": "554 5.7.1 Relay access denied"}, RelayRefuses, Failure.RECIPIENT_REFUSED),
        ({"end": "550 5.7.1 Sender address rejected: not owned by user"}, RelayRefuses, Failure.MESSAGE_REFUSED),
    ],
)
def test_an_answer_about_us_is_raised(
    script: dict[str, str], problem: type[RelayProblem], failure: Failure, offered: dict[str, str]
) -> None:
    server = Scripted(offered | script)
    relay = Relay(RelaySettings("127.0.0.1", server.port, "test.example"))
    try:
        with pytest.raises(problem) as raised:
            relay.submit("b1@x.example", "a@y.example", MESSAGE)
        assert raised.value.failure.failure is failure, raised.value
        said = [x for x in script.values() if x != DROP and failure is not Failure.NO_REPLY]
        assert all(x in str(raised.value) for x in said), "in the relay's own words"
        server.script.clear()
        assert relay.submit("b2@x.example", "a@y.example", MESSAGE).outcome == "taken", "after the repair it goes on"
    finally:
        relay.close()
        server.close()


class Together(Scripted):
    """Answers MAIL and RCPT only once DATA has come too."""

    def talk(self, stream: Any) -> None:
        stream.write(b"220 ready\r\n")
        stream.flush()
        replies = {
            b"EHLO": b"250-hello\r\n250 PIPELINING\r\n",
            b"DATA": b"250 a\r\n250 b\r\n354 go on\r\n",
            b".\r\n": b"250 taken\r\n",
        }
        for raw in stream:
            stream.write(replies.get(raw[:4].upper(), b""))
            stream.flush()


class Forgetful(Scripted):
    """Offers what it does not do: of several commands in one write it reads the first."""

    def talk(self, stream: Any) -> None:
        stream.write(b"220 ready\r\n")
        stream.flush()
        while some := stream.read1(65_536):
            self.lines.append(some.decode())
            word = some[:4].upper()
            stream.write(
                {b"EHLO": b"250-hello\r\n250 PIPELINING\r\n", b"DATA": b"354 go on\r\n"}.get(word, b"250 fine\r\n")
            )
            stream.flush()


@pytest.mark.parametrize(("kind", "writes"), [(Together, 0), (Forgetful, 1)])
def test_the_commands_of_a_message_go_together_where_that_works(kind: type[Scripted], writes: int) -> None:
    server = kind({})
    relay = Relay(RelaySettings("127.0.0.1", server.port, "test.example"), timeout=2)
    try:
        for to in "abc":
            assert relay.submit("b1@x.example", f"{to}@y.example", MESSAGE).outcome == "taken"
        assert sum("RCPT" in x and x.startswith("MAIL") for x in server.lines) == writes, "tried once, then one by one"
    finally:
        relay.close()
        server.close()


def test_of_a_refused_recipient_nothing_goes_over_the_line() -> None:
    server = Scripted(TOGETHER | {"RCPT": "550 5.1.1 nobody", "end": "554 5.5.1 no recipients"})
    relay = Relay(RelaySettings("127.0.0.1", server.port, "test.example"))
    try:
        assert relay.submit("b1@x.example", "a@y.example", MESSAGE).code == "550"
        assert server.content == ["."] and server.said[-1] == "RSET"
    finally:
        relay.close()
        server.close()


def test_a_relay_that_is_away_says_how() -> None:
    for host, port, failure in (
        ("127.0.0.1", 1, Failure.CONNECTION_REFUSED),
        ("relay.nowhere.test", 25, Failure.NAME_NOT_FOUND),
    ):
        with pytest.raises(RelayAway) as raised:
            Relay(RelaySettings(host, port, "test.example")).ready()
        assert raised.value.failure.failure is failure


def test_a_relay_that_wants_tls_and_a_password(tmp_path: Path) -> None:
    seen: list[Connected] = []
    for tls in ("starttls", "tls"):
        server = RealRelay(tmp_path, tls=tls)
        settings = RelaySettings("127.0.0.1", server.port, "t.example", USER, PASSWORD, tls, str(server.ca))
        relay = Relay(settings, seen.append)
        try:
            assert relay.submit("b1@x.example", "a@y.example", MESSAGE).outcome == "taken"
            assert [to for to, _ in server.took] == ["a@y.example"]
        finally:
            relay.close()
            server.close()
    assert [(c.mode, c.version, c.verified, c.signed_in) for c in seen] == [
        ("starttls", "TLSv1.3", True, True),
        ("tls", "TLSv1.3", True, True),
    ]


@pytest.mark.parametrize(
    ("change", "failure"),
    [
        ({"password": "wrong"}, Failure.SIGN_IN_REFUSED),
        ({"ca": ""}, Failure.CERTIFICATE),
        ({"ca": "/nowhere.pem"}, Failure.CERTIFICATE),
        ({"host": "localhost"}, Failure.CERTIFICATE),
        ({"tls": "none"}, Failure.CLEAR_PASSWORD),
        ({"tls": "tls"}, Failure.TLS_FAILED),
        ({"tls": "opportunistic", "ca": ""}, Failure.CLEAR_PASSWORD),
        ({"user": "", "tls": "none"}, Failure.US_REFUSED),
    ],
)
def test_nothing_goes_out_where_the_rules_are_not_kept(change: dict[str, str], failure: Failure, tmp_path: Path) -> None:
    server = RealRelay(tmp_path)
    given = {"host": "127.0.0.1", "user": USER, "password": PASSWORD, "tls": "starttls", "ca": str(server.ca)} | change
    relay = Relay(RelaySettings(port=server.port, helo="t.example", **given), timeout=5)
    try:
        with pytest.raises(RelayRefuses) as raised:
            relay.submit("b1@x.example", "a@y.example", MESSAGE)
        assert raised.value.failure.failure is failure, raised.value
        assert not server.took and PASSWORD not in str(raised.value)
    finally:
        relay.close()
        server.close()


def test_tls_is_required_but_on_this_machine() -> None:
    server = Scripted({})
    try:
        elsewhere = RelaySettings("relay.kestrelquay.example", server.port, "t.example")
        assert (elsewhere.mode, RelaySettings("127.0.0.1", 1, "t").mode) == ("starttls", "opportunistic")
        relay = Relay(RelaySettings("127.0.0.1", server.port, "t.example", tls="starttls"))
        with pytest.raises(RelayRefuses, match="offers no TLS"):
            relay.ready()
        assert "MAIL" not in server.said
    finally:
        server.close()


def test_addresses_beyond_ascii(tmp_path: Path) -> None:
    server = RealRelay(tmp_path, tls="none", sign_in=False)
    plain = RealRelay(tmp_path, tls="none", sign_in=False, smtputf8=False)
    try:
        relay = Relay(RelaySettings("127.0.0.1", server.port, "t.example"))
        for to in ("leser@münchen.example", "üser@münchen.example", '"a b"@x.example', "a@x.example"):
            assert relay.submit("b1@x.example", to, MESSAGE).outcome == "taken"
        relay.close()
        went = [to for to, _ in server.took]
        a_label = "xn--mnchen-3ya.example"
        assert went == [f"leser@{a_label}", f"üser@{a_label}", '"a b"@x.example', "a@x.example"]
        relay = Relay(RelaySettings("127.0.0.1", plain.port, "t.example"))
        with pytest.raises(Unsendable, match="SMTPUTF8"):
            relay.submit("b1@x.example", "üser@x.example", MESSAGE)
        assert relay.submit("b1@x.example", "leser@münchen.example", MESSAGE).outcome == "taken", "others go on"
        relay.close()
    finally:
        server.close()
        plain.close()


LETTERS = st.characters(codec="utf-8", categories=("L", "N"))
LABELS = st.text(LETTERS, min_size=1, max_size=12)
ADDRESSES = st.one_of(
    st.emails(),
    st.builds(lambda local, a, b: f"{local}@{a}.{b}.example", st.text(LETTERS, min_size=1, max_size=20), LABELS, LABELS),
    st.builds(
        lambda local: f'"{local}"@x.example', st.text(st.characters(min_codepoint=32, max_codepoint=126), max_size=20)
    ),
    st.text(max_size=40),
)


@given(st.lists(ADDRESSES, min_size=1, max_size=8))
def test_every_address_that_the_importer_takes_can_be_sent_to(addresses: list[str]) -> None:
    """Or the reason is this one recipient's, and the next goes out."""
    server = Scripted({"EHLO": "250-hello\r\n250 SMTPUTF8"})
    relay = Relay(RelaySettings("127.0.0.1", server.port, "t.example"))
    try:
        for address in addresses:
            if syntax_problem(address.strip()) is not None:
                continue
            said = Said("x", "", "hello")
            try:
                message = assemble(said, Envelope("Quay", "a@q.example", address.strip(), "<1@q.example>", 0))
                assert relay.submit("b1@x.example", address.strip(), message).outcome == "taken"
            except (Unsendable, ValueError) as e:
                assert str(e)
                continue
            wanted = next(x for x in reversed(server.lines) if x.startswith("RCPT"))
            local, _, domain = address.strip().rpartition("@")
            assert wanted.startswith(f"RCPT TO:<{local}@") and wanted.rpartition("@")[2].isascii() and domain
        assert relay.submit("b1@x.example", "last@x.example", MESSAGE).outcome == "taken"
    finally:
        relay.close()
        server.close()


@pytest.mark.parametrize(
    "body", [b".", b"..\r\n.a\r\n\r\n.\r\n", b"a\r\n.\r\nb", b".a {}\r\n..b\r\n", b"\r\n\r\n.\r\n.\r\n"]
)
def test_lines_that_begin_with_a_dot_arrive_as_they_are(tmp_path: Path, body: bytes) -> None:
    server = RealRelay(tmp_path, tls="none", sign_in=False)
    relay = Relay(RelaySettings("127.0.0.1", server.port, "test.example"))
    try:
        for message in (b"Subject: x\r\n\r\n" + body, body):
            assert relay.submit("b1@x.example", "a@y.example", message).outcome == "taken"
            whole = message if message.endswith(b"\r\n") else message + b"\r\n"
            assert server.took.pop() == ("a@y.example", whole)
    finally:
        relay.close()
        server.close()
