"""A picture fetched through an ST map, with a named filter."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

import cv2
import numpy as np

from anaxis.core.errors import BadInput
from anaxis.core.typing import Bools, Floats, FloatsLike, Ints, Singles

# Each filter with its usual name.
FILTERS = {"cubic": "catmull-rom", "sharp": "lanczos3", "soft": "bspline", "linear": "triangle"}
USUAL_FILTER = "cubic"
# Rows filtered at once, so that their data stay in the processor's cache.
_ROWS = 8
# Rows of a map prepared at once: for a whole 8K map the temporary arrays would take gigabytes.
_MAP_ROWS = 256
# OpenCV's remap addresses pixels with 16-bit integers.
_MOST_PX = 32_000


def _cubic(x: Singles) -> list[Singles]:
    return [
        ((1 - 0.5 * x) * x - 0.5) * x, (1.5 * x - 2.5) * x * x + 1, ((2 - 1.5 * x) * x + 0.5) * x, (0.5 * x - 0.5) * x * x,
    ]  # fmt: skip


def _soft(x: Singles) -> list[Singles]:
    return [(1 - x) ** 3 / 6, (0.5 * x - 1) * x * x + 2 / 3, ((0.5 - 0.5 * x) * x + 0.5) * x + 1 / 6, x**3 / 6]


def _sharp(x: Singles) -> list[Singles]:
    weights = [np.sinc(x - k) * np.sinc((x - k) / 3) for k in range(-2, 4)]
    return [np.asarray(w / sum(weights), np.float32) for w in weights]


# The weights of the 2, 4 or 6 pixels around a point, from the left or from above. ``x``, from 0 to 1, is the distance in pixels
# from the last pixel before the point. Catmull and Rom 1974; uniform cubic B-spline; sinc with a Lanczos window of 3, normalised.
_WEIGHTS: dict[str, Callable[[Singles], list[Singles]]] = {
    "cubic": _cubic, "sharp": _sharp, "soft": _soft, "linear": lambda x: [1 - x, x],
}  # fmt: skip


def require_filter(name: str) -> str:
    """Raise BadInput that lists the filters where ``name`` is none of them."""
    if name not in FILTERS:
        raise BadInput(f"'{name[:40]}' is not a filter: choose one of {', '.join(FILTERS)}.")
    return name


class WarpMap(NamedTuple):
    """A map as :func:`warped` takes it. ``pixel`` (h, w, 2) is the pixel to the upper left of each fetched point, counted from one
    pixel outside the picture's upper left corner. ``beyond`` (2, h, w) is the distance from that pixel's centre to the point, in pixels.
    ``outside`` (h, w) marks points outside the picture, and ``size`` is the picture's width and height."""

    pixel: Ints
    beyond: Singles
    outside: Bools
    size: tuple[int, int]


def in_a_margin(st: FloatsLike, size: tuple[int, int], margin: int) -> Floats:
    """An ST map (h, w, 2) of pictures of ``size`` as one of the same with so many pixels more on each side."""
    wide = np.array(size, dtype=np.float64)
    return np.asarray((np.asarray(st, dtype=np.float64)[..., :2] * wide + margin) / (wide + 2 * margin))


def map_for_warp(st: FloatsLike, size: tuple[int, int]) -> WarpMap:
    """An ST map (h, w, 2), rows from the top and t from the lower left, for pictures of ``size``. Raises BadInput for pictures
    and maps of more than 32,000 px a side."""
    fetches = np.asarray(st)[..., :2]
    widest = max(*size, *fetches.shape[:2])
    if widest > _MOST_PX:
        raise BadInput(
            f"A side of {widest} px is too large for an ST map: scale or crop the picture to at most {_MOST_PX} px a side.",
            "out_of_bounds",
        )
    pixel, beyond = np.zeros(fetches.shape, np.int16), np.zeros((2, *fetches.shape[:2]), np.float32)
    outside = np.zeros(fetches.shape[:2], np.bool_)
    for rows in (slice(top, top + _MAP_ROWS) for top in range(0, len(fetches), _MAP_ROWS)):
        with np.errstate(invalid="ignore"):
            outside[rows] = ~((fetches[rows] >= 0) & (fetches[rows] <= 1)).all(axis=-1)
        s, t = np.moveaxis(np.where(outside[rows][..., None], 0.0, fetches[rows]).astype(np.float64), 2, 0)
        place = np.stack([s * size[0], (1 - t) * size[1]]) - 0.5
        whole = np.floor(place)
        pixel[rows] = np.moveaxis(whole + 1, 0, 2)
        beyond[:, rows] = place - whole
    return WarpMap(pixel, beyond, outside, size)


def warped(pixels: Singles, through: WarpMap, name: str = USUAL_FILTER) -> Singles:
    """What a map fetches in a picture (h, w, c) of at most four channels: black where it fetches outside of it.

    At the rim the nearest pixel stands in for those outside that a filter asks for: with black there, a white plate would ring.
    The catmull-rom filter reproduces straight ramps, so a picture of its own coordinates comes out within single precision.
    Raises BadInput for a picture of another size than the map's.
    """
    if pixels.shape[1::-1] != through.size:
        raise BadInput(
            f"The picture is {pixels.shape[1]} x {pixels.shape[0]} px, and the map fetches in {through.size[0]} x {through.size[1]} px.",
            "wrong_size",
        )
    weights, channels = _WEIGHTS[require_filter(name)], pixels.shape[2]
    taps = len(weights(np.zeros(1, np.float32)))
    rim = (taps // 2,) * 4
    source = cv2.copyMakeBorder(np.ascontiguousarray(pixels, dtype=np.float32), *rim, cv2.BORDER_REPLICATE)
    out = np.zeros((*through.outside.shape, channels), dtype=np.float32)

    def of_all_channels(part: Singles) -> list[Singles]:
        return [np.asarray(cv2.merge([w] * channels)) for w in weights(part)]

    for rows in (slice(top, top + _ROWS) for top in range(0, len(out), _ROWS)):
        pixel = through.pixel[rows]
        across, down = (of_all_channels(beyond[rows]) for beyond in through.beyond)
        for j in range(taps):
            line = np.zeros_like(across[0])
            for i in range(taps):
                fetched = cv2.remap(source[j:, i:], pixel, None, cv2.INTER_NEAREST)  # type: ignore[call-overload]
                cv2.accumulateProduct(fetched, across[i], line)
            cv2.accumulateProduct(line, down[j], out[rows])
    out[through.outside] = 0.0
    return out
