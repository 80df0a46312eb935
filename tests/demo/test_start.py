"""A demo that cannot start says why, and leaves no process and no folder behind; one that stops ends its relay last."""

from __future__ import annotations

import shutil
import subprocess
import sys
from pathlib import Path

import click
import pytest

from openmeadow.demo import run
from openmeadow.demo.ports import free_port

CHILDREN = {
    "sleeps": [sys.executable, "-c", "import time; time.sleep(100)"],
    "ends": [sys.executable, "-c", "raise SystemExit(3)"],
}


class Hindered(run.Demo):
    """One whose parts only sleep, but for those that end."""

    ending = ""

    def _begin(self, arguments: list[str]) -> subprocess.Popen[bytes]:
        kind = "ends" if self.ending in arguments else "sleeps"
        return subprocess.Popen(CHILDREN[kind], stdin=subprocess.PIPE)


@pytest.mark.parametrize(
    ("ending", "said"),
    [
        ("", "nothing moved for 1 s"),
        ("worker", "the worker ended; its lines above say why"),
        ("standins", "the mail world ended"),
    ],
)
def test_what_hinders_it_is_said(tmp_path: Path, built: Path, ending: str, said: str) -> None:
    class Demo(Hindered):
        pass

    Demo.ending = ending
    shutil.copytree(built, tmp_path / "demo")
    running = Demo(tmp_path / "demo", free_port())
    with pytest.raises(click.ClickException, match=said):
        running.wait_ready(still=1)
    assert all(c.poll() is not None for c in running._children)


def test_a_folder_that_was_made_for_it_goes_again(tmp_path: Path, built: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    Hindered.ending = "serve"
    monkeypatch.setattr(run, "Demo", Hindered)
    monkeypatch.setattr(run, "unpack", lambda folder, *_: shutil.copytree(built, folder))
    with pytest.raises(click.ClickException, match="the server ended"):
        run.demo(tmp_path / "new", free_port(), fresh=False, people=400)
    assert not (tmp_path / "new").exists()
    shutil.copytree(built, tmp_path / "there")
    with pytest.raises(click.ClickException, match="the server ended"):
        run.demo(tmp_path / "there", free_port(), fresh=False, people=400)
    assert (tmp_path / "there" / "meadow.db").exists(), "what was there before stays"


LINGERS = """
import signal, sys, time
def told(*_):
    time.sleep(0.5 if sys.argv[2] == "worker" else 0)  # the message under way
    open(sys.argv[1], "a").write(sys.argv[2] + " ")
    raise SystemExit
signal.signal(signal.SIGTERM, told)
print("on", flush=True)
time.sleep(100)
"""


def test_the_relay_is_there_until_the_worker_has_ended(tmp_path: Path, built: Path) -> None:
    ended = tmp_path / "ended"

    class Lingering(run.Demo):
        def _begin(self, arguments: list[str]) -> subprocess.Popen[bytes]:
            command = [sys.executable, "-c", LINGERS, str(ended), arguments[2]]
            child = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE)
            assert child.stdout is not None
            with child.stdout as said:
                assert said.readline() == b"on\n"
            return child

    shutil.copytree(built, tmp_path / "demo")
    Lingering(tmp_path / "demo", free_port()).stop()
    *first, last = ended.read_text().split()
    assert sorted(first) == ["serve", "worker"] and last == "standins"
