"""The map for the browser: people on the fine grid, by whatever they can be divided by, and the replay beside it.

Everything is sent once as sparse grids; while the analyst drags, the browser only adds up.
"""

from __future__ import annotations

import sqlite3
import threading
from dataclasses import dataclass

import numpy as np

from openmeadow.core.arrays import F64, I32, I64, NEVER, Mask
from openmeadow.core.columns import Columns
from openmeadow.core.consent.eligibility import REASONS
from openmeadow.core.engagement.bands import BANDS
from openmeadow.core.engagement.map import DAY_EDGES, DAY_WORDS, LEFT_EDGES, LEFT_WORDS
from openmeadow.core.engagement.replay import FINE_DAYS, FINE_LEFT, MEASURES, SHAPE, Places, Replay, cells, places, replay
from openmeadow.core.engagement.replay import rough as rough_replay
from openmeadow.core.moments import DAY, HOUR
from openmeadow.core.rules.conditions import View
from openmeadow.services import models
from openmeadow.services.workspace import Workspace
from openmeadow.store.health.providers import names as provider_names
from openmeadow.store.segments.permission_facts import StoreFacts
from openmeadow.store.subscribers import selections, subscribers

MONTH = 365.25 / 12 * DAY
MOST_LISTS = 10


def _sparse(cell: I32, group: I64, words: list[str], mask: Mask) -> models.Grid:
    """[flat cell, word, people, …] without the zeros."""
    key = cell[mask] * len(words) + group[mask]
    counts = np.bincount(key, minlength=SHAPE[0] * SHAPE[1] * len(words))
    full = np.flatnonzero(counts)
    table = np.stack((full // len(words), full % len(words), counts[full]), axis=1)
    return models.Grid(words=words, cells=table.ravel().tolist())


def where(view: View) -> I32:
    """Each person's flat cell on the fine grid, now."""
    last = view.last_engaged
    return cells(view.now - last, last == NEVER, view.scores.ignored)


def people_map(workspace: Workspace, purpose: str = "") -> models.MapView:
    """Everyone on the grid, divided by band, provider, year of joining, list, and the eligibility check's answer."""
    view, db = workspace.view(), workspace.store.read()
    assert isinstance(view.facts, StoreFacts)
    cell, alive = where(view), view.alive
    years = view.columns.people.joined_at.astype("datetime64[s]").astype("datetime64[Y]").astype(np.int64) + 1970
    first, last = (int(years[alive].min()), int(years[alive].max())) if alive.any() else (1970, 1970)
    purposes = [p.name for p in subscribers.names(db, "purposes")]
    if purpose not in purposes:
        purpose = subscribers.usual_purpose(db)
    if purpose:
        answer = view.facts.may(purpose, limits=False)
        words = [w.capitalize() for w in REASONS] + [f"May be mailed about {purpose}"]
        decided = np.where(answer.first < 0, len(REASONS), answer.first).astype(np.int64)
        gate = _sparse(cell, decided, words, alive)
    else:
        gate = models.Grid(words=[], cells=[])
    groups = models.Grids(
        band=_sparse(cell, view.scores.band.astype(np.int64), list(BANDS), alive),
        provider=_sparse(cell, view.facts.provider.astype(np.int64), provider_names(workspace.store.read()), alive),
        year=_sparse(cell, np.clip(years - first, 0, last - first), [str(y) for y in range(first, last + 1)], alive),
        list=_lists(db, view, cell),
        gate=gate,
    )
    c = view.scores.cadence
    return models.MapView(
        now=view.now,
        day_words=list(DAY_WORDS),
        left_words=list(LEFT_WORDS),
        day_edges=list(DAY_EDGES),
        left_edges=list(LEFT_EDGES),
        fine_days=list(FINE_DAYS),
        fine_left=list(FINE_LEFT),
        groups=groups,
        expected=_filled(_summed(cell[alive], view.scores.chance[alive])),
        subscribers=int(alive.sum()),
        purpose=purpose,
        purposes=purposes,
        gap_days=c.gap,
        window_days=c.window,
    )


def _lists(db: sqlite3.Connection, view: View, cell: I32) -> models.Grid:
    """By list: somebody in two lists counts in both, so these do not add up to everybody."""
    lists = sorted(selections.list_sizes(db), key=lambda m: -m[1])[:MOST_LISTS]
    parts, groups = [], []
    for n, (name, _) in enumerate(lists):
        place = np.flatnonzero(view.alive & view.facts.in_list(name))
        parts.append(cell[place])
        groups.append(np.full(len(place), n, np.int64))
    if not parts:
        return models.Grid(words=[], cells=[])
    both = np.concatenate(parts)
    return _sparse(both, np.concatenate(groups), [name for name, _ in lists], np.ones(len(both), bool))


def _full(sums: dict[str, F64]) -> models.Sums:
    """Of each measure the cells that hold something: flat cell, value; and so on."""
    return models.Sums(**{name.replace(" ", "_"): _filled(sums[name].ravel()) for name in MEASURES})


def _summed(cell: I32, value: F64) -> F64:
    """The sum of each cell."""
    return np.asarray(np.bincount(cell, value, minlength=SHAPE[0] * SHAPE[1]), np.float64)


def _filled(flat: F64) -> list[float]:
    """The cells that hold something: flat cell, value; and so on."""
    full = np.flatnonzero(flat)
    found: list[float] = np.stack((full.astype(np.float64), flat[full]), axis=1).ravel().tolist()
    return found


@dataclass
class Replays:
    """Replays by span, kept while the columns they were made from stand."""

    workspace: Workspace

    def __post_init__(self) -> None:
        self._guard = threading.Lock()
        self._columns: Columns | None = None
        self._places: Places | None = None
        self._made: dict[tuple[int, int], models.ReplayView] = {}

    def of(self, months: int, *, rough: bool = False) -> models.ReplayView:
        """The measures, each [flat cell, value, …], of the sends of the last so many months; ``rough`` where an estimate
        will do until all is replayed."""
        view = self.workspace.view()
        columns, since = view.settled, view.now - round(months * MONTH)
        key = (months, view.now // HOUR)
        if rough:
            made = self._made.get(key)
            if made is not None and self._columns is not None and self._columns.rows is columns.rows:
                return made
            estimate = rough_replay(columns, self.workspace.troubles(), since, view.now)
            if estimate is not None:
                return _view(months, *estimate)
        with self._guard:
            if self._columns is None or self._columns.rows is not columns.rows:
                self._made = {}
                self._places = places(columns)
            self._columns = columns
            if key not in self._made:
                self._made[key] = _view(months, replay(columns, self.workspace.troubles(), since, view.now, self._places))
            return self._made[key]


def _view(months: int, found: Replay, off: float = 0.0) -> models.ReplayView:
    return models.ReplayView(
        months=months,
        since=found.since,
        until=found.until,
        messages=round(float(found.sums["messages"].sum())),
        off=off,
        sums=_full(found.sums),
        for_good=_full(found.for_good),
    )
