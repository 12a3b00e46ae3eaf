"""ST maps: for every pixel of one picture, where to fetch in another.

Red is ``s = x / width``, green ``t = y / height`` from the lower left, at the middles of the pixels (docs/conventions.md).
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from anaxis.core.camera.distortion.distortion import Distortion
from anaxis.core.camera.distortion.overscan import reach_of
from anaxis.core.camera.distortion.window import Window, pixel_rows
from anaxis.core.camera.lens import Image
from anaxis.core.typing import Floats


def undistort_map(distortion: Distortion, plate: Window, image: Image, rendered: Window, size: Image) -> Floats:
    """For every pixel of the undistorted picture (``rendered``, of ``size``), where to fetch in the plate: (h, w, 2)."""
    return _map(distortion.distort, rendered, size, plate, image)


def distort_map(distortion: Distortion, plate: Window, image: Image, rendered: Window, size: Image) -> Floats:
    """For every pixel of the plate, where to fetch in the undistorted picture (``rendered``, of ``size``): (h, w, 2)."""
    reach = reach_of(distortion, plate, image)
    return _map(lambda seen: distortion.undistort(seen, reach), plate, image, rendered, size)


def _map(bent: Callable[[Floats], Floats], of: Window, of_image: Image, within: Window, within_image: Image) -> Floats:
    out = np.empty((of_image.height_px, of_image.width_px, 2))
    for rows, centres in pixel_rows(of_image):
        pixels = within.pixels(bent(of.tangents(centres, of_image)), within_image)[0]
        st = pixels / [within_image.width_px, within_image.height_px]
        st[:, 1] = 1.0 - st[:, 1]
        out[rows] = st.reshape(-1, of_image.width_px, 2)
    return out
