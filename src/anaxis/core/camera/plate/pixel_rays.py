"""Where the lens sees every pixel of a plate: the inverse of the distortion on all of them.

The inverse is computed on the corners of a grid and interpolated between them by cubic splines. Newton's iteration then makes
every pixel exact from its estimate, in one or two steps.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator

import numpy as np
import scipy

from anaxis.core.camera.distortion.distortion import Distortion
from anaxis.core.camera.lens import Image
from anaxis.core.camera.plate.reach import reach_of
from anaxis.core.camera.plate.window import Window, pixel_rows
from anaxis.core.typing import Bools, Floats

_CELLS = (48, 32)
# The error of the estimates is measured in the middle of each cell; no pixel's error is larger than so many times the largest.
_SAFE = 16.0


class PixelRays:
    """The tangents of the pinhole picture for the middles of all pixels of a plate, on one frame.

    ``corners`` (m, 2) are exact tangents over the whole plate, and ``error`` is how far off an estimate is at most, in tangents.
    Raises BadInput where the distortion folds over inside the plate.
    """

    def __init__(self, distortion: Distortion, plate: Window, image: Image) -> None:
        self._distortion, self._plate, self._image = distortion, plate, image
        self._reach = reach_of(distortion, plate, image)
        x: Floats = np.linspace(0, image.width_px, _CELLS[0] + 1)
        y: Floats = np.linspace(0, image.height_px, _CELLS[1] + 1)
        self.corners = self._exact(x, y)
        known = self.corners.reshape(len(y), len(x), 2)
        self._splines = [scipy.interpolate.RectBivariateSpline(y, x, known[..., i]) for i in range(2)]
        x, y = (x[1:] + x[:-1]) / 2, (y[1:] + y[:-1]) / 2
        self.error = _SAFE * float(np.abs(self._estimates(x, y) - self._exact(x, y)).max())

    def rows(self, needed: Callable[[Floats], Bools] | None = None) -> Iterator[tuple[slice, Floats, Bools]]:
        """Some rows of pixels at a time: which rows, the tangents (rows * w, 2), and which of them are exact.

        All are, unless ``needed`` says for estimates (m, 2) which must be; the others remain estimates.
        """
        columns, lines = (
            np.arange(size, dtype=np.float64) + 0.5 for size in (self._image.width_px, self._image.height_px)
        )
        for rows, centres in pixel_rows(self._image):
            found = self._estimates(columns, lines[rows])
            exact = np.ones(len(found), dtype=np.bool_) if needed is None else needed(found)
            if exact.all():
                found = self._from_estimates(centres, found)
            elif exact.any():
                found[exact] = self._from_estimates(centres[exact], found[exact])
            yield rows, found, exact

    def _from_estimates(self, pixels: Floats, near: Floats) -> Floats:
        wanted = self._plate.tangents(pixels, self._image)
        found, good = self._distortion.found_from(wanted, near[None])
        if not good.all():
            found[:, ~good[0]] = self._distortion.undistort(wanted[:, ~good[0]], self._reach)
        return found[0]

    def _exact(self, x_px: Floats, y_px: Floats) -> Floats:
        pixels = np.stack(np.meshgrid(x_px, y_px), axis=-1).reshape(-1, 2)
        return self._distortion.undistort(self._plate.tangents(pixels, self._image), self._reach)[0]

    def _estimates(self, x_px: Floats, y_px: Floats) -> Floats:
        return np.stack([along(y_px, x_px) for along in self._splines], axis=-1).reshape(-1, 2)
