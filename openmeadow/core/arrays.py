"""Array types, and the moments that stand for none. All moments are UTC seconds in int64."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

I64 = npt.NDArray[np.int64]
I32 = npt.NDArray[np.int32]
I8 = npt.NDArray[np.int8]
F64 = npt.NDArray[np.float64]
Mask = npt.NDArray[np.bool_]

DAY = 86_400
FAR = np.int64(2**62)
NEVER = np.int64(-(2**62))
