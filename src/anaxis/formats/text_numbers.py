"""Numbers out of text, in bulk."""

from __future__ import annotations

import warnings

import numpy as np

from anaxis.core.typing import Floats


def numbers_in(text: str) -> Floats:
    """The numbers of blank-separated text, (k,), correctly rounded; raises ValueError for anything else."""
    with warnings.catch_warnings():
        # The function stops at what is no number, and only warns.
        warnings.simplefilter("error", DeprecationWarning)
        try:
            return np.fromstring(text, dtype=np.float64, sep=" ") if text.strip() else np.zeros(0)
        except DeprecationWarning as error:
            raise ValueError(str(error)) from error
