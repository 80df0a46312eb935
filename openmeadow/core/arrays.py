"""Array types, and the moments that stand for none. All moments are UTC seconds in int64."""

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

FAR = np.int64(2**62)
NEVER = np.int64(-(2**62))
