"""Housekeeping: what the worker does every half a minute beside sending, and the hourly check of senders."""

from __future__ import annotations

import contextlib
from collections.abc import Callable

from openmeadow.core.errors import MeadowError
from openmeadow.core.moments import HOUR
from openmeadow.services import accounts
from openmeadow.services.campaigns import arrivals, campaigns, inbox_placement, tracking
from openmeadow.services.health import placement, providers
from openmeadow.services.health.inbound_mail import tidy
from openmeadow.services.segments import starter_segments
from openmeadow.services.senders import domains, round_trip_test
from openmeadow.services.sequences import editing
from openmeadow.services.subscribers import address_checks, consent, export, reconsent, sunset
from openmeadow.services.today import alerts, weekly_report
from openmeadow.services.workspace import Workspace
from openmeadow.store import upgrade_copy
from openmeadow.store.senders import senders as sender_table
from openmeadow.worker import score_fit

KEEP_HOUSE_EVERY = 30
CHECK_SENDERS_EVERY = HOUR


def _bring_log_in(workspace: Workspace) -> None:
    """What was erased leaves the database's log too, when readers stood in the way before."""
    log_file = workspace.store.path.with_name(f"{workspace.store.path.name}-wal")
    if log_file.exists() and log_file.stat().st_size:
        _ = workspace.store.writer
        workspace.store.checkpoint()


def _remove_old_copies(workspace: Workspace) -> None:
    upgrade_copy.remove_old(workspace.folder)


def _run_sunset(workspace: Workspace) -> None:
    sunset.start_what_waits(workspace, "worker")
    sunset.run_automatic(workspace)


DUTIES: tuple[Callable[[Workspace], object], ...] = (
    starter_segments.make,
    score_fit.tend,
    export.clean_up,
    _remove_old_copies,
    consent.suppress_repeated_soft,
    reconsent.suppress_non_responders,
    _run_sunset,
    address_checks.ask_again,
    providers.look,
    placement.look,
    alerts.tend,
    weekly_report.tend,
    tidy,
    tracking.process_stored_unsubscribes,
    arrivals.take_left,
    inbox_placement.tend,
    campaigns.finish_stops,
    editing.finish_ends,
    accounts.tend,
    _bring_log_in,
)


class SenderChecks:
    """Checks every sending domain hourly, and when its round-trip test has news."""

    def __init__(self, workspace: Workspace) -> None:
        self.workspace = workspace
        self._round_trips: dict[int, str] = {}  # by domain: what its last one showed when its records were checked

    def check(self) -> None:
        """Send round-trip tests that are due and look at the domains whose hour has come."""
        now = self.workspace.now()
        for row in sender_table.domains(self.workspace.store.read()):
            if round_trip_test.due(row, now):
                with contextlib.suppress(MeadowError):
                    round_trip_test.send(self.workspace, row.id)
            went = round_trip_test.finding(row, now)
            told = went.found if went else ""
            news = bool(told) and self._round_trips.get(row.id) != told
            if news or row.checked_at is None or now - row.checked_at >= CHECK_SENDERS_EVERY:
                domains.check(self.workspace, row.id)
                self._round_trips[row.id] = told
