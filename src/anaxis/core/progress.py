"""How far a work is: a function that is told the share done, and may raise to stop it."""

from __future__ import annotations

from collections.abc import Callable

Progress = Callable[[float], None]


def no_progress(share: float) -> None:
    """For whoever does not want to know how far the work is."""


def part_of(progress: Progress, i: int, count: int) -> Progress:
    """What the i-th of ``count`` equal parts of a work tells its own share to."""
    return lambda share: progress((i + share) / count)
