"""Parameters that say a range of frames, open on either side."""

from __future__ import annotations

import numpy as np

from anaxis.core.parameters import parameter
from anaxis.core.time.rates import format_frame

FIRST = parameter("First frame", default=None)
LAST = parameter("Last frame", default=None)


def ends(first: float | None, last: float | None) -> tuple[float, float]:
    """The range itself, an open side being infinite."""
    return -np.inf if first is None else first, np.inf if last is None else last


def span_words(first: float | None, last: float | None) -> str:
    """The range in words; one frame where it is one, or where only the first is given."""
    low = "start" if first is None else format_frame(first)
    high = "end" if last is None else format_frame(last)
    return low if low == high or (last is None and first is not None) else f"{low} to {high}"


def only_over(first: float | None, last: float | None) -> str:
    """What is added to words where not all frames are meant."""
    return "" if first is None and last is None else f", {span_words(first, last)}"
