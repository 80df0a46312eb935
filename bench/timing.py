"""Contests: each contestant once a round, in turn, and the median of its rounds."""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable
from typing import Any

ROUNDS = 5


def in_turn(contests: dict[str, Callable[[], Any]], rounds: int = ROUNDS) -> dict[str, tuple[float, Any]]:
    """The median seconds and the last answer of each; a first run of each is not counted."""
    times: dict[str, list[float]] = {name: [] for name in contests}
    answers = {name: run() for name, run in contests.items()}
    for _ in range(rounds):
        for name, run in contests.items():
            begun = time.perf_counter()
            answers[name] = run()
            times[name].append(time.perf_counter() - begun)
    return {name: (statistics.median(t), answers[name]) for name, t in times.items()}
