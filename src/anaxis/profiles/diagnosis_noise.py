"""What an arrived camera's own numbers leave open: printed decimals, and noise that no cause explains and none must."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from scipy.spatial.transform import Rotation

from anaxis.core.axes import Convention
from anaxis.core.rotation import angles_from_matrices
from anaxis.core.track import Track
from anaxis.core.typing import Floats
from anaxis.profiles.diagnosis_case import Apart

# A table is printed with so many decimals at most where that is told from its numbers.
_MOST_DECIMALS = 6
# Noise above it is seen in the picture: it is something that happened, and not what numbers leave open.
NOISE_PX = 0.5
# By how much the noise that the third differences show may differ from what is left over, to be the same.
_ALIKE = (0.6, 1.7)
_LEAST_FRAMES = 8


class Floor(NamedTuple):
    """Below ``px`` nothing can be told; ``why`` in a few words, "" where that is nothing to speak of."""

    px: float
    why: str


NO_FLOOR = Floor(0.0, "")


def of_decimals(arrived: Track, convention: Convention, apart: Apart) -> Floor:
    """What printed decimals leave open, where the package's positions and angles are printed with few of them."""
    place = convention.position_from_canonical(arrived.position_m)
    angles = angles_from_matrices(
        convention.rotation_from_canonical(arrived.rotation), convention.order, convention.signs
    ).deg
    decimals = [decimals_in(place), decimals_in(angles)]
    if None in decimals or len(arrived) < 3:
        return NO_FLOOR
    focal = decimals_in(arrived.lens.focal_mm[:, None]) if np.ptp(arrived.lens.focal_mm) > 0 else None
    few = [d for d in (*decimals, focal) if d is not None]
    # The worst of a few cameras whose numbers lie half a step away, every one of them.
    rng = np.random.default_rng(1)
    worst = 0.0
    for _ in range(6):
        sides = [rng.choice([-0.5, 0.5], size=(len(arrived), 3)) * 10.0 ** -few[i] for i in (0, 1)]
        moved = convention.position_to_canonical(place + sides[0])
        turn = Rotation.from_rotvec(np.radians(sides[1])).as_matrix() @ arrived.rotation
        lens = arrived.lens
        if focal is not None:
            step = rng.choice([-0.5, 0.5], size=len(arrived)) * 10.0**-focal
            lens = type(lens)(**{**lens.__dict__, "focal_mm": lens.focal_mm + step})
        other = type(arrived)(**{**arrived.__dict__, "position_m": moved, "rotation": turn, "lens": lens})
        worst = max(worst, float(apart(other).max()))
    least = min(few)
    words = {0: "whole numbers", 1: "one decimal"}.get(least, f"{least} decimals")
    return Floor(1.2 * worst, f"as far as {words} tell")


def decimals_in(values: Floats) -> int | None:
    """The decimals that numbers (n, c) are printed with; None for numbers with all their digits."""
    for count in range(_MOST_DECIMALS + 1):
        scaled = values * 10.0**count
        if np.abs(scaled - np.round(scaled)).max() < 2e-6 * max(1.0, float(np.abs(scaled).max()) * 1e-6):
            return count
    return None


def is_noise(fitted: Track, seen: Track) -> bool:
    """Whether what a camera differs by is noise alone: as large from frame to frame as it is at all.

    White noise of size s has third differences of size s sqrt(20); whatever drifts, turns or moves has smaller ones.
    """
    if len(seen) < _LEAST_FRAMES or np.ptp(np.diff(seen.frames)) > 1e-6:
        return False
    place = seen.position_m - fitted.position_m
    turn = Rotation.from_matrix(seen.rotation @ np.swapaxes(fitted.rotation, 1, 2)).as_rotvec()
    parts = [p for p in (place, turn) if np.abs(p).max() > 1e-9]
    for left in parts:
        size = float(np.sqrt((left * left).mean()))
        third = np.diff(left, n=3, axis=0)
        told = float(np.sqrt((third * third).mean() / 20))
        if not _ALIKE[0] <= told / size <= _ALIKE[1]:
            return False
    view = np.abs(
        seen.lens.focal_mm / seen.lens.film_width_mm / (fitted.lens.focal_mm / fitted.lens.film_width_mm) - 1
    ).max()
    return bool(parts) and float(view) < 1e-4
