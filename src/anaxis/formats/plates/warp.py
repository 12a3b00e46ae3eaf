"""A picture fetched through an ST map, with a named filter."""

from __future__ import annotations

import numpy as np
import OpenImageIO as oiio

from anaxis.core.errors import BadInput
from anaxis.core.typing import Floats, Singles

# By what OpenImageIO calls them, and how many pixels about a point they look at.
FILTERS = {"cubic": "catmull-rom", "sharp": "lanczos3", "soft": "bspline", "linear": "triangle"}
USUAL_FILTER = "cubic"


def require_filter(name: str) -> str:
    """Raise BadInput that lists the filters where ``name`` is none of them."""
    if name not in FILTERS:
        raise BadInput(f"'{name[:40]}' is no filter: choose one of {', '.join(FILTERS)}.")
    return name


def map_for_warp(st: Floats) -> oiio.ImageBuf:
    """An ST map (h, w, 2), rows from the top and t from the lower left, as :func:`warped` takes it."""
    return oiio.ImageBuf(np.ascontiguousarray(st, dtype=np.float32))


def warped(pixels: Singles, st: oiio.ImageBuf, name: str = USUAL_FILTER) -> Singles:
    """What a map fetches in a picture (h, w, c): black where it fetches outside of it.

    The catmull-rom filter reproduces straight ramps, so a picture of its own coordinates comes out within single precision.
    """
    source = oiio.ImageBuf(np.ascontiguousarray(pixels, dtype=np.float32))
    # The result is as large as the map; without saying so it would be as large as the picture.
    size = oiio.ROI(0, st.spec().width, 0, st.spec().height, 0, 1, 0, pixels.shape[2])
    out = oiio.ImageBufAlgo.st_warp(source, st, FILTERS[require_filter(name)], 0.0, 0, 1, False, True, size)
    if out.has_error:
        raise BadInput(f"The picture cannot be fetched through the map: {out.geterror()}.")
    return np.asarray(out.get_pixels(oiio.FLOAT), dtype=np.float32)
