"""What is written for a number that a camera does not state, in files that hold one on every frame or none at all."""

from __future__ import annotations

import numpy as np

from anaxis.core.typing import Floats

# A library may write clip planes whatever is known: this property of the camera names those that it does not state.
CLIPS, UNSTATED = ("near_m", "far_m"), "notStated"


def zero_where_unstated(values: Floats) -> Floats:
    """A focus distance or stop (n,): 0 says that it is not used, to the standards' readers and to our own."""
    return np.where(np.isfinite(values), values, 0.0)


def held_where_unstated(values: Floats) -> Floats:
    """A clip plane (n,): the nearest one that is stated, for none of 0 shows a picture. One at least is stated."""
    known = np.flatnonzero(np.isfinite(values))
    half_way = (known[:-1] + known[1:]) / 2
    return np.asarray(values[known[np.searchsorted(half_way, np.arange(len(values)))]])
