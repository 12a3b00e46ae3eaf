"""ST maps: for every pixel of one picture, where to fetch in another.

Red is ``s = x / width``, green ``t = y / height`` from the lower left, at the middles of the pixels (docs/conventions.md).
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from anaxis.core.camera.distortion.distortion import Distortion
from anaxis.core.camera.lens import Image
from anaxis.core.camera.plate.pixel_rays import PixelRays
from anaxis.core.camera.plate.window import Window, pixel_rows
from anaxis.core.typing import Floats


def undistort_map(distortion: Distortion, plate: Window, image: Image, rendered: Window, size: Image) -> Floats:
    """For every pixel of the undistorted picture (``rendered``, of ``size``), where to fetch in the plate: (h, w, 2)."""
    seen = ((rows, distortion.distort(rendered.tangents(centres, size))[0]) for rows, centres in pixel_rows(size))
    return _map(seen, size, plate, image)


def distort_map(distortion: Distortion, plate: Window, image: Image, rendered: Window, size: Image) -> Floats:
    """For every pixel of the plate, where to fetch in the undistorted picture (``rendered``, of ``size``): (h, w, 2)."""
    return _map(PixelRays(distortion, plate, image).rows(), image, rendered, size)


def _map(seen: Iterator[tuple[slice, Floats]], of: Image, within: Window, within_image: Image) -> Floats:
    out = np.empty((of.height_px, of.width_px, 2))
    for rows, tangents in seen:
        st = within.pixels(tangents[None], within_image)[0] / [within_image.width_px, within_image.height_px]
        st[:, 1] = 1.0 - st[:, 1]
        out[rows] = st.reshape(-1, of.width_px, 2)
    return out
