"""A picture fetched through an ST map, with a named filter."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import OpenImageIO as oiio

from anaxis.core.errors import BadInput
from anaxis.core.typing import Bools, Floats, FloatsLike, Singles

# By what OpenImageIO calls them, and how many pixels about a point they look at.
FILTERS = {"cubic": "catmull-rom", "sharp": "lanczos3", "soft": "bspline", "linear": "triangle"}
USUAL_FILTER = "cubic"
# Pixels around a picture, for filters that look further than its rim.
_MARGIN = 16


def require_filter(name: str) -> str:
    """Raise BadInput that lists the filters where ``name`` is none of them."""
    if name not in FILTERS:
        raise BadInput(f"'{name[:40]}' is not a filter: choose one of {', '.join(FILTERS)}.")
    return name


class WarpMap(NamedTuple):
    """A map as :func:`warped` takes it: ``st`` fetches in the picture with a margin around it, ``outside`` (h, w) says which
    pixels fetch outside the picture itself, and ``size`` is the picture's."""

    st: oiio.ImageBuf
    outside: Bools
    size: tuple[int, int]


def in_a_margin(st: FloatsLike, size: tuple[int, int], margin: int) -> Floats:
    """An ST map (h, w, 2) of pictures of ``size`` as one of the same with so many pixels more on each side."""
    wide = np.array(size, dtype=np.float64)
    return np.asarray((np.asarray(st, dtype=np.float64)[..., :2] * wide + margin) / (wide + 2 * margin))


def map_for_warp(st: FloatsLike, size: tuple[int, int]) -> WarpMap:
    """An ST map (h, w, 2), rows from the top and t from the lower left, for pictures of ``size``."""
    fetches = np.asarray(st, dtype=np.float64)[..., :2]
    with np.errstate(invalid="ignore"):
        outside = np.asarray(~((fetches >= 0) & (fetches <= 1)).all(axis=-1))
    moved = in_a_margin(fetches, size, _MARGIN)
    moved[outside] = 0.0
    return WarpMap(oiio.ImageBuf(np.ascontiguousarray(moved, dtype=np.float32)), outside, size)


def warped(pixels: Singles, through: WarpMap, name: str = USUAL_FILTER) -> Singles:
    """What a map fetches in a picture (h, w, c): black where it fetches outside of it.

    At the rim the nearest pixel stands in for those outside that a filter asks for: with black there, a white plate would ring.
    The catmull-rom filter reproduces straight ramps, so a picture of its own coordinates comes out within single precision.
    Raises BadInput for a picture of another size than the map's.
    """
    if pixels.shape[1::-1] != through.size:
        raise BadInput(
            f"The picture is {pixels.shape[1]} x {pixels.shape[0]} px, and the map fetches in {through.size[0]} x {through.size[1]} px.",
            "wrong_size",
        )
    margin = ((_MARGIN, _MARGIN), (_MARGIN, _MARGIN), (0, 0))
    source = oiio.ImageBuf(np.pad(np.asarray(pixels, dtype=np.float32), margin, mode="edge"))
    # The result is as large as the map; without saying so it would be as large as the picture.
    size = oiio.ROI(0, through.st.spec().width, 0, through.st.spec().height, 0, 1, 0, pixels.shape[2])
    out = oiio.ImageBufAlgo.st_warp(source, through.st, FILTERS[require_filter(name)], 0.0, 0, 1, False, True, size)
    if out.has_error:
        raise BadInput(f"The map cannot be applied to the image: {out.geterror()}.")
    fetched = np.asarray(out.get_pixels(oiio.FLOAT), dtype=np.float32)
    fetched[through.outside] = 0.0
    return fetched
