"""Which frames a reader evaluates, and the limit on how many."""

from __future__ import annotations

import numpy as np

from anaxis.core.bounds import MAX_FRAMES
from anaxis.core.errors import BadInput
from anaxis.core.typing import Floats


def check_span(keys: Floats, where: str) -> None:
    """Raise BadInput, naming ``where``, for samples that are not numbers or over too many frames."""
    if len(keys) and (not np.isfinite(keys).all() or keys[-1] - keys[0] >= MAX_FRAMES):
        raise BadInput(
            f"{where}, has samples from frame {keys[0]:g} to {keys[-1]:g}; at most {MAX_FRAMES} frames are possible: export only the range of the shot."
            ""
        )


def keys_and_whole_frames(keys: Floats, where: str) -> Floats:
    """The keys (k,) and every whole frame between the first and the last; (0,) without keys.

    Raises BadInput as :func:`check_span`.
    """
    check_span(keys, where)
    if not len(keys):
        return keys
    return np.union1d(keys, np.arange(np.ceil(keys[0]), np.floor(keys[-1]) + 1))
