"""A relay that misbehaves at every step: what is known is said, what is not known is in doubt."""

from __future__ import annotations

import socket
import threading

import pytest

from openmeadow.wire.smtp_out import Relay, RelayAway

DROP = "drop"


class Scripted:
    """Answers each command by its first word from a script; ``drop`` closes the connection there."""

    def __init__(self, script: dict[str, str]) -> None:
        self.script, self.said = script, list[str]()
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
                if line != ".":
                    continue
                in_data, word, usual = False, "end", "250 taken"
            else:
                word = line.split(" ")[0].split(":")[0].upper()
                self.said.append(word)
                usual = "354 go on" if word == "DATA" else "250 fine"
            # before the answer is out: whoever reads it may change the script at once
            begins = word == "DATA" and self.script.get("DATA", "354").startswith("354")
            if not answer(word, usual):
                return
            in_data = begins

    def close(self) -> None:
        self.socket.close()


@pytest.mark.parametrize(
    ("script", "outcome", "code"),
    [
        ({}, "taken", "250"),
        ({"MAIL": "451 4.3.2 busy"}, "deferred", "451"),
        ({"RCPT": "450 4.2.0 greylisted"}, "deferred", "450"),
        ({"RCPT": "550 5.1.1 nobody"}, "refused", "550"),
        ({"DATA": "554 5.7.1 no"}, "refused", "554"),
        ({"end": "452 4.3.1 full"}, "deferred", "452"),
        ({"end": "550 5.7.1 policy"}, "refused", "550"),
        ({"MAIL": DROP}, "deferred", ""),
        ({"RCPT": DROP}, "deferred", ""),
        ({"DATA": DROP}, "in doubt", ""),
        ({"end": DROP}, "in doubt", ""),
    ],
)
def test_every_step_has_its_answer(script: dict[str, str], outcome: str, code: str) -> None:
    server = Scripted(script)
    relay = Relay("127.0.0.1", server.port, "test.example")
    try:
        found = relay.hand_over("b1@x.example", "a@y.example", b"Subject: x\r\n\r\nhello\r\n")
        assert (found.outcome, found.code) == (outcome, code), found
        server.script.clear()
        again = relay.hand_over("b2@x.example", "a@y.example", b"Subject: x\r\n\r\nhello\r\n")
        assert again.outcome == "taken", "the next message goes out, on a new connection where needed"
    finally:
        relay.close()
        server.close()


def test_a_relay_that_is_away_marks_nobody() -> None:
    server = Scripted({"hello": "554 closed"})
    for port in (server.port, 1):
        with pytest.raises(RelayAway, match="batches wait until it does"):
            Relay("127.0.0.1", port, "test.example").ready()
    server.close()
