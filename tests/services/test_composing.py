"""Messages written by other processes: the same to the byte, dated when they go out, and written here where one ends."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from contextlib import closing
from dataclasses import replace
from email.parser import BytesHeaderParser
from email.utils import parsedate_to_datetime
from pathlib import Path

import pytest

from openmeadow.core.ids import DeliveryId, SubscriberId
from openmeadow.core.message.templates import FieldMistake
from openmeadow.net.helper_process import Ended, HelperProcess, TookTooLong
from openmeadow.services.campaigns import campaigns
from openmeadow.services.campaigns.composing import STALE, Composers
from openmeadow.services.campaigns.renderer import Writer
from openmeadow.store.campaigns import campaigns as campaign_table
from tests.services.mailing import Mailing, mailing

HTML = """<p>Dear {{ first_name }},</p>{% if matches("joined more than 30 days ago") %}<p>Old friend</p>{% endif %}
<p><a href="https://www.kestrelquay.example/a?x=1">Programme</a></p>"""
MISTAKEN = "<p>{% if (name | length) == 8 %}{{ 1 + name }}{% endif %}</p>"  # a number and a text cannot be added


def writer_of(m: Mailing, html: str) -> Writer:
    campaigns.write(m.workspace, m.campaign, {"html": html, "preview": "Soon"})
    row = campaign_table.one(m.workspace.store.read(), m.campaign)
    assert row is not None
    return Writer(m.workspace, row, m.tokens)


def test_the_same_from_another_process(folder: Path) -> None:
    with mailing(folder, 40) as m, closing(Composers(most=2, after=0)) as composers:
        writer, now = writer_of(m, HTML), m.workspace.now()
        people = [
            replace(writer.sample(SubscriberId(i)), delivery=DeliveryId(i), subject="Another" if i % 3 else "")
            for i in range(1, 31)
        ]
        here = [writer.composer.message(to, now) for to in people]
        assert len(set(here)) == 30 and b"Old friend" in here[0] and b"Subject: Another" in here[0]
        composers.written(writer.composer, people[:1], now)
        composers.wait()
        there = composers.written(writer.composer, people, now)
        assert all(w.portion is not None for w in there)
        assert [w.message(now + STALE - 1) for w in there] == here
        late = BytesHeaderParser().parsebytes(there[4].message(now + STALE))
        assert parsedate_to_datetime(late["Date"]).timestamp() == now + STALE, "a clock that moved: dated as it goes out"

        broken = writer_of(m, MISTAKEN)
        people_of_it = [broken.sample(SubscriberId(i)) for i in (12, 2, 13)]
        first, second, third = composers.written(broken.composer, people_of_it, now)
        with pytest.raises(FieldMistake, match="cannot be filled in"):
            second.message(now)
        assert [w.message(now) for w in (first, third)] == [
            broken.composer.message(to, now) for to in (first.to, third.to)
        ], "and stops no other"

        for process in composers._processes:
            os.kill(process.pid, signal.SIGKILL)
        for _ in range(2):
            again = [w.message(now) for w in composers.written(writer.composer, people, now)]
            assert again == here, "written here, where the processes have ended"


def _answer(request: bytes) -> bytes:
    """What the process of the next test does."""
    if request == b"end":
        os._exit(1)
    time.sleep(float(request))
    return b"%d" % os.getpid()


def test_a_helper_that_ends_or_is_left(tmp_path: Path) -> None:
    helper = HelperProcess(_answer, "helper")
    try:
        first = helper.ask(b"0")
        for request, why in ((b"end", Ended), (b"60", TookTooLong)):
            with pytest.raises(why):
                helper.ask(request, 2)
            assert helper.ask(b"0") not in (first, None), "the next request begins another"
    finally:
        helper.end()
    program = tmp_path / "left.py"
    program.write_text(
        "import os, signal\nfrom openmeadow.net.helper_process import HelperProcess\n"
        "from tests.services.test_composing import _answer\nif __name__ == '__main__':\n"
        "    print(HelperProcess(_answer, 'helper').ask(b'0').decode(), flush=True)\n    os.kill(os.getpid(), signal.SIGKILL)\n"
    )
    root = Path(__file__).resolve().parents[2]
    left = subprocess.run(
        [sys.executable, program],
        check=False,
        env={**os.environ, "PYTHONPATH": str(root)},
        capture_output=True,
        text=True,
        timeout=60,
    )
    assert left.returncode == -signal.SIGKILL
    end = time.monotonic() + 20
    while is_running(int(left.stdout)):
        assert time.monotonic() < end, "it outlives the process that began it"
        time.sleep(0.05)


def is_running(pid: int) -> bool:
    try:
        return Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[0] != "Z"
    except OSError:
        return False
