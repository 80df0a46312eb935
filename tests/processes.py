"""The command ``meadow`` in processes of its own, forked from one that has imported it already: what a shell starts, in a
tenth of the time. ``tests/cli`` starts some by their real name too."""

from __future__ import annotations

import ctypes
import multiprocessing
import os
import signal
import sys
import tempfile
from collections.abc import Mapping, Sequence
from multiprocessing.process import BaseProcess
from pathlib import Path
from subprocess import TimeoutExpired

PR_SET_PDEATHSIG = 1
fork = multiprocessing.get_context("forkserver")
fork.set_forkserver_preload(
    [
        "openmeadow.cli.main",
        *(f"openmeadow.cli.{m}" for m in ("accounts", "archive", "check", "consent", "imports", "processes", "segments")),
        *("openmeadow.cli.score", "openmeadow.web.app", "openmeadow.web.server", "openmeadow.worker.loop"),
        *("openmeadow.demo.mail_world.run", "openmeadow.services.today.process_watch", "tests.services.test_kill"),
    ]
)


def _run(arguments: Sequence[str], files: Mapping[int, str], env: dict[str, str]) -> None:
    """In the child: files in place of standard input, output and errors, then the command."""
    ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, signal.SIGKILL)
    kept = os.pipe()  # standard input that says nothing and does not end, where no file is given
    os.dup2(os.open(files[0], os.O_RDONLY) if 0 in files else kept[0], 0)
    for number in (1, 2):
        os.dup2(os.open(files[number], os.O_WRONLY | os.O_CREAT | os.O_APPEND), number)
    os.environ.clear()
    os.environ.update(env)
    sys.stdin, sys.stdout, sys.stderr = (os.fdopen(n, mode, closefd=False) for n, mode in enumerate("rww"))
    sys.argv = ["meadow", *arguments]
    from openmeadow.cli.main import main

    main(prog_name="meadow")


class Begun:
    """A command that runs, with what is used of ``subprocess.Popen``."""

    stdin = None

    def __init__(self, *arguments: str, files: Mapping[int, str] | None = None, env: Mapping[str, str] | None = None):
        self.args = arguments
        places = {1: os.devnull, 2: os.devnull} | dict(files or {})
        self._process: BaseProcess = fork.Process(
            target=_run, args=(arguments, places, {**os.environ, **(env or {})}), daemon=True
        )
        self._process.start()

    @property
    def pid(self) -> int | None:
        """Its number."""
        return self._process.pid

    def poll(self) -> int | None:
        """Its exit status, None while it runs."""
        return self._process.exitcode

    def wait(self, timeout: float | None = None) -> int:
        """Its exit status, once it has ended; TimeoutExpired as of ``subprocess``."""
        self._process.join(timeout)
        if self._process.exitcode is None:
            raise TimeoutExpired("meadow", timeout or 0)
        return self._process.exitcode

    def send_signal(self, number: int) -> None:
        """A signal, if it still runs."""
        if self._process.pid is not None and self._process.exitcode is None:
            os.kill(self._process.pid, number)

    def terminate(self) -> None:
        """Ask it to end."""
        self._process.terminate()

    def kill(self) -> None:
        """End it."""
        self._process.kill()


def meadow(data: Path, *arguments: str, given: str = "") -> tuple[int, str, str]:
    """Exit status, standard output and standard error of a command."""
    with tempfile.TemporaryDirectory() as folder:
        places = {n: f"{folder}/{n}" for n in (0, 1, 2)}
        Path(places[0]).write_text(given, encoding="utf-8")
        status = Begun("--data", str(data), *arguments, files=places, env={"MEADOW_DATA": "/nowhere"}).wait(300)
        return status, *(Path(places[n]).read_text(encoding="utf-8") for n in (1, 2))
