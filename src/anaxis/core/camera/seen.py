"""Whether a camera sees anything of a box on any of its frames."""

from __future__ import annotations

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.camera.track import Track
from anaxis.core.typing import Bools, Floats


def may_be_seen(track: Track, image: Image, fit: str, corners_m: Floats, wider: float = 1.0) -> Bools:
    """On which frames (n,) a box of 8 ``corners_m`` (n or 1, 8, 3), in canonical metres, is not wholly on the outer side of one
    of the four planes of the view, nor behind the camera; with ``wider`` 3, of a view three times as wide and as high.

    The usual test of a box against a view: it never calls unseen what is seen.
    """
    lens, used = track.lens, track.lens.used(image, fit)
    seen = np.einsum("nji,nkj->nki", track.rotation, corners_m - track.position_m[:, None, :])
    ahead = -seen[..., 2]
    outside = (ahead <= 0).all(axis=1)
    for axis, width_mm, offset_mm in ((0, used.width_mm, lens.offset_x_mm), (1, used.height_mm, lens.offset_y_mm)):
        for side in (-1.0, 1.0):
            edge = (offset_mm + side * wider * width_mm / 2) / lens.focal_mm
            outside |= (side * (seen[..., axis] - edge[:, None] * ahead) > 0).all(axis=1)
    return np.asarray(~outside)
