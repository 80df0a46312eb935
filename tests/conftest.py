"""A workspace on disk with a clock that tests set, and what most tests begin with."""

from __future__ import annotations

import fcntl
import os
import tempfile
from collections.abc import Iterator
from functools import cache
from itertools import zip_longest
from pathlib import Path

import pytest
from hypothesis import settings

from openmeadow.demo import build
from openmeadow.services.clock import DemoClock
from openmeadow.services.workspace import Workspace

settings.register_profile("usual", max_examples=50, deadline=None)
settings.register_profile("nightly", max_examples=400, deadline=None)
settings.load_profile(os.environ.get("MEADOW_PROFILE", "usual"))

NOW = 1_773_308_520  # Thu 12 Mar 2026, 09:42 UTC


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Files that wait for browsers and processes, each with one beside it that computes: so two cores have something to
    do from the first minute to the last."""
    files: dict[Path, list[pytest.Item]] = {}
    for item in items:
        files.setdefault(item.path, []).append(item)
    waiting = [f for f in files if f.parent.name in ("browser", "cli")]
    others = [f for f in files if f not in waiting]
    items[:] = [item for pair in zip_longest(waiting, others) for f in pair if f for item in files[f]]


@cache
def _empty() -> bytes:
    with tempfile.TemporaryDirectory() as made:
        Workspace(Path(made)).close()
        return (Path(made) / "meadow.db").read_bytes()


def empty_into(folder: Path) -> None:
    """An empty workspace, as ``meadow init`` makes one, in a folder: made once in each process, and copied."""
    (folder / "clock").write_text(str(NOW))
    (folder / "meadow.db").write_bytes(_empty())
    (folder / "meadow.db").chmod(0o600)


@pytest.fixture
def bare(tmp_path: Path) -> Path:
    """A folder with a clock and no workspace."""
    data = tmp_path / "data"
    data.mkdir(mode=0o700)
    (data / "clock").write_text(str(NOW))
    return data


@pytest.fixture
def folder(bare: Path) -> Path:
    empty_into(bare)
    return bare


@pytest.fixture
def workspace(folder: Path) -> Iterator[Workspace]:
    opened = Workspace(folder)
    yield opened
    opened.close()


def set_clock(workspace: Workspace, moment: int) -> None:
    assert isinstance(workspace.clock, DemoClock)
    workspace.clock.set(moment)


@pytest.fixture(scope="session")
def built(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo of 400 people, made once for all processes of the tests, to be copied."""
    folder = tmp_path_factory.getbasetemp()
    if os.environ.get("PYTEST_XDIST_WORKER"):
        folder = folder.parent
    made = folder / "demo400"
    with (folder / "demo400.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not made.exists():
            build.build(folder / "being made", 400)
            (folder / "being made").rename(made)
    return made
