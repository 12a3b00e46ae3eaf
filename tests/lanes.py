"""The two lanes: ``make test`` at a size that finds faults, ``make test-long`` (ANAXIS_TEST_LONG=1) at full size."""

from __future__ import annotations

import os
from collections.abc import Iterable
from typing import TypeVar

T = TypeVar("T")
U = TypeVar("U")
LONG = bool(os.environ.get("ANAXIS_TEST_LONG"))


def pairs(first: Iterable[T], second: Iterable[U], share: int = 3) -> list[tuple[T, U]]:
    """Every pair in the long lane; else a ``share``-th of them, so chosen that each value of both occurs."""
    every = [(i + j, (a, b)) for i, a in enumerate(first) for j, b in enumerate(second)]
    return [pair for number, pair in every if LONG or number % share == 0]


def sized(full: T, small: T) -> T:
    return full if LONG else small
