"""The daily fit of the score and its check: in a workspace of many deliveries by a process of its own, so that nothing else
that the worker does waits for it."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

from openmeadow.services.subscribers import score_model
from openmeadow.services.workspace import Workspace
from openmeadow.store.engagement import events

APART_FROM = 500_000  # events


class _Beside:
    """The process that fits, if any."""

    def __init__(self, workspace: Workspace) -> None:
        self.process: subprocess.Popen[bytes] | None = None


def tend(workspace: Workspace) -> None:
    """Fit and check where it is time."""
    beside = workspace.part(_Beside)
    if beside.process is not None and beside.process.poll() is None:
        return
    beside.process = None
    if not score_model.is_waited_for(workspace):
        return
    if events.highest(workspace.store.read()) < APART_FROM:
        score_model.tend(workspace)
        return
    beside.process = subprocess.Popen([sys.executable, "-m", "openmeadow.worker.score_fit", str(workspace.folder)])


def main(folder: Path) -> None:
    """Fit and check one workspace."""
    workspace = Workspace(folder)
    try:
        score_model.tend(workspace)
    finally:
        workspace.close()


if __name__ == "__main__":
    main(Path(sys.argv[1]))
