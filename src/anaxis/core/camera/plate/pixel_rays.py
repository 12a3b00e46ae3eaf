"""Where the lens sees every pixel of a plate: the inverse of the distortion on all of them.

It is worked out on the corners of a grid, drawn between them by cubic splines, and every pixel is brought home from there
by Newton's iteration, which then has next to no way to go.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import scipy

from anaxis.core.camera.distortion.distortion import Distortion
from anaxis.core.camera.lens import Image
from anaxis.core.camera.plate.reach import reach_of
from anaxis.core.camera.plate.window import Window, pixel_rows
from anaxis.core.typing import Floats

_CELLS = (48, 32)


def pixel_rays(distortion: Distortion, plate: Window, image: Image) -> Iterator[tuple[slice, Floats]]:
    """Tangents of the pinhole picture for the middles of all pixels, some rows at a time: which rows, and (rows * w, 2).

    Of one frame. Raises BadInput where the distortion folds over inside the plate.
    """
    reach = reach_of(distortion, plate, image)
    x, y = (np.linspace(0, size, n + 1) for size, n in zip((image.width_px, image.height_px), _CELLS, strict=True))
    corners = np.stack(np.meshgrid(x, y), axis=-1)
    known = distortion.undistort(plate.tangents(corners.reshape(-1, 2), image), reach)[0].reshape(corners.shape)
    across, up = (scipy.interpolate.RectBivariateSpline(y, x, known[..., i]) for i in range(2))
    columns = np.arange(image.width_px) + 0.5
    for rows, centres in pixel_rows(image):
        lines = np.arange(rows.start, rows.stop) + 0.5
        near = np.stack([across(lines, columns), up(lines, columns)], axis=-1).reshape(1, -1, 2)
        wanted = plate.tangents(centres, image)
        found, good = distortion.found_from(wanted, near)
        if not good.all():
            found[:, ~good[0]] = distortion.undistort(wanted[:, ~good[0]], reach)
        yield rows, found[0]
