"""What changed between two versions of a camera: which channels, from which frame, by how many pixels."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from anaxis.core.camera.channels import CHANNELS
from anaxis.core.camera.lens import Image
from anaxis.core.camera.plate.window import window_of
from anaxis.core.camera.projection import Projection, projection_as_shot, projection_of
from anaxis.core.camera.track import Track
from anaxis.core.proof.proof import Proof, grid_pixels, prove
from anaxis.core.scene.landmarks import Landmarks
from anaxis.core.scene.tree import angle_between_deg
from anaxis.core.typing import Floats, Ints

# Relative to the channel's own size: below it two numbers are the same, seen through single precision.
_SAME = 1e-7


class CameraChange(NamedTuple):
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
    changes: list[CameraChange]
    proof: Proof | None


def compare(a: Track, b: Track, images: tuple[Image, Image], fits: tuple[str, str], landmarks: Landmarks) -> Comparison:
    """Compare ``b`` with ``a``; ``landmarks`` are those of ``a``."""
    common, in_a, in_b = np.intersect1d(a.frames, b.frames, return_indices=True)
    only_a, only_b = np.setdiff1d(a.frames, b.frames), np.setdiff1d(b.frames, a.frames)
    if not len(common):
        return Comparison(common, in_a, in_b, only_a, only_b, [], None)
    here, there = a.select_frames(in_a), b.select_frames(in_b)
    changes: list[CameraChange] = []

    def note(label: str, unit: str, gap: Floats, size: float) -> None:
        off = gap > _SAME * max(size, 1e-3)
        if off.any():
            worst, first = int(np.argmax(gap)), int(np.argmax(off))
            changes.append(
                CameraChange(label, unit, float(gap[worst]), float(common[worst]), float(common[first]), int(off.sum()))
            )

    for i, axis in enumerate(("right (X)", "up (Y)", "back (Z)")):
        gap = np.abs(there.position_m[:, i] - here.position_m[:, i])
        note(f"position {axis}", "m", gap, float(np.abs(here.position_m).max()))
    note("rotation", "°", angle_between_deg(here.rotation, there.rotation), 1.0)
    for name, channel in CHANNELS.items():
        x, y = getattr(here.lens, name), getattr(there.lens, name)
        with np.errstate(invalid="ignore"):
            gap = np.where(np.isnan(x) & np.isnan(y), 0.0, np.abs(np.nan_to_num(y) - np.nan_to_num(x)))
        note(channel.label, channel.unit, gap, float(np.abs(np.nan_to_num(x)).max()))
    note("distortion", "px", _distortions_apart_px(here, there, images[0], fits[0]), 1.0)
    marks = landmarks.shown().at_frames(in_a)
    # As shot: a change of the distortion alone is a change of the picture.
    meant, arrived = (projection_as_shot(t, i, f) for t, i, f in zip((here, there), images, fits, strict=True))
    proof = prove(here, meant, arrived.at_size(images[0]), marks.position_m)
    return Comparison(common, in_a, in_b, only_a, only_b, changes, proof)


def _distortions_apart_px(a: Track, b: Track, image: Image, fit: str) -> Floats:
    """How far apart two distortions put a point of the picture of ``a`` at most, per frame (n,)."""
    if a.distortion is None and b.distortion is None:
        return np.zeros(len(a))
    window = window_of(a.lens, image, fit)
    grid = window.tangents(grid_pixels(image), image)
    seen = [window.pixels(t.distortion.distort(grid) if t.distortion is not None else grid, image) for t in (a, b)]
    return np.asarray(np.linalg.norm(seen[1] - seen[0], axis=-1).max(axis=1))


def arrived_at(comparison: Comparison, b: Track, images: tuple[Image, Image], fit: str) -> Projection:
    """How the second camera sees on the common frames, in the first one's pixels."""
    return projection_of(b.select_frames(comparison.in_b), images[1], fit).at_size(images[0])
