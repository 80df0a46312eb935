"""At random: a keyed hash of seed and subscriber, the same on every machine and after a crash."""

from __future__ import annotations

import numpy as np

from openmeadow.core.arrays import F64, I64

_GOLDEN = np.uint64(0x9E3779B97F4A7C15)


def draw(seed: int, subscriber: I64, purpose: int = 0) -> F64:
    """A number in [0, 1) a subscriber; another ``purpose`` gives independent numbers (splitmix64)."""
    with np.errstate(over="ignore"):
        z = subscriber.astype(np.uint64) * _GOLDEN + np.uint64(seed % 2**64)
        z = z + np.uint64(purpose % 2**32) * np.uint64(0xD1B54A32D192ED03)
        for _ in range(2):
            z = (z ^ (z >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
            z = (z ^ (z >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
            z = z ^ (z >> np.uint64(31))
    return (z >> np.uint64(11)).astype(np.float64) / float(2**53)
