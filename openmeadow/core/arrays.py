"""Array types, and the moments that stand for none. All moments are UTC seconds: in int32 where there is one a message
or an act, so until January 2038, in int64 elsewhere."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

I64 = npt.NDArray[np.int64]
I32 = npt.NDArray[np.int32]
I8 = npt.NDArray[np.int8]
F64 = npt.NDArray[np.float64]
Mask = npt.NDArray[np.bool_]
Figures = I64 | I32 | F64
Array = npt.NDArray[Any]  # of any type: what files and tables are read into

FAR = np.int64(2**31 - 1)
NEVER = np.int64(-(2**31))


def seconds(at: I64) -> I32:
    """Moments in half the room; one out of reach becomes the last or first within it."""
    return np.clip(at, NEVER + 1, FAR).astype(np.int32)


def narrow(numbers: Array) -> Array:
    """Whole numbers in half the room, where all of them have it there."""
    room = np.iinfo(np.int16)
    fit = numbers.dtype == np.int32 and (not len(numbers) or (numbers.min() >= room.min and numbers.max() <= room.max))
    return numbers.astype(np.int16) if fit else numbers


def inserted(into: Array, at: I64, values: Array) -> Array:
    """As ``numpy.insert``, which takes the type of the first and so cuts what does not fit into it: in one that holds both."""
    return np.insert(into.astype(np.result_type(into, values), copy=False), at, values)
