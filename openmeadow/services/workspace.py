"""The workspace: one open data folder with its store, its clock and its settings. What is worked out from its people and
events is in ``views``, loaded when it is first asked for, as few commands do."""

from __future__ import annotations

import threading
from collections.abc import Callable
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar, cast
from zoneinfo import ZoneInfo

from openmeadow.core.delivery.smtp_refusals import RefusalRun
from openmeadow.core.settings import Value
from openmeadow.services.clock import Clock, clock_of
from openmeadow.store import settings
from openmeadow.store.connection import Store

if TYPE_CHECKING:
    from openmeadow.core.arrays import I64
    from openmeadow.core.columns import Columns, Troubles
    from openmeadow.core.engagement.bands import Cadence
    from openmeadow.core.engagement.bot_signatures import Machines
    from openmeadow.core.engagement.chance_models import ChanceModels
    from openmeadow.core.engagement.score import Basis
    from openmeadow.core.ids import SubscriberId
    from openmeadow.core.rules.breakdown import BreakdownRow
    from openmeadow.core.rules.conditions import Rule, View
    from openmeadow.services.kept_columns import KeptColumns, Sizes
    from openmeadow.services.models import ScoreModel
    from openmeadow.services.views import ScoreSummary, Views
    from openmeadow.store.segments.permission_facts import StoreFacts

T = TypeVar("T")


class Workspace:
    """Opens a data folder; hands out views. ``view()`` is now, ``view(as_of=t)`` a past moment as it was then."""

    def __init__(self, folder: Path, clock: Clock | None = None, sizes: Sizes | None = None) -> None:
        self.store = Store(folder)
        self.folder = folder
        self.clock = clock or clock_of(folder)
        self.wall = Clock()  # the machine's own, for accounts, also where the workspace has a clock of its own
        self.providers_seen: object = None  # by the last look for providers
        self.refusal_run = RefusalRun()  # of the relay, over all plans
        self.stopping = threading.Event()  # set: what is under way is finished, and nothing more begun
        self.guard = threading.RLock()  # of what is worked out and kept
        self._sizes = sizes
        self._parts: dict[object, object] = {}

    def now(self) -> int:
        """The present moment, UTC seconds."""
        return self.clock.now()

    def part(self, kind: Callable[[Workspace], T]) -> T:
        """Something that lives as long as the workspace is open, made of it when it is first asked for."""
        if kind not in self._parts:  # without waiting for whoever works out a view just now
            with self.guard:
                if kind not in self._parts:
                    self._parts[kind] = kind(self)
        return cast(T, self._parts[kind])

    def close(self) -> None:
        """Close the database and end what goes on beside the views."""
        if "_views" in self.__dict__:
            self.columns.close()
        self.store.close()

    def setting(self, name: str) -> Value:
        """The value of a setting, its default where it was never set."""
        return settings.setting(self.store.read(), name)

    @property
    def zone(self) -> ZoneInfo:
        """The workspace's own time zone."""
        return ZoneInfo(str(self.setting("time_zone")))

    # what ``views`` does

    @cached_property
    def _views(self) -> Views:
        from openmeadow.services.views import Views

        return Views(self.store, self.now, self.guard, self._sizes)

    @property
    def columns(self) -> KeptColumns:
        """The columns that views are made of."""
        return self._views.columns

    def machines(self) -> Machines:
        """The shipped list of machines with the workspace's own beside it."""
        return self._views.machines()

    def models(self) -> ChanceModels:
        """The models of the chance to engage that stand; the defaults before the first fit."""
        return self._views.models()

    def model_summary(self) -> ScoreModel:
        """The model of reading that stands."""
        return self._views.model_summary()

    def basis(self, columns: Columns, now: int, pace: Cadence | None = None) -> Basis:
        """What scores are worked out with, as the settings have it; ``pace`` where the cadence is known already."""
        return self._views.basis(columns, now, pace)

    def troubles(self) -> Troubles:
        """Bounces, complaints and unsubscribes known now."""
        return self._views.troubles()

    def view(self, as_of: int | None = None, *, nearly: bool = False) -> View:
        """What is true of everybody at a moment (``Views.view``)."""
        return self._views.view(as_of, nearly=nearly)

    def view_of(self, ids: I64, pace: Cadence | None = None) -> View:
        """What is true now of a few people (ascending ids)."""
        return self._views.view_of(ids, pace)

    def pace(self) -> Cadence:
        """The workspace's cadence."""
        return self._views.pace()

    def facts_of(self, ids: I64) -> StoreFacts:
        """What the eligibility check asks of a few people (ascending ids)."""
        return self._views.facts_of(ids)

    def band_counts(self, view: View) -> dict[str, int]:
        """How many subscribers are in each band."""
        return self._views.band_counts(view)

    def score_summary(self, as_of: int | None = None, full: bool = False) -> ScoreSummary:
        """The bands as of a moment, by default now; ``full`` reads all events anew."""
        return self._views.score_summary(as_of, full)

    def checked_rule(self, text: str, view: View, own_name: str | None = None) -> Rule:
        """A rule whose every name exists; a mistake points at its place."""
        return self._views.checked_rule(text, view, own_name)

    def count(
        self, text: str, as_of: int | None = None, with_breakdown: bool = False, own_name: str | None = None
    ) -> tuple[int, View, Rule, list[BreakdownRow]]:
        """How many a rule holds for, with the view and the rule (``Views.count``)."""
        return self._views.count(text, as_of, with_breakdown, own_name)

    def index_of(self, view: View, subscriber: SubscriberId) -> int:
        """The row of a subscriber in a view; Missing where there is none."""
        return self._views.index_of(view, subscriber)
