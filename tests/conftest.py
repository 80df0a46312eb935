"""A workspace on disk with a clock that tests set, and what most tests begin with."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import settings

from openmeadow.services.clock import DemoClock
from openmeadow.services.workspace import Workspace

settings.register_profile("usual", max_examples=50, deadline=None)
settings.register_profile("nightly", max_examples=400, deadline=None)
settings.load_profile(os.environ.get("MEADOW_PROFILE", "usual"))

NOW = 1_773_308_520  # Thu 12 Mar 2026, 09:42 UTC


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    data = tmp_path / "data"
    data.mkdir()
    (data / "clock").write_text(str(NOW))
    return data


@pytest.fixture
def workspace(folder: Path) -> Iterator[Workspace]:
    opened = Workspace(folder)
    yield opened
    opened.close()


def set_clock(workspace: Workspace, moment: int) -> None:
    assert isinstance(workspace.clock, DemoClock)
    workspace.clock.set(moment)
