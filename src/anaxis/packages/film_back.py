"""A camera put on another film back, so that its picture stays."""

from __future__ import annotations

import numpy as np

from anaxis.core.camera.lens import used_rectangle
from anaxis.core.typing import Floats
from anaxis.packages.habit import Outbound


def on_film_back(s: Outbound, width_mm: Floats, height_mm: Floats, squeeze: Floats) -> Outbound | None:
    """The same picture on another film back (n,): focal length and offsets go along with the width that is used.

    None where the used parts of both have other proportions: no focal length makes up for that.
    """
    lens = s.track.lens
    ours, theirs = lens.used(s.image, s.fit), used_rectangle(width_mm, height_mm, squeeze, s.image, s.fit)
    ratio = theirs.width_mm / ours.width_mm
    if not np.allclose(theirs.height_mm / ours.height_mm, ratio, rtol=1e-6):
        return None
    return s.with_lens(
        focal_mm=lens.focal_mm * ratio, offset_x_mm=lens.offset_x_mm * ratio, offset_y_mm=lens.offset_y_mm * ratio,
        film_width_mm=width_mm, film_height_mm=height_mm, squeeze=squeeze,
    )  # fmt: skip
