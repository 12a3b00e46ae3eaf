"""Array types shared by the core."""

from typing import Any, TypeAlias

import numpy as np
from numpy.typing import NDArray

Floats: TypeAlias = NDArray[np.float64]
Singles: TypeAlias = NDArray[np.float32]  # the pixels of pictures
Bytes: TypeAlias = NDArray[np.uint8]
Ints: TypeAlias = NDArray[np.integer[Any]]
Bools: TypeAlias = NDArray[np.bool_]
FloatsLike: TypeAlias = Any  # anything numpy.asarray(..., dtype=float64) takes
