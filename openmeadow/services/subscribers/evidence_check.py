"""Whether the consent record is whole, as a page asks: at once where it is short, beside the requests where it is long."""

from __future__ import annotations

import threading
import time

import structlog

from openmeadow.services import models
from openmeadow.services.subscribers import consent
from openmeadow.services.workspace import Workspace
from openmeadow.store.subscribers import consent as table

log = structlog.get_logger()
AT_ONCE = 100_000  # entries that are verified within a request
STANDS = 300.0  # seconds that the answer about a longer one is good for


class _Checker:
    """The latest result about a long record, and whether another is being worked out."""

    def __init__(self, workspace: Workspace) -> None:
        self.workspace, self.busy = workspace, threading.Lock()
        self.found: tuple[float, models.EvidenceSeen] | None = None

    def start(self) -> None:
        if self.busy.acquire(blocking=False):
            threading.Thread(target=self._work, daemon=True, name="consent record").start()

    def _work(self) -> None:
        try:
            self.found = (time.monotonic(), _verified(self.workspace))
        except Exception:
            log.exception("the consent record could not be verified")
        finally:
            self.busy.release()


def _verified(workspace: Workspace) -> models.EvidenceSeen:
    return models.EvidenceSeen(**consent.check_evidence(workspace).model_dump(), pending=False)


def see(workspace: Workspace, at_once: int = AT_ONCE) -> models.EvidenceSeen:
    """The answer; ``pending`` while a long record is still being verified, with how many entries it has."""
    _, count = table.head(workspace.store.read())
    if count <= at_once:
        return _verified(workspace)
    checker = workspace.part(_Checker)
    if checker.found is not None and time.monotonic() - checker.found[0] < STANDS:
        return checker.found[1]
    checker.start()
    return models.EvidenceSeen(entries=count, verified=False, broken_at=None, what="", pending=True)
