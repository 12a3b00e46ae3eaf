"""How much more than the plate must be rendered, so that the render fills the plate once it is distorted."""

from __future__ import annotations

from dataclasses import dataclass
from math import ceil

import numpy as np

from anaxis.core.bounds import MAX_SIDE_PX
from anaxis.core.camera.distortion.distortion import Distortion
from anaxis.core.camera.distortion.window import AT_ONCE, Window, border_pixels, pixel_rows
from anaxis.core.camera.lens import Image
from anaxis.core.errors import BadInput
from anaxis.core.typing import Ints

# Points on a side that say on which frames the most is needed; those are looked at along the whole border.
_COARSE, _CLOSELY = 64, 12


@dataclass(frozen=True)
class Overscan:
    """``image`` is to be rendered, about the plate's middle, over the plate's ``window`` made ``wider`` and ``higher``.

    ``factor`` is what is needed, before it is rounded to whole pixels; ``empty_px`` how many pixels of the plate would
    find nothing to fetch in a render of the plate's own size, on the frame ``worst`` where they are most needed.
    """

    image: Image
    factor: tuple[float, float]
    wider: float
    higher: float
    worst: int
    empty_px: int


def overscan_of(distortion: Distortion, plate: Window, image: Image, multiple: int = 2) -> Overscan:
    """The smallest render about the plate's middle that holds all of the plate on every frame, in sizes of ``multiple``.

    Raises BadInput where the distortion folds over inside the plate, or is given for another number of frames.
    """
    count = frames_of(distortion, plate)
    coarse = np.concatenate([_needed(distortion, plate, image, f, _COARSE) for f in _blocks(count, 4 * _COARSE)])
    closely = np.unique(np.concatenate([np.argsort(coarse[:, side])[-_CLOSELY:] for side in (0, 1)]))
    exact = np.concatenate([_needed(distortion, plate, image, np.array([f]), MAX_SIDE_PX) for f in closely.tolist()])
    k_w, k_h = (max(1.0, float(v)) for v in exact.max(axis=0))
    width, height = (_rounded(k * size, multiple) for k, size in ((k_w, image.width_px), (k_h, image.height_px)))
    if max(width, height) > MAX_SIDE_PX:
        raise BadInput(
            f"The render would be {width} x {height} px, {k_w:.1f} by {k_h:.1f} times the plate: check the coefficients, and "
            "whether they are meant for tangents and for this lens.",
            "out_of_bounds",
        )
    worst = int(closely[int(np.argmax(exact.max(axis=1)))])
    return Overscan(
        Image(width, height, image.pixel_aspect), (k_w, k_h), width / image.width_px, height / image.height_px, worst,
        _empty(distortion, plate, image, worst),
    )  # fmt: skip


def frames_of(distortion: Distortion, plate: Window) -> int:
    """How many frames there are to look at. Raises BadInput where lens and distortion disagree."""
    counts = {n for n in (distortion.frames, len(plate.left)) if n > 1}
    if len(counts) > 1:
        raise BadInput(
            f"The distortion is given for {distortion.frames} frames and the camera has {len(plate.left)}: give as many "
            "numbers as frames, or one."
        )
    return max(counts, default=1)


def _blocks(count: int, points: int) -> list[Ints]:
    step = max(1, AT_ONCE // points)
    return [np.arange(i, min(i + step, count)) for i in range(0, count, step)]


def _needed(distortion: Distortion, plate: Window, image: Image, frames: Ints, most: int) -> np.ndarray:
    """By how much the pinhole picture of the plate is larger than the plate about its middle, (n, 2)."""
    window = plate.take(frames)
    border = window.tangents(border_pixels(image, most), image)
    found = require_unfolded(distortion.take(frames), border, frames)
    across, up = (window.left + window.right) / 2, (window.bottom + window.top) / 2
    wide = np.abs(found[..., 0] - across[:, None]).max(axis=1) / ((window.right - window.left) / 2)
    high = np.abs(found[..., 1] - up[:, None]).max(axis=1) / ((window.top - window.bottom) / 2)
    return np.broadcast_to(np.stack([wide, high], axis=1), (max(len(wide), len(frames)), 2))


def require_unfolded(distortion: Distortion, border: np.ndarray, frames: Ints) -> np.ndarray:
    """Where the lens sees the points (n, m, 2) of a plate's border; raises BadInput that names the radius where it folds
    over on the way to one."""
    found, folds = distortion.traced(border)
    if np.isfinite(folds).any():
        at, _ = np.unravel_index(int(np.argmin(folds)), folds.shape)
        radius = float(folds.min())
        corner = float(np.linalg.norm(border[min(int(at), len(border) - 1)], axis=-1).max())
        where = f" at its frame {int(frames[int(at)]) + 1}" if distortion.frames > 1 else ""
        raise BadInput(
            f"The distortion folds over{where} at a radius of {radius:.4f} (tangent of the angle to the axis), {radius / corner:.0%} "
            "of the way to the plate's corner: points further out come to lie on those further in. Check the coefficients, and "
            "whether they are meant for tangents and for this lens.",
            "folds_over",
        )
    return found


def reach_of(distortion: Distortion, plate: Window, image: Image) -> float:
    """How far out the plate reaches in the pinhole picture, in tangents from the distortion's centre.

    The map folds nowhere on the way to any point of its border, so nowhere within. Raises BadInput where it does.
    """
    found = require_unfolded(distortion, plate.tangents(border_pixels(image), image), np.arange(distortion.frames))
    return float(np.linalg.norm(found - distortion.centre(len(found)), axis=-1).max())


def _rounded(size: float, multiple: int) -> int:
    # A size that is whole but for the last digits of a double is that size.
    return multiple * ceil(size / multiple - 1e-9)


def _empty(distortion: Distortion, plate: Window, image: Image, frame: int) -> int:
    """How many pixels of the plate lie, undistorted, outside a picture of the plate's own size."""
    window = plate.take(slice(frame, frame + 1))
    alone = distortion.take(np.array([frame]))
    reach = reach_of(alone, window, image)
    missing = 0
    for _, centres in pixel_rows(image):
        found = alone.undistort(window.tangents(centres, image), reach)[0]
        inside = (found[:, 0] >= window.left) & (found[:, 0] <= window.right)
        inside &= (found[:, 1] >= window.bottom) & (found[:, 1] <= window.top)
        missing += int((~inside).sum())
    return missing
