"""How far out a plate reaches in the pinhole picture, and that the distortion folds nowhere within."""

from __future__ import annotations

import numpy as np

from anaxis.core.bounds import MAX_SIDE_PX
from anaxis.core.camera.distortion.distortion import Distortion
from anaxis.core.camera.lens import Image
from anaxis.core.camera.plate.window import AT_ONCE, Window, border_pixels
from anaxis.core.errors import BadInput
from anaxis.core.typing import Ints

# Points on a side that say on which frames the most is needed.
COARSE = 64


def frames_of(distortion: Distortion, plate: Window) -> int:
    """How many frames there are to look at. Raises BadInput where lens and distortion disagree."""
    counts = {n for n in (distortion.frames, len(plate.left)) if n > 1}
    if len(counts) > 1:
        raise BadInput(
            f"The distortion is given for {distortion.frames} frames and the camera has {len(plate.left)}: give one number for each frame, or one for all."
            ""
        )
    return max(counts, default=1)


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
            "of the distance to the corner of the plate: outer points land on inner points. Check the coefficients, and "
            "whether they are meant for tangents and for this lens.",
            "folds_over",
        )
    return found


def reach_of(distortion: Distortion, plate: Window, image: Image) -> float:
    """How far out the plate reaches in the pinhole picture, in tangents from the distortion's centre.

    The map folds nowhere on the way to any point of its border, so nowhere within. Raises BadInput where it does.
    """
    count = frames_of(distortion, plate)
    most = MAX_SIDE_PX if count == 1 else COARSE
    reach = 0.0
    for frames in blocks(count, 4 * min(most, max(image.width_px, image.height_px))):
        border, bent = (
            plate.select_frames(frames).tangents(border_pixels(image, most), image),
            distortion.select_frames(frames),
        )
        found = require_unfolded(bent, border, frames)
        reach = max(reach, float(np.linalg.norm(found - bent.centre(len(found)), axis=-1).max()))
    return reach


def blocks(count: int, points: int) -> list[Ints]:
    step = max(1, AT_ONCE // points)
    return [np.arange(i, min(i + step, count)) for i in range(0, count, step)]
