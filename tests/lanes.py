"""The two lanes: ``make test`` at a size that finds faults, ``make test-long`` (ANAXIS_TEST_LONG=1) at full size."""

from __future__ import annotations

import os
from typing import TypeVar

T = TypeVar("T")
LONG = bool(os.environ.get("ANAXIS_TEST_LONG"))


def sized(full: T, small: T) -> T:
    return full if LONG else small
