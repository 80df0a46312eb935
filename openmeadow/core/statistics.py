"""Intervals for shares and their differences."""

from __future__ import annotations

from math import sqrt
from typing import NamedTuple

Z95 = 1.959963984540054


class Interval(NamedTuple):
    """A point with its lower and upper limit."""

    point: float
    low: float
    high: float


def wilson(k: int, n: int, z: float = Z95) -> Interval:
    """Wilson's score interval for k of n (Wilson 1927); (0, 0, 1) without any."""
    if n == 0:
        return Interval(0.0, 0.0, 1.0)
    p, zz = k / n, z * z
    centre = (p + zz / (2 * n)) / (1 + zz / n)
    half = z * sqrt(p * (1 - p) / n + zz / (4 * n * n)) / (1 + zz / n)
    return Interval(p, max(0.0, centre - half), min(1.0, centre + half))


def newcombe(k1: int, n1: int, k2: int, n2: int) -> Interval:
    """p1 - p2 with Newcombe's hybrid score interval (Newcombe 1998, method 10), 95%."""
    a, b = wilson(k1, n1), wilson(k2, n2)
    d = a.point - b.point
    return Interval(
        d,
        d - sqrt((a.point - a.low) ** 2 + (b.high - b.point) ** 2),
        d + sqrt((a.high - a.point) ** 2 + (b.point - b.low) ** 2),
    )
