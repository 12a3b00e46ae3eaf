"""Where the lens sees every pixel of a plate: the inverse of the distortion on all of them.

The inverse is computed on the corners of a grid and interpolated between them by cubic splines. Newton's iteration then makes
every pixel exact from its estimate, in one or two steps.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import scipy

from anaxis.core.camera.distortion.distortion import Distortion
from anaxis.core.camera.lens import Image
from anaxis.core.camera.plate.reach import reach_of
from anaxis.core.camera.plate.window import Window, row_blocks
from anaxis.core.typing import Floats, Ints

_CELLS = (48, 32)
# A cell's curvature is measured between corners; nowhere is it larger than so many times the largest measured.
_SAFE = 4.0


class PixelRays:
    """The tangents of the pinhole picture for the middles of all pixels of a plate, on one frame.

    ``corners`` (rows + 1, columns + 1, 2) are the exact tangents of the grid's corners; within a cell, tangents lie at most ``bulge``
    from those drawn straight between its corners. Raises BadInput where the distortion folds over inside the plate.
    """

    def __init__(self, distortion: Distortion, plate: Window, image: Image) -> None:
        self._distortion, self._plate, self._image = distortion, plate, image
        self._reach = reach_of(distortion, plate, image)
        x: Floats = np.linspace(0, image.width_px, _CELLS[0] + 1)
        y: Floats = np.linspace(0, image.height_px, _CELLS[1] + 1)
        pixels = np.stack(np.meshgrid(x, y), axis=-1)
        tangents = distortion.undistort(plate.tangents(pixels.reshape(-1, 2), image), self._reach)
        self.corners = tangents.reshape(pixels.shape)
        self._splines = [scipy.interpolate.RectBivariateSpline(y, x, self.corners[..., i]) for i in range(2)]
        # A function between two points a step apart lies off the straight line by at most its second difference over 8.
        self.bulge = _SAFE / 8 * sum(float(np.abs(np.diff(self.corners, 2, axis=k)).max()) for k in (0, 1))

    def rows(self) -> Iterator[tuple[slice, Floats]]:
        """Some rows of pixels at a time: which rows, and the tangents (rows * w, 2)."""
        columns = np.arange(self._image.width_px)
        for rows in row_blocks(self._image):
            yield rows, self.of_pixels(np.arange(rows.start, rows.stop), columns)

    def cells(self) -> tuple[Ints, Ints]:
        """Which row of the grid's cells each row of pixels lies in (h,), and which column each column (w,)."""
        sides = zip((self._image.height_px, self._image.width_px), reversed(_CELLS), strict=True)
        rows, columns = (((np.arange(size) + 0.5) * count / size).astype(np.intp) for size, count in sides)
        return rows, columns

    def of_pixels(self, rows: Ints, columns: Ints) -> Floats:
        """The tangents (rows * columns, 2) of the pixels where some rising rows and columns cross."""
        x, y = columns + 0.5, rows + 0.5
        near = np.stack([along(y, x) for along in self._splines], axis=-1).reshape(-1, 2)
        wanted = self._plate.tangents(np.stack(np.meshgrid(x, y), axis=-1).reshape(-1, 2), self._image)
        found, good = self._distortion.found_from(wanted, near[None])
        if not good.all():
            found[:, ~good[0]] = self._distortion.undistort(wanted[:, ~good[0]], self._reach)
        return found[0]
