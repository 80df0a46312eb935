"""What each mailbox provider may still be sent today, over everything that goes out, counted as it goes."""

from __future__ import annotations

import threading

from openmeadow.core.moments import midnight
from openmeadow.services.workspace import Workspace
from openmeadow.store.campaigns import deliveries


class DailyCaps:
    """One for all connections and campaigns of a run: the ledger counts a message once it has been taken, and several are
    on their way by then."""

    def __init__(self, workspace: Workspace) -> None:
        self._workspace, self._guard = workspace, threading.Lock()
        self._today, self._had = range(0), dict[int, int]()  # the seconds of the local day

    def take(self, provider: int, cap: int | None) -> bool:
        """Whether one more may go to a provider today (None: no limit); it counts from now on."""
        with self._guard:
            now = self._workspace.now()
            if now not in self._today:
                zone = self._workspace.zone
                self._today = range(midnight(now, zone), midnight(now, zone, 1))
                self._had = deliveries.sent_by_provider(self._workspace.store.read(), self._today.start)
            had = self._had.get(provider, 0)
            if cap is not None and had >= cap:
                return False
            self._had[provider] = had + 1
            return True

    def put_back(self, provider: int) -> None:
        """One that was not sent after all."""
        with self._guard:
            self._had[provider] = self._had.get(provider, 0) - 1
