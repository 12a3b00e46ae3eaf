"""What changed between two versions of a camera: which channels, from which frame, by how many pixels."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import pixel_matrices
from anaxis.core.camera.track import Track
from anaxis.core.proof.proof import Proof, prove
from anaxis.core.scene.landmarks import Landmarks
from anaxis.core.scene.tree import angle_between_deg
from anaxis.core.typing import Floats, Ints

_CHANNELS = (
    ("focal length", "mm", "focal_mm"), ("film back width", "mm", "film_width_mm"),
    ("film back height", "mm", "film_height_mm"), ("offset right", "mm", "offset_x_mm"), ("offset up", "mm", "offset_y_mm"),
    ("squeeze", "x", "squeeze"), ("focus distance", "m", "focus_m"), ("stop", "f", "fstop"),
    ("near plane", "m", "near_m"), ("far plane", "m", "far_m"),
)  # fmt: skip
# Relative to the channel's own size: below it two numbers are the same, seen through single precision.
_SAME = 1e-7


class Change(NamedTuple):
    """One channel that differs: at most by ``largest`` at ``frame``, for the first time at ``since``."""

    label: str
    unit: str
    largest: float
    frame: float
    since: float
    frames: int


class Comparison(NamedTuple):
    """Two tracks on the frames both have (``common``, and where they stand in each).

    ``proof`` measures ``b`` against ``a`` in pixels; None where they have no frame in common.
    """

    common: Floats
    in_a: Ints
    in_b: Ints
    only_a: Floats
    only_b: Floats
    changes: list[Change]
    proof: Proof | None


def compare(
    a: Track, b: Track, images: tuple[Image, Image], fits: tuple[str, str], landmarks: Landmarks
) -> Comparison:
    """Compare ``b`` with ``a``; ``landmarks`` are those of ``a``."""
    common, in_a, in_b = np.intersect1d(a.frames, b.frames, return_indices=True)
    only_a, only_b = np.setdiff1d(a.frames, b.frames), np.setdiff1d(b.frames, a.frames)
    if not len(common):
        return Comparison(common, in_a, in_b, only_a, only_b, [], None)
    here, there = a.take(in_a), b.take(in_b)
    changes: list[Change] = []

    def note(label: str, unit: str, gap: Floats, size: float) -> None:
        off = gap > _SAME * max(size, 1e-3)
        if off.any():
            worst, first = int(np.argmax(gap)), int(np.argmax(off))
            changes.append(
                Change(
                    label, unit, float(gap[worst]), float(common[worst]), float(common[first]), int(off.sum())
                )
            )

    for i, axis in enumerate(("right (X)", "up (Y)", "back (Z)")):
        gap = np.abs(there.position_m[:, i] - here.position_m[:, i])
        note(f"position {axis}", "m", gap, float(np.abs(here.position_m).max()))
    note("turn", "°", angle_between_deg(here.rotation, there.rotation), 1.0)
    for label, unit, name in _CHANNELS:
        x, y = getattr(here.lens, name), getattr(there.lens, name)
        with np.errstate(invalid="ignore"):
            gap = np.where(np.isnan(x) & np.isnan(y), 0.0, np.abs(np.nan_to_num(y) - np.nan_to_num(x)))
        note(label, unit, gap, float(np.abs(np.nan_to_num(x)).max()))
    arrived = pixel_matrices(there, images[1], fits[1])
    marks = landmarks.shown().at_frames(in_a)
    proof = prove(here, images[0], fits[0], _in_the_pixels_of(images, arrived), marks.position_m)
    return Comparison(common, in_a, in_b, only_a, only_b, changes, proof)


def _in_the_pixels_of(images: tuple[Image, Image], matrices: Floats) -> Floats:
    """Pixel matrices of the second image in pixels of the first: the whole picture on the whole picture."""
    a, b = images
    out = matrices.copy()
    out[:, 0] *= a.width_px / b.width_px
    out[:, 1] *= a.height_px / b.height_px
    return out


def arrived_matrices(comparison: Comparison, b: Track, images: tuple[Image, Image], fit: str) -> Floats:
    """The second camera's pixel matrices on the common frames, in the first one's pixels, (n, 3, 4)."""
    return _in_the_pixels_of(images, pixel_matrices(b.take(comparison.in_b), images[1], fit))
