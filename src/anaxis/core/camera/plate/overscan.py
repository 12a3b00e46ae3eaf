"""How much more than the plate must be rendered, so that the render fills the plate once it is distorted."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from math import ceil, floor

import numpy as np

from anaxis.core.bounds import MAX_SIDE_PX
from anaxis.core.camera.distortion.distortion import Distortion
from anaxis.core.camera.lens import Image, offsets_of_part_mm
from anaxis.core.camera.plate.pixel_rays import PixelRays
from anaxis.core.camera.plate.reach import COARSE, blocks, frames_of, require_unfolded
from anaxis.core.camera.plate.window import Window, border_pixels
from anaxis.core.camera.track import Lens
from anaxis.core.errors import BadInput
from anaxis.core.typing import Floats, Ints

# On each side, at most so many of the frames that need the most are looked at along the whole border.
_CLOSELY = 12
# How many pixels about a point the widest filter looks at, that a render is put onto its plate with.
WIDEST_FILTER_PX = 3.0
# A filter reaches no further at any pixel than so many times its reach at the corners of a grid over the plate.
_WIDER_THAN_AT_CORNERS = 1.5
# Tangents that a lens moves by less are not bent.
_UNBENT = 1e-12


@dataclass(frozen=True)
class Overscan:
    """A render that holds a ``plate``: ``image`` of the plate's own pixels and more, whose upper left corner lies at
    ``x_px``, ``y_px`` of the plate (zero or less)."""

    plate: Image
    image: Image
    x_px: float
    y_px: float

    @property
    def wider(self) -> float:
        """By how much the film back's width grows: exactly as the image does."""
        return self.image.width_px / self.plate.width_px

    @property
    def higher(self) -> float:
        return self.image.height_px / self.plate.height_px

    def window(self, plate: Window) -> Window:
        """What the render shows, as tangents, of a plate's window."""
        w, h = self.plate.width_px, self.plate.height_px
        wide, high = plate.right - plate.left, plate.top - plate.bottom
        left, top = plate.left + wide * self.x_px / w, plate.top - high * self.y_px / h
        return Window(left, left + wide * self.wider, top - high * self.higher, top)

    def plate_within(self, render: Window) -> Window:
        """The inverse of :meth:`window`."""
        w, h = self.image.width_px, self.image.height_px
        wide, high = render.right - render.left, render.top - render.bottom
        left, top = render.left - wide * self.x_px / w, render.top + high * self.y_px / h
        return Window(left, left + wide / self.wider, top - high / self.higher, top)

    def lens(self, lens: Lens, fit: str) -> Lens:
        """The lens that renders it: focal length and pixel density stay, film back and offsets follow the image."""
        used = lens.used(self.plate, fit)
        size_px = (self.image.width_px, self.image.height_px)
        offsets = offsets_of_part_mm(
            (lens.offset_x_mm, lens.offset_y_mm), used, self.plate, (self.x_px, self.y_px), size_px
        )
        return replace(
            lens,
            film_width_mm=lens.film_width_mm * self.wider,
            film_height_mm=lens.film_height_mm * self.higher,
            offset_x_mm=offsets[0],
            offset_y_mm=offsets[1],
        )

    @property
    def centred(self) -> bool:
        return (
            2 * self.x_px + self.image.width_px == self.plate.width_px
            and 2 * self.y_px + self.image.height_px == self.plate.height_px
        )


@dataclass(frozen=True)
class Needed:
    """The smallest render that serves: ``factor`` is what is needed before it is rounded to whole pixels, and ``worst``
    the place of the frame that needs most of it."""

    overscan: Overscan
    factor: tuple[float, float]
    worst: int

    @property
    def image(self) -> Image:
        return self.overscan.image


def overscan_of(
    distortion: Distortion,
    plate: Window,
    image: Image,
    multiple: int = 2,
    tight: bool = False,
    filter_px: float = WIDEST_FILTER_PX,
) -> Needed:
    """The smallest render that holds all of the plate on every frame, in sizes of ``multiple``.

    It holds what a filter of so many pixels on each side looks at, too: at the plate's border, the filter would else find less
    than the picture. Where nothing is bent, no filter is needed.

    It lies about the plate's middle; ``tight`` where each side takes what it needs alone, which moves the middle.
    Raises BadInput where the distortion folds over inside the plate, or is given for another number of frames.
    """
    frames = _different_frames(distortion, plate, frames_of(distortion, plate))
    steps = blocks(len(frames), 4 * COARSE)
    coarse = np.concatenate([_reaches(distortion, plate, image, frames[at], COARSE, filter_px) for at in steps])
    widest = np.unique(np.argmax(coarse, axis=0))
    exact = _exact_reaches(distortion, plate, image, frames[widest], filter_px)
    # A side is sampled coarsely: what the widest frame gains by looking closely, another one may gain too, and twice as much.
    lowest = coarse.max(axis=0) - 2 * np.maximum(0, exact - coarse[widest]).max(axis=0) - 1e-9
    others = [np.argsort(coarse[:, side])[-_CLOSELY:] for side in range(4)]
    near = np.concatenate([at[coarse[at, side] >= lowest[side]] for side, at in enumerate(others)])
    more = np.setdiff1d(near, widest)
    closely = np.concatenate([frames[widest], frames[more]])
    exact = np.concatenate([exact, _exact_reaches(distortion, plate, image, frames[more], filter_px)])
    # How far beyond the plate each of its sides reaches, as a share of the plate's width and height.
    left, right, up, down = (max(0.0, float(v)) for v in exact.max(axis=0))
    if not tight:
        left = right = max(left, right)
        up = down = max(up, down)
    k_w, k_h = 1 + left + right, 1 + up + down
    x, width = _along(left, right, image.width_px, multiple, tight)
    y, height = _along(up, down, image.height_px, multiple, tight)
    if max(width, height) > MAX_SIDE_PX:
        raise BadInput(
            f"The render would be {width} x {height} px, {k_w:.1f} by {k_h:.1f} times the plate: check the coefficients, and that they are for tangents and for this lens"
            ".",
            "out_of_bounds",
        )
    worst = int(closely[int(np.argmax(exact.max(axis=1)))])
    found = Overscan(image, Image(width, height, image.pixel_aspect), x, y)
    return Needed(found, (k_w, k_h), worst)


def typed_overscan(text: str, image: Image, multiple: int = 2) -> Overscan:
    """What somebody typed: 10% (on each side together), or 2112x1188 px; about the plate's middle. Raises BadInput."""
    percent = re.fullmatch(r"\s*\+?(\d+(?:\.\d+)?)\s*%?\s*", text)
    size = re.fullmatch(r"\s*(\d+)\s*[x×]\s*(\d+)\s*", text.lower())
    if percent:
        grown = 1 + float(percent[1]) / 100
        width, height = (_rounded(grown * side, multiple) for side in (image.width_px, image.height_px))
    elif size:
        width, height = int(size[1]), int(size[2])
    else:
        raise BadInput(
            f"'{text}' is not an overscan: write auto, a percentage as 10%, or the render's size as 2112x1188."
        )
    if width < image.width_px or height < image.height_px:
        raise BadInput(
            f"A render of {width} x {height} px is smaller than the plate of {image.width_px} x {image.height_px} px: overscan needs at least the size of the plate."
            ""
        )
    bigger = Image(width, height, image.pixel_aspect)
    return Overscan(image, bigger, (image.width_px - width) / 2, (image.height_px - height) / 2)


def no_overscan(image: Image) -> Overscan:
    """The plate's own size."""
    return Overscan(image, image, 0.0, 0.0)


def empty_pixels(
    distortion: Distortion,
    plate: Window,
    image: Image,
    frame: int,
    render: Overscan | None = None,
    filter_px: float = 0.0,
) -> np.ndarray:
    """Which pixels of the plate (h, w) find nothing to fetch in a render (of the plate's own size) on a frame, or not all that a
    filter of so many pixels looks at. Only in cells of a grid beside the render's edge are pixels computed: the others cannot be in
    doubt."""
    render = render or no_overscan(image)
    window, alone = plate.select_frames(slice(frame, frame + 1)), distortion.select_frames(np.array([frame]))
    within = render.window(window)
    rays = PixelRays(alone, window, image)
    pixel = float(
        max((window.right - window.left)[0] / image.width_px, (window.top - window.bottom)[0] / image.height_px)
    )
    looks = max(float(r.max()) for r in _filtered(alone, rays.corners.reshape(1, -1, 2), window, image, filter_px))
    doubt = rays.bulge + pixel + _WIDER_THAN_AT_CORNERS * looks
    at = _insides(rays.corners, within)
    corners = np.stack([at[..., 1:, 1:], at[..., 1:, :-1], at[..., :-1, 1:], at[..., :-1, :-1]])
    least, most = corners.min(axis=(0, 1)), corners.max(axis=0).min(axis=0)
    doubtful = (least <= doubt) & (most >= -doubt)
    row_of, column_of = rays.cells()
    out = (least <= doubt)[row_of[:, None], column_of]
    for cell in np.flatnonzero(doubtful.any(axis=1)):
        rows, columns = np.flatnonzero(row_of == cell), np.flatnonzero(doubtful[cell, column_of])
        if len(rows) and len(columns):
            found = rays.of_pixels(rows, columns)
            looked = (a[0] for a in _filtered(alone, found[None], window, image, filter_px))
            empty = _insides(found, within, *looked).min(axis=0) < 0
            out[np.ix_(rows, columns)] = empty.reshape(len(rows), len(columns))
    return out


def _insides(tangents: Floats, within: Window, across: Floats | float = 0.0, up: Floats | float = 0.0) -> Floats:
    """How far tangents (..., 2), with so much across and up about them, lie inside of a window's left, right, lower and upper edge,
    (4, ...): below zero where they reach beyond one."""
    u, v = tangents[..., 0], tangents[..., 1]
    return np.stack([u - across - within.left, within.right - u - across, v - up - within.bottom, within.top - v - up])


def _different_frames(distortion: Distortion, plate: Window, count: int) -> Ints:
    """The frames, by their places, on which lens or distortion is another than on every earlier one."""
    columns = [
        *distortion.values.values(),
        *(side[:, None] for side in (plate.left, plate.right, plate.bottom, plate.top)),
    ]
    rows = np.concatenate([np.broadcast_to(column, (count, 1)) for column in columns], axis=1)
    return np.sort(np.unique(rows, axis=0, return_index=True)[1])


def _exact_reaches(distortion: Distortion, plate: Window, image: Image, frames: Ints, filter_px: float) -> Floats:
    """:func:`_reaches` along every pixel of the border: (n, 4)."""
    each = [_reaches(distortion, plate, image, np.array([f]), MAX_SIDE_PX, filter_px) for f in frames.tolist()]
    return np.concatenate(each) if each else np.empty((0, 4))


def _reaches(distortion: Distortion, plate: Window, image: Image, frames: Ints, most: int, filter_px: float) -> Floats:
    """How far the plate's pinhole picture, with what a filter looks at, reaches beyond it to the left, right, up and down, in
    plates: (n, 4)."""
    window = plate.select_frames(frames)
    border = window.tangents(border_pixels(image, most), image)
    of_frames = distortion.select_frames(frames)
    found = require_unfolded(of_frames, border, frames)
    u, v = found[..., 0], found[..., 1]
    wide, high = window.right - window.left, window.top - window.bottom
    bent = np.abs(found - border).max() > _UNBENT
    across, up = _filtered(of_frames, found, window, image, filter_px if bent else 0.0)
    sides = (
        (window.left - (u - across).min(axis=1)) / wide,
        ((u + across).max(axis=1) - window.right) / wide,
        ((v + up).max(axis=1) - window.top) / high,
        (window.bottom - (v - up).min(axis=1)) / high,
    )
    return np.broadcast_to(np.stack(np.broadcast_arrays(*sides), axis=1), (max(len(found), len(frames)), 4))


def _filtered(
    distortion: Distortion, found: Floats, window: Window, image: Image, filter_px: float
) -> tuple[Floats, Floats]:
    """How far a filter looks about pinhole tangents (n, m, 2), across and up (n, m): a filter of the plate's pixels, and never
    less than one of the render's, which are of the same size in the middle."""
    if filter_px == 0:
        return np.zeros(found.shape[:2]), np.zeros(found.shape[:2])
    wide, high = (window.right - window.left)[:, None], (window.top - window.bottom)[:, None]
    across_px, up_px = wide / image.width_px, high / image.height_px
    b = distortion.bend(found[..., 0], found[..., 1])
    with np.errstate(divide="ignore", invalid="ignore"):
        s, size = b.slopes, np.abs(b.determinant)
        across = (np.abs(s.vv) * across_px + np.abs(s.uv) * up_px) / size
        up = (np.abs(s.vu) * across_px + np.abs(s.uu) * up_px) / size
    return filter_px * np.maximum(across, across_px), filter_px * np.maximum(up, up_px)


def _along(before: float, behind: float, size: int, multiple: int, tight: bool) -> tuple[float, int]:
    """Where the render begins along one side of the plate, and its size there."""
    if not tight:
        whole = _rounded((1 + before + behind) * size, multiple)
        return (size - whole) / 2, whole
    first, last = floor(-before * size + 1e-9), ceil(size * (1 + behind) - 1e-9)
    return float(first), multiple * ceil((last - first) / multiple)


def _rounded(size: float, multiple: int) -> int:
    # A size that is whole but for the last digits of a double is that size.
    return multiple * ceil(size / multiple - 1e-9)
