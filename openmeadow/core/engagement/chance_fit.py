"""Maximum likelihood for the model of ``chance``: its parameters from how many people have which (x, t, n)."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from openmeadow.core.arrays import F64, I32
from openmeadow.core.engagement.chance import ChanceModel, lattice, log_likelihood, place

DEFAULT = ChanceModel()
FEWEST_PEOPLE, FEWEST_MESSAGES = 200, 2_000  # of a workspace with parameters of its own
SOURCE_PEOPLE, SOURCE_MESSAGES = 500, 2_000  # of a source with an alpha and beta of its own
BOUNDS = np.log(np.array([[0.01, 200.0], [0.01, 500.0], [0.01, 200.0], [0.1, 5_000.0]]))
STEP, MOST_ROUNDS, ENOUGH = 1e-3, 80, 1e-7
Loss = Callable[[F64], float]


class Distinct:
    """The different (x, t, n) of people, with how many have each; people without counted messages say nothing."""

    def __init__(self, x: I32, t: I32, n: I32) -> None:
        some = n > 0
        self.people, self.messages = int(some.sum()), int(n[some].sum())
        found, self.count = np.unique(place(x[some], t[some], n[some]), return_counts=True)
        self.x, self.t, self.n = (a[found] for a in lattice())

    def loss(self, parameters: tuple[float, float, float, float]) -> float:
        """Minus the mean log likelihood of a person."""
        return -float((log_likelihood(parameters, self.x, self.t, self.n) * self.count).sum()) / max(1, self.people)


def _curvature(loss: Loss, at: F64, here: float) -> tuple[F64, F64]:
    """Slope and second derivatives by central differences."""
    size = len(at)
    steps = np.eye(size) * STEP
    up, down = np.array([loss(at + s) for s in steps]), np.array([loss(at - s) for s in steps])
    slope, second = (up - down) / (2 * STEP), np.diag((up - 2 * here + down) / STEP**2)
    for i in range(size):
        for j in range(i):
            both = loss(at + steps[i] + steps[j]) - loss(at + steps[i] - steps[j])
            both += loss(at - steps[i] - steps[j]) - loss(at - steps[i] + steps[j])
            second[i, j] = second[j, i] = both / (4 * STEP**2)
    return slope, second


def least(loss: Loss, start: F64, bounds: F64) -> F64:
    """Where a smooth function of a few variables is least: Newton's steps, damped where they lead up (Levenberg 1944,
    Marquardt 1963), kept within ``bounds``."""
    at, here, damping = start.copy(), loss(start), 1e-3
    for _ in range(MOST_ROUNDS):
        slope, second = _curvature(loss, at, here)
        free = ~(((at <= bounds[:, 0]) & (slope > 0)) | ((at >= bounds[:, 1]) & (slope < 0)))
        if not free.any() or np.abs(slope[free]).max() < ENOUGH:
            break
        values, vectors = np.linalg.eigh(second[np.ix_(free, free)])
        moved = False
        while not moved and damping < 1e9:
            along = vectors.T @ slope[free] / (np.maximum(np.abs(values), 1e-9) + damping)
            step = np.zeros(len(at))
            step[free] = -np.clip(vectors @ along, -1.0, 1.0)
            to = np.clip(at + step, bounds[:, 0], bounds[:, 1])
            there = loss(to)
            moved = there < here
            damping = max(damping / 9, 1e-9) if moved else damping * 4
        if not moved or here - there < ENOUGH * 1e-3:
            at = to if moved else at
            break
        at, here = to, there
    return at


def fit(x: I32, t: I32, n: I32) -> ChanceModel:
    """The parameters that make what was seen most likely; the defaults where it is too little."""
    seen = Distinct(x, t, n)
    if seen.people < FEWEST_PEOPLE or seen.messages < FEWEST_MESSAGES:
        return DEFAULT

    def loss(logs: F64) -> float:
        a, b, c, d = np.exp(logs).tolist()
        return seen.loss((a, b, c, d))

    found = np.exp(least(loss, np.log(np.array(DEFAULT.parameters)), BOUNDS))
    a, b, c, d = (float(f"{v:.10g}") for v in found)
    return ChanceModel(a, b, c, d, seen.people, seen.messages)


def fit_source(whole: ChanceModel, x: I32, t: I32, n: I32) -> ChanceModel | None:
    """A source's own alpha and beta beside the workspace's gamma and delta, drawn towards the workspace's (on the scale
    of logarithms, half of the way at SOURCE_MESSAGES); None where its history is too small."""
    seen = Distinct(x, t, n)
    if not whole.is_own or seen.people < SOURCE_PEOPLE or seen.messages < SOURCE_MESSAGES:
        return None

    def loss(logs: F64) -> float:
        a, b = np.exp(logs).tolist()
        return seen.loss((a, b, whole.gamma, whole.delta))

    base = np.log(np.array(whole.parameters[:2]))
    own = least(loss, base, BOUNDS[:2])
    weight = seen.messages / (seen.messages + SOURCE_MESSAGES)
    a, b = np.exp(weight * own + (1 - weight) * base).tolist()
    return ChanceModel(a, b, whole.gamma, whole.delta, seen.people, seen.messages)
