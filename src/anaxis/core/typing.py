"""Array types shared by the core."""

from typing import Any, TypeAlias

import numpy as np
from numpy.typing import NDArray

Floats: TypeAlias = NDArray[np.float64]
Ints: TypeAlias = NDArray[np.integer[Any]]
Bools: TypeAlias = NDArray[np.bool_]
FloatsLike: TypeAlias = Any  # anything numpy.asarray(..., dtype=float64) takes
