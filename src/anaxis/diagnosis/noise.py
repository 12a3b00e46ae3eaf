"""What an arrived camera's own numbers leave open: printed decimals, and noise that no cause explains and none must."""

from __future__ import annotations

from dataclasses import replace
from typing import NamedTuple

import numpy as np
import scipy

from anaxis.core.camera.track import Track
from anaxis.core.space.axes import Convention
from anaxis.core.space.rotation import angles_from_matrices
from anaxis.core.typing import Floats
from anaxis.diagnosis.case import Apart

# A table is printed with so many decimals at most where that is from its numbers.
_MOST_DECIMALS = 6
# Noise above it is visible in the picture: it is something that happened, and not what numbers leave open; but with a long lens
# a position that trembles by no more than a tenth of a millimetre is seen, and a rotation by so many degrees.
NOISE_PX = 0.5
_NOISE_M, _NOISE_DEG = 1.5e-4, 1e-3
MAY_BE_NOISE_PX = 5.0
# What leaves more than this open explains nothing: every mistake would fit.
MOST_PX = 25.0
# By how much the noise that the third differences show may differ from what is left over, to be the same.
_ALIKE = (0.6, 1.7)
_LEAST_FRAMES = 8


class Floor(NamedTuple):
    """Below ``px`` nothing can be told; ``why`` in a few words, "" where that is nothing to speak of; ``said`` is what it makes of a
    camera that nothing else happened to."""

    px: float
    why: str
    said: str = ""


NO_FLOOR = Floor(0.0, "")


def of_decimals(arrived: Track, convention: Convention, apart: Apart) -> Floor:
    """What printed decimals leave open, where the package's positions and angles are printed with few of them."""
    place = convention.position_from_canonical(arrived.position_m)
    angles = angles_from_matrices(
        convention.rotation_from_canonical(arrived.rotation), convention.order, convention.signs
    ).deg
    lens = arrived.lens
    few = [_printed(v) for v in (place, angles, lens.focal_mm[:, None])]
    if all(d is None for d in few) or len(arrived) < 3:
        return NO_FLOOR
    # The worst of a few cameras whose numbers lie half a step away, every one of them.
    rng = np.random.default_rng(1)
    worst = 0.0
    for _ in range(6):
        place_off, angle_off, focal_off = (
            rng.choice([-0.5, 0.5], size=shape) * (0.0 if d is None else 10.0**-d)
            for d, shape in zip(few, (place.shape, angles.shape, lens.focal_mm.shape), strict=True)
        )
        turn = scipy.spatial.transform.Rotation.from_rotvec(np.radians(angle_off)).as_matrix() @ arrived.rotation
        other = replace(
            arrived,
            position_m=convention.position_to_canonical(place + place_off),
            rotation=turn,
            lens=replace(lens, focal_mm=lens.focal_mm + focal_off),
        )
        worst = max(worst, float(apart(other).max()))
    least = min(d for d in few if d is not None)
    words = {0: "whole numbers", 1: "one decimal"}.get(least, f"{least} decimals")
    return Floor(min(1.2 * worst, MOST_PX), f"as far as {words} tell", f"rounded to {words}")


def _printed(values: Floats) -> int | None:
    """The decimals that numbers (n, c) were rounded to; a place of (1, 2, 3) or a lens of 35 mm is as exact as it looks."""
    decimals = decimals_in(values)
    if decimals is None:
        return None
    parts = np.unique(np.round(np.abs(values) * 10.0**decimals) % 10**decimals if decimals else np.abs(values))
    return decimals if len(parts) >= (3 if decimals >= 2 else 12) else None


def decimals_in(values: Floats) -> int | None:
    """The decimals that numbers (n, c) are printed with; None for numbers with all their digits."""
    for count in range(_MOST_DECIMALS + 1):
        scaled = values * 10.0**count
        if np.abs(scaled - np.round(scaled)).max() < 2e-6 * max(1.0, float(np.abs(scaled).max()) * 1e-6):
            return count
    return None


def is_noise(fitted: Track, seen: Track, scale: float, residual_px: float) -> bool:
    """Whether what a camera differs by is noise alone: small, and as large from frame to frame as it is at all.

    ``scale`` is how many times larger the world is in which it was seen. White noise of size s has third differences of size s sqrt(20); whatever drifts, turns or moves has smaller ones.
    """
    if len(seen) < _LEAST_FRAMES or np.ptp(np.diff(seen.frames)) > 1e-6:
        return False
    place = seen.position_m - fitted.position_m
    turn = scipy.spatial.transform.Rotation.from_matrix(seen.rotation @ np.swapaxes(fitted.rotation, 1, 2)).as_rotvec()
    parts = [p for p in (place, turn) if np.abs(p).max() > 1e-9]
    rms = [float(np.sqrt((p * p).mean())) for p in (place / scale, np.degrees(turn))]
    if residual_px > NOISE_PX and not (rms[0] <= _NOISE_M and rms[1] <= _NOISE_DEG):
        return False
    for left in parts:
        size = float(np.sqrt((left * left).mean()))
        third = np.diff(left, n=3, axis=0)
        by_thirds = float(np.sqrt((third * third).mean() / 20))
        if not _ALIKE[0] <= by_thirds / size <= _ALIKE[1]:
            return False
    view = np.abs(
        seen.lens.focal_mm / seen.lens.film_width_mm / (fitted.lens.focal_mm / fitted.lens.film_width_mm) - 1
    ).max()
    return bool(parts) and float(view) < 1e-4
